# A message is a text, or a list of parts of which some are texts: often both stand in one list of messages, under one key.
"""Where prompts stand."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from .field_checks import WORDS, Field, Form, make_field
from .paths import Claims, Getter, as_text, claim_keys, claim_texts, is_words, make_getter, path_keys
from .rules import PromptRule


def _is_message(value: Any) -> bool:
    """Whether a value is the text of a message, or the texts of its parts; None stands for a part without a text."""
    return (
        type(value) is str or value is None or (type(value) is list and all(_is_text_or_none(item) for item in value))
    )


def _is_text_or_none(value: Any) -> bool:
    return type(value) is str or value is None


PROMPTS = Form(
    lambda value: _is_message(value) or (type(value) is list and all(map(_is_message, value))),
    "a text, a list of texts, or of lists of texts",
    frozenset({str}),
)


def _text_of_message(message: Any) -> str:
    """The text of a message; one of several parts is one text."""
    parts = message if type(message) is list else [message]
    return "\n".join([part for part in parts if type(part) is str and part])


class PromptPaths:
    """The paths of the prompts of a kind of step, each with the role of what stands there."""

    def __init__(self, rules: Sequence[PromptRule]) -> None:
        self._rules = rules
        keys = [path_keys(path) for rule in rules for path in _paths_of(rule)]
        # Where another path goes on into the parts of a message, this one means the messages that are texts.
        self._short = {one for one in keys for other in keys if other[: len(one)] == one != other}
        self._ways = [(rule, self._getter(rule), make_getter(rule.speaker)) for rule in rules]

    def _getter(self, rule: PromptRule) -> Getter:
        get = make_getter(rule.path)
        if not any(path_keys(path) in self._short for path in _paths_of(rule)):
            return get
        return lambda record: _texts_among(get(record))

    def claim(self, claims: Claims) -> None:
        """Notes what is understood: of a message whose parts another path names its text alone."""
        for rule in self._rules:
            for path in _paths_of(rule):
                keys = path_keys(path)
                (claim_texts if keys in self._short else claim_keys)(claims, keys)
            if rule.speaker:
                claim_keys(claims, path_keys(rule.speaker))

    def fields(self) -> list[Field]:
        """The fields of all paths, with what is expected there."""
        made = [make_field(rule.path, PROMPTS) for rule in self._rules]
        return [
            field if len(field.ways) != 1 else field._replace(ways=((field.ways[0][0], get),))
            for field, (_, get, _) in zip(made, self._ways, strict=True)
        ] + [make_field(rule.speaker, WORDS) for rule in self._rules if rule.speaker]

    def texts_of(self, record: dict[str, Any]) -> Iterator[tuple[str, str]]:
        """Role and text of every prompt of a record."""
        for rule, get, get_speaker in self._ways:
            found = get(record)
            messages = found if type(found) is list and not self._is_one_text(rule, found) else [found]
            for message, speaker in zip(messages, _speakers(get_speaker(record), len(messages)), strict=True):
                words = _text_of_message(message)
                if words:
                    yield speaker or rule.role, words

    @staticmethod
    def _is_one_text(rule: PromptRule, found: list[Any]) -> bool:
        """Whether a list holds the lines of one text: no path to it goes through its items."""
        return all(map(_is_text_or_none, found)) and not any("*" in path_keys(path) for path in _paths_of(rule))


def _speakers(value: Any, count: int) -> list[str]:
    """Who says each of so many messages; empty where nothing says it."""
    said = value if type(value) is list else [value]
    return [as_text(one) if is_words(one) else "" for one in said] if len(said) == count else [""] * count


def _paths_of(rule: PromptRule) -> list[str]:
    return [path for path in ([rule.path] if type(rule.path) is str else rule.path) if path]


def _texts_among(value: Any) -> Any:
    """The messages that are texts; nothing where there is none."""
    if type(value) is not list:
        return value if type(value) is str else None
    return [item if type(item) is str else None for item in value]

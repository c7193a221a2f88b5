# Flows hand work to each other by words: one writes status = approved, another waits for it. Nothing checks that both write the word
# alike, so near misses are told.
"""Words that one flow writes and another waits for."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from difflib import SequenceMatcher
from functools import lru_cache
from typing import Any, Literal

from msgspec import Struct

from zeitbuch.core.model.records import Flow, Step

Near = Literal["", "case", "plural", "spelling"]
MOST_LETTERS, MOST_WORDS = 30, 3
CLOSE = 0.8  # likeness of two spellings
_LITERAL = re.compile(r"""["']([^"']{2,30})["']""")
_NAME = re.compile(r"[^\W\d_]+")
_PLAIN = re.compile(r"[^\W_][\w -]*")
_TOO_COMMON = frozenset({"true", "false", "none", "null", "yes", "no"})


class ExchangedWord(Struct, frozen=True):
    """A word of a field: the flows that write it, those that wait for it. ``awaited`` is how these write it, ``near`` what differs."""

    field: str
    written: str
    awaited: str
    near: Near
    writers: tuple[str, ...]
    readers: tuple[str, ...]


def exchanged_words(flows: Iterable[Flow]) -> list[ExchangedWord]:
    """Words that different flows write and wait for, near misses first."""
    written: dict[tuple[str, str], dict[str, None]] = {}
    awaited: dict[tuple[str, str], dict[str, None]] = {}
    for flow in flows:
        for spots, found in ((_written_words(flow), written), (_awaited_words(flow), awaited)):
            for field, word in spots:
                found.setdefault((field, word), {})[flow.title] = None
    by_field: dict[str, list[tuple[str, dict[str, None], frozenset[str]]]] = {}
    for (field, word), names in written.items():
        by_field.setdefault(field, []).append((word, names, frozenset(names)))
    made = []
    for (field, word), readers in awaited.items():
        mine = frozenset(readers)
        fit = [(other, names) for other, names, theirs in by_field.get(field, ()) if theirs != mine]
        exact = [names for other, names in fit if other == word]
        if exact:
            made.append(ExchangedWord(field, word, word, "", tuple(exact[0]), tuple(readers)))
            continue
        made += [
            ExchangedWord(field, other, word, near, tuple(names), tuple(readers))
            for other, names in fit
            if (near := _near(other, word)) and (field, other) not in awaited
        ]
    return sorted(made, key=lambda one: (one.near == "", one.field, one.written))


def _near(written: str, awaited: str) -> Near:
    one, other = written.casefold(), awaited.casefold()
    if one == other:
        return "case"
    short, long = sorted((one, other), key=len)
    if long in (f"{short}s", f"{short}es") or (short.endswith("y") and long == f"{short[:-1]}ies"):
        return "plural"
    return "spelling" if SequenceMatcher(None, one, other).ratio() >= CLOSE else ""


@lru_cache(maxsize=20_000)  # an estate has few names, each many times
def _field_of(name: str) -> str:
    """The last word of a field's name: 'row.Status' and 'status' are one field."""
    parts = _NAME.findall(name)
    return parts[-1].casefold() if parts else ""


@lru_cache(maxsize=20_000)
def _is_word(text: str) -> bool:
    return (
        2 <= len(text) <= MOST_LETTERS
        and len(text.split()) <= MOST_WORDS
        and _PLAIN.fullmatch(text) is not None
        and not text.isdigit()
        and text.casefold() not in _TOO_COMMON
    )


def _values_of(step: Step) -> list[tuple[str, str]]:
    """The fixed words that a step is given, with their fields."""
    found: list[tuple[str, str]] = []
    for one in step.inputs:
        value = one.value
        if type(value) is str:
            rows: Iterable[tuple[str, Any]] = ((one.name, value),) if len(value) <= MOST_LETTERS else ()
        else:
            rows = value.items() if isinstance(value, dict) else ()
        if rows and one.decided == "fixed":
            found += [
                (field, word)
                for name, word in rows
                if type(word) is str
                and len(word) <= MOST_LETTERS
                and _is_word(word)
                and (field := _field_of(str(name)))
            ]
    return found


def _written_words(flow: Flow) -> Iterator[tuple[str, str]]:
    for step in flow.steps:
        if step.enabled and step.effect in ("write", "send"):
            yield from _values_of(step)


def _awaited_words(flow: Flow) -> Iterator[tuple[str, str]]:
    """Words that conditions compare with, by every name that stands before them, and words that reading steps look for."""
    conditions = [step.condition for step in flow.steps] + [link.condition for link in flow.links]
    for condition in filter(None, [*conditions, *[trigger.condition for trigger in flow.triggers]]):
        for found in _LITERAL.finditer(condition):
            names = _NAME.findall(_LITERAL.sub(" ", condition[: found.start()]))
            if names and _is_word(found.group(1)):
                yield names[-1].casefold(), found.group(1)
    for step in flow.steps:
        if step.enabled and step.effect == "read":
            yield from _values_of(step)
    for trigger in flow.triggers:
        for one in trigger.inputs:
            if isinstance(one.value, str) and _is_word(one.value) and _field_of(one.name):
                yield _field_of(one.name), one.value


def exchanged_line(one: ExchangedWord) -> str:
    """'status: ‘approved’, written by ‘A’, awaited by ‘B’ as ‘Approved’ (case)'."""
    writers, readers = (", ".join(f"‘{name}’" for name in names) for names in (one.writers, one.readers))
    other = f" as ‘{one.awaited}’ ({one.near})" if one.near else ""
    return f"{one.field}: ‘{one.written}’ is written by {writers} and awaited by {readers}{other}"

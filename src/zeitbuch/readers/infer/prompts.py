"""The order and the roles of prompts."""

from __future__ import annotations

from typing import Any

from zeitbuch.readers.dialects.rules import PromptRule

from . import fields
from .survey import STAR, Path, dotted_path

_SYSTEM = frozenset(
    "system instructions instruction persona role rules anweisung consigne instrucciones istruzioni".split()
)


_SPEAKER = frozenset("role speaker who author sender rolle sprecher papel rol ruolo rolle role roll".split())
_SPEAKERS = frozenset("system user assistant developer human model tool ai bot".split())
_MOST_SPEAKERS, _LONG = 5, 20


def prompt_rules(prompts: list[Path], columns: dict[Path, fields.Column]) -> list[PromptRule]:
    """The rules for the texts of the steps that use a model, the standing instructions first."""
    return [
        PromptRule(
            dotted_path(_without_lines(path)), prompt_role(path, place, columns), dotted_path(speaker_of(path, columns))
        )
        for place, path in enumerate(order_prompts(prompts, columns))
    ]


def _without_lines(path: Path) -> Path:
    """Where a text is that stands line by line in a list."""
    return path[:-1] if path[-1] == STAR and STAR not in path[:-1] else path


def order_prompts(prompts: list[Path], columns: dict[Path, fields.Column]) -> list[Path]:
    """Texts without placeholders first: they are the standing instructions."""
    return sorted(prompts, key=lambda p: (not fields.key_in(p, _SYSTEM), _filled_share(p, columns), prompts.index(p)))


def _filled_share(path: Path, columns: dict[Path, fields.Column]) -> float:
    texts = [value for value in columns[path].values if type(value) is str]
    return round(sum(any(name in text for name in ("{", "<", "[", "$", "%")) for text in texts) / max(1, len(texts)), 1)


def prompt_role(path: Path, place: int, columns: dict[Path, fields.Column]) -> str:
    """system or user: by its key, else the first text without placeholders is the standing instruction."""
    if fields.key_in(path, _SYSTEM):
        return "system"
    return "system" if place == 0 and _filled_share(path, columns) < 0.2 else "user"


def speaker_of(path: Path, columns: dict[Path, fields.Column]) -> Path:
    """Where messages say who speaks: a field beside their texts with few words in it, called so or holding words for it."""
    if STAR not in path:
        return ()
    message = path[: path.index(STAR) + 1]
    beside = {other: column for other, column in columns.items() if other[:-1] == message and other != path}
    told = [other for other, column in beside.items() if _names_speakers(other, column.values)]
    return min(told, key=lambda other: (not fields.key_in(other, _SPEAKER), other), default=())


def _names_speakers(path: Path, values: list[Any]) -> bool:
    words = {value.lower() for value in values if type(value) is str}
    if len(words) < len(set(map(str, values))) or not words or len(words) > _MOST_SPEAKERS:
        return False
    worded = fields.key_in(path, _SPEAKER) and all(word.isalpha() and len(word) < _LONG for word in words)
    return worded or words <= _SPEAKERS

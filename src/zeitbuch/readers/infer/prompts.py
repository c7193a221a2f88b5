"""The order and the roles of prompts."""

from __future__ import annotations

from . import fields
from .survey import Path

_SYSTEM = frozenset(
    "system instructions instruction persona role rules anweisung consigne instrucciones istruzioni".split()
)


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

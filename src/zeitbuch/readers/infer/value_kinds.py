# What a step may do by its settings alone: an address is called, a mail address is written to, code runs. Where a question is asked
# these are its likely answers; where the settings can hardly mean anything else they are claimed.
"""Likely kinds of steps by the values of their settings."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from zeitbuch.readers.dialects.paths import as_text
from zeitbuch.readers.dialects.statements import is_statement

from .fields import Column, key_in, reads_like_prose
from .kinds import like_a_model
from .parts import operator_like, placeholder_like
from .survey import STAR, Path, dotted_path, is_scalar

_ADDRESS = re.compile(r"^(?:https?|ftp|wss?)://\S+$")
_MAIL = re.compile(r"^[^\s@]+@[^\s@]+\.[^\s@]+$")
_CODE = re.compile(r"(?m)^\s*(?:return\b|def |function |import |const |let |var )|[;{]\s*$|=>")
_METHODS = frozenset("GET POST PUT PATCH DELETE HEAD".split())
_TURNS = frozenset(
    "turn turns iterations runden tours vueltas iteraciones maxturns".split()
)  # "steps" are those of a picture, too
TOOL_WORDS = frozenset(
    "tools tool skills functions werkzeuge outils herramientas verktoy strumenti gereedschap ferramentas".split()
)
_MOST_SHOWN = 3


def kinds_by_values(columns: dict[Path, Column]) -> list[str]:
    """Kinds that the values of an operation's steps suggest, the likeliest first."""
    texts = [value for column in columns.values() for value in column.values if type(value) is str]
    scores: dict[str, float] = {}
    for kind, weight, fits in _TEXT_VOTES:
        if any(map(fits, texts)):
            scores[kind] = scores.get(kind, 0.0) + weight
    if any(map(like_a_model, texts)):
        scores["model" if any(map(reads_like_prose, texts)) else "embed"] = 2.5
    single = _kind_of_single(columns) if len(columns) == 1 else "" if columns else "end"
    if single:
        scores[single] = scores.get(single, 0.0) + 1.5
    return [kind for kind, _ in sorted(scores.items(), key=lambda entry: (-entry[1], entry[0]))]


# What a text among the settings speaks for, and how much.
_TEXT_VOTES: tuple[tuple[str, float, Callable[[str], Any]], ...] = (
    ("http", 2.0, _ADDRESS.match),
    ("http", 1.0, _METHODS.__contains__),
    ("send", 2.0, _MAIL.match),
    ("approve", 1.0, _MAIL.match),
    ("read", 2.5, is_statement),
    ("code", 2.0, lambda text: "\n" in text and _CODE.search(text)),
    ("write", 0.5, placeholder_like),
    ("shape", 0.4, placeholder_like),
    ("send", 0.5, reads_like_prose),
)


def kind_told(columns: dict[Path, Column], flows: frozenset[str] = frozenset()) -> tuple[str, str]:
    """The kind that settings of all steps of an operation can hardly fail to mean, and what tells it; both empty where none does.
    ``flows`` are names of flows of the same files."""
    whole = {path: column for path, column in columns.items() if column.values}
    steps = max((column.steps for column in whole.values()), default=0)
    texts = [
        column.values
        for column in whole.values()
        if column.steps == steps and all(type(v) is str for v in column.values)
    ]
    held = [name for name, fits in _TELLING if any(all(map(fits, values)) for values in texts)]
    if any(len(set(values)) > 1 and flows.issuperset(values) for values in texts):
        return "subflow", "names a flow"
    return next(((kind, said) for kind, said, needs in _TOLD if set(needs) <= set(held)), ("", ""))


def works_in_turns(columns: dict[Path, Column]) -> bool:
    """Whether every step says how many turns it takes at most, or lists the tools that it has."""
    steps = max((column.steps for column in columns.values()), default=0)
    return any(
        column.steps == steps
        and (
            (key_in(path, _TURNS) and all(type(value) is int for value in column.values))
            or (path[-1] == STAR and key_in(path, TOOL_WORDS) and all(type(value) is str for value in column.values))
        )
        for path, column in columns.items()
    )


def holds_mail(columns: dict[Path, Column]) -> bool:
    """Whether every step has a setting that is the address of somebody."""
    return _all_hold(columns, _MAIL)


def holds_address(columns: dict[Path, Column]) -> bool:
    """Whether every step has a setting that is an address of the web."""
    return _all_hold(columns, _ADDRESS)


def _all_hold(columns: dict[Path, Column], pattern: re.Pattern[str]) -> bool:
    steps = max((column.steps for column in columns.values()), default=0)
    return any(
        column.steps == steps and all(type(value) is str and pattern.match(value) for value in column.values)
        for column in columns.values()
    )


_TELLING: tuple[tuple[str, Callable[[str], Any]], ...] = (
    ("address", _ADDRESS.match),
    ("method", _METHODS.__contains__),
    ("code", lambda text: "\n" in text and _CODE.search(text)),
)
# Kind, name of the evidence, what must be there; the first that is counts. A mail address beside a text may be an approval: it is asked.
_TOLD = (
    ("http", "address and method", ("address", "method")),
    ("code", "code", ("code",)),
)


def _kind_of_single(columns: dict[Path, Column]) -> str:
    """The kind that the only setting speaks for; empty when it speaks for none."""
    (column,) = columns.values()
    if all(type(value) in (int, float) for value in column.values):
        return "wait"
    if not all(type(value) is str for value in column.values):
        return ""
    return (
        "loop"
        if all(map(placeholder_like, column.values))
        else "decide"
        if all(map(operator_like, column.values))
        else ""
    )


def shown_values(columns: dict[Path, Column]) -> str:
    """A few settings with a value each, for people."""
    shown: list[str] = []
    for path, column in columns.items():
        value = next((value for value in column.values if is_scalar(value) or type(value) in (bool, float)), None)
        if value is not None and len(shown) < _MOST_SHOWN:
            text = " ".join(as_text(value).split())
            shown.append(f"{dotted_path(path)} = {text[:57] + '…' if len(text) > 58 else text}")
    return "; ".join(shown)

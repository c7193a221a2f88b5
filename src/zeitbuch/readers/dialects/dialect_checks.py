# What the types of a dialect file cannot say: whether queries and paths are any, whether rules contradict themselves, and whether a
# rule can ever be used. What is wrong is refused with file, line and key, so that nobody wonders later why a rule does nothing.
"""Checks of dialect files."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from fnmatch import translate
from functools import cache
from typing import Any

from msgspec import NODEFAULT, Struct, structs

from zeitbuch.core.model.problems import ZeitbuchError, fail
from zeitbuch.core.model.records import Origin
from zeitbuch.readers.input.toml_lines import line_of

from .paths import ITEM, path_keys
from .query import Query
from .rules import KEY, PLACE, Dialect, KindRule, PlaceholderRule, TriggerRule
from .text_patterns import TextPattern

_OWN_PATHS = ("", ITEM, KEY, PLACE)


def check_dialect(dialect: Dialect, text: str, name: str) -> None:
    """Raises ZeitbuchError with file, line and key when something in a dialect is wrong."""
    found: list[tuple[str, str, str]] = []
    _gather_texts(dialect, "", found)
    for pointer, annotation, value in found:
        check = _CHECKS.get(annotation)
        if check is None:
            continue
        try:
            check(value)
        except ZeitbuchError as error:
            problem = error.problem
            key = pointer.lstrip("/").replace("/", ".")
            raise ZeitbuchError(
                structs.replace(problem, message=f"`{key}`: {problem.message}", origin=_place(text, name, pointer))
            ) from None
    faults = (
        *_faults_of_rules(dialect.kind),
        *_faults_of_placeholders(dialect.placeholders),
        *_faults_of_shapes(dialect),
        *_faults_of_triggers(dialect.trigger),
    )
    for pointer, message, hint in faults:
        raise fail("dialect-key", message, hint, _place(text, name, pointer))


def _place(text: str, name: str, pointer: str) -> Origin:
    return Origin(name, line=line_of(text, pointer))


def _gather_texts(table: Struct, pointer: str, found: list[tuple[str, str, str]]) -> None:
    """Adds (pointer, what it must be, text) of the texts in a table and those below it. What is left empty is not looked at: this
    runs whenever a dialect is loaded."""
    for name, key, annotation, needed in _fields_of(type(table)):
        value = getattr(table, name)
        if not value and not needed:
            continue
        kind = type(value)
        if kind is str:
            found.append((f"{pointer}/{key}", annotation, value))
        elif kind is list:
            for place, item in enumerate(value):
                if type(item) is str:
                    found.append((f"{pointer}/{key}", annotation, item))
                elif isinstance(item, Struct):
                    _gather_texts(item, f"{pointer}/{key}/{place}", found)
        elif isinstance(value, Struct):
            _gather_texts(value, f"{pointer}/{key}", found)


@cache
def _fields_of(kind: Any) -> list[tuple[str, str, str, bool]]:
    """(name, key in the file, what a text there must be, whether it must be given) of the fields of a table."""
    annotations = annotations_of(kind)
    defaults = kind.__struct_defaults__
    needed = [True] * (len(kind.__struct_fields__) - len(defaults)) + [one is NODEFAULT for one in defaults]
    return [
        (name, key, annotations[name].removesuffix(" | None").removeprefix("list[").removesuffix("]"), must)
        for name, key, must in zip(kind.__struct_fields__, kind.__struct_encode_fields__, needed, strict=True)
    ]


@cache
def annotations_of(kind: Any) -> dict[str, str]:
    """What the fields of a table are called to be, as written."""
    found: dict[str, str] = {}
    for base in reversed(kind.__mro__):
        found |= {name: str(said) for name, said in getattr(base, "__annotations__", {}).items()}
    return found


def _check_path(text: str) -> None:
    if text not in _OWN_PATHS:
        path_keys(text)


_CHECKS: dict[str, Callable[[str], Any]] = {
    "QueryText": Query, "Paths": _check_path, "DottedPath": _check_path, "PatternText": TextPattern, "PatternTexts": TextPattern,
}  # fmt: skip


def _faults_of_rules(rules: list[KindRule]) -> Iterator[tuple[str, str, str]]:
    earlier: list[tuple[re.Pattern[str], KindRule]] = []  # those with sets of letters are not judged
    for place, rule in enumerate(rules):
        pointer = f"/kind/{place}"
        if rule.kind is not None and rule.trigger is not None:
            message = f"expected a rule for '{rule.operation}' with a kind or a trigger, found both: {rule.kind} and {rule.trigger}"
            yield f"{pointer}/trigger", message, "what starts a flow is no step: leave one of them out"
        wide = next((other for pattern, other in earlier if _covers(pattern, rule.operation)), None)
        if wide is not None:
            message = f"expected a rule that can be used, found '{rule.operation}' behind '{wide.operation}', which takes all of it"
            yield f"{pointer}/operation", message, "the first rule that fits wins: put the narrower one first"
        if "[" not in rule.operation and not rule.has:
            earlier.append((re.compile(translate(rule.operation)), rule))


def _covers(pattern: re.Pattern[str], narrow: str) -> bool:
    """Whether a pattern takes all that another takes: it takes the shortest and a longer text of it."""
    return "[" not in narrow and all(
        pattern.match(narrow.replace("*", filling).replace("?", "\x01")) for filling in ("", "\x01\x01")
    )


def _faults_of_shapes(dialect: Dialect) -> Iterator[tuple[str, str, str]]:
    if dialect.flow.connections is not None and dialect.flow.connections.shared:
        message = "expected `flow.connections` without `shared`, found it: connections stand in their flow"
        yield "/flow/connections/shared", message, "only `variables` may stand in the document, for all its flows"
    yield from _faults_of_files(dialect)
    for place, group in enumerate(dialect.group):
        if group.by and path_keys(group.by)[-1] == group.rows:
            message = f"expected `group[{place}].rows` to name another key than `by`, found '{group.rows}' for both"
            yield f"/group/{place}/rows", message, "the value and the rows stand in one record: choose another name"


def _faults_of_files(dialect: Dialect) -> Iterator[tuple[str, str, str]]:
    for place, beside in enumerate(dialect.beside):
        for key in ("file", "main"):
            name = getattr(beside, key)
            if "/" in name or "\\" in name or name in ("", ".", ".."):
                message = f"expected at `beside[{place}].{key}` the name of a file in the same folder, found '{name}'"
                yield f"/beside/{place}/{key}", message, "a file elsewhere is not read: leave the folders out"


def _faults_of_triggers(rule: TriggerRule | None) -> Iterator[tuple[str, str, str]]:
    if rule is not None and rule.at == "$" and rule.settings == ITEM:
        message = "expected `trigger.settings` to name what the trigger takes in, found all of the flow"
        yield "/trigger/settings", message, 'where the flow is its own trigger (`at = "$"`), leave it out'


def _faults_of_placeholders(rule: PlaceholderRule | None) -> Iterator[tuple[str, str, str]]:
    for key in ("open", "close", "separator") if rule is not None else ():
        if not getattr(rule, key):
            message = f"expected at `placeholders.{key}` the letters that {_MARKS[key]}, found an empty text"
            yield f"/placeholders/{key}", message, "leave the table out where the builder has no placeholders"


_MARKS = {
    "open": "begin a placeholder",
    "close": "end a placeholder",
    "separator": "divide the name of a step from what is taken of it",
}

# A bare number says nothing of seconds or minutes: what it means is asked, and until then the dialect claims nothing of it.
"""Questions about the units of waits, time limits and pauses."""

from __future__ import annotations

from collections import Counter
from functools import partial
from typing import Any, NamedTuple

from msgspec import structs

from zeitbuch.readers.dialects.paths import as_text
from zeitbuch.readers.dialects.rules import Dialect
from zeitbuch.readers.input.clock_words import CRON_DAYS

from .evidence import Evidence, literal_pattern, pattern_of
from .starts import operation_of
from .survey import STAR, Path, dotted_path, values_at

_TIMES = ("seconds", "minutes", "milliseconds")
_INTERVALS = ("minutes", "hours", "seconds")
_MOST_SHOWN = 6
_WORDS = {"timeout": "the time limit", "retry_wait": "the pause between two tries"}


class UnitQuestion(NamedTuple):
    """A number of which only its owner knows the unit: the id and text of the question, examples, and what each unit changes."""

    id: str
    text: str
    example: str
    answers: tuple[tuple[str, str, Any], ...]
    weight: float


def unit_questions(e: Evidence) -> list[UnitQuestion]:
    """The questions about units of a proposal."""
    found = []
    for field, path in e.unclear_times.items():
        text = f"In what unit is {_WORDS[field]} '{dotted_path(path)}' of steps?"
        found.append(_question(f"unit of {field}", text, path, _values(e, path), partial(_of_steps, field, path)))
    for name, path in e.unclear_waits.items():
        change = partial(_of_kind, "wait", name, path)
        found.append(
            _question(f"unit of wait {name}", f"In what unit does '{name}' wait?", path, _values(e, path, name), change)
        )
    for name, path in e.unclear_intervals.items():
        text = f"In what unit is the interval of '{name}'?"
        found.append(
            _question(
                f"unit {name}",
                text,
                path,
                _values(e, path, name),
                partial(_of_kind, "every", name, path),
                _INTERVALS,
                3.0,
            )
        )
    return found + [_about_weekdays(e, name, paths) for name, paths in e.unclear_days.items()]


# What builders count weekdays from: the word of the answer, what it says, and the weekday that 0 is.
_COUNTED = (("monday 1", "1 is Monday", 0), ("monday 0", "0 is Monday", 1), ("sunday 1", "1 is Sunday", 6))


def _about_weekdays(e: Evidence, name: str, paths: dict[str, Path]) -> UnitQuestion:
    """Which day of the week a number means: builders count from Monday or Sunday, from 0 or 1."""
    days = paths["days"]
    values = _values(e, days, name) + _values(e, (*days, STAR), name)
    seen = [int(value) for value in sorted(values) if value.isdecimal()]
    shown = f"{dotted_path(days)} = {', '.join(map(str, seen))}"
    possible = [
        (word, said, first)
        for word, said, first in _COUNTED
        if not (word == "monday 0" and 7 in seen) and not (word == "sunday 1" and 0 in seen)
    ]
    answers = tuple(
        (word, f"{said}", partial(_with_weekdays, name, paths, seen, first)) for word, said, first in possible
    )
    text = f"Which day of the week does a number at '{dotted_path(days)}' of '{name}' mean?"
    return UnitQuestion(f"weekdays {name}", text, shown, answers, 3.0 + values.total() / 4)


def _with_weekdays(operation: str, paths: dict[str, Path], seen: list[int], first: int, dialect: Dialect) -> Dialect:
    """The clock of a trigger with numbers for weekdays, of which 0 is ``first`` (0 is Sunday)."""
    weekdays = {str(number): CRON_DAYS[(number + first) % 7] for number in seen}
    given: dict[str, Any] = {field: dotted_path(path) for field, path in paths.items()} | {"weekdays": weekdays}
    return _with_fields(operation, given, dialect)


def _values(e: Evidence, path: Path, operation: str = "") -> Counter[str]:
    """The values of a field, of steps and triggers of one operation or of all."""
    steps = [sight.raw for sample in e.found.samples for sight in sample.steps]
    records = [raw for raw in steps if not operation or e.step_operation(raw) == operation]
    if e.starts is not None and operation:
        records += [row for _, row in e.starts.records if operation_of(e.starts, row) == operation]
    return Counter(as_text(value) for raw in records for value in values_at(raw, path))


def _question(
    name: str,
    text: str,
    path: Path,
    values: Counter[str],
    change: Any,
    units: tuple[str, ...] = _TIMES,
    weight: float = 1.0,
) -> UnitQuestion:
    shown = f"{dotted_path(path)} = {', '.join(value for value, _ in values.most_common(_MOST_SHOWN))}"
    counted = [(unit, f"'{dotted_path(path)}' counts {unit}", partial(change, unit)) for unit in units]
    answers = (*counted, ("none", "it is no time", _same))
    return UnitQuestion(name, text, shown, answers, weight + values.total() / 4)


def _same(dialect: Dialect) -> Dialect:
    return dialect


def _of_steps(field: str, path: Path, unit: str, dialect: Dialect) -> Dialect:
    given: dict[str, Any] = {field: dotted_path(path), f"{field}_unit": unit}
    return structs.replace(dialect, step=structs.replace(dialect.step, **given))


def _of_kind(field: str, operation: str, path: Path, unit: str, dialect: Dialect) -> Dialect:
    return _with_fields(operation, {field: dotted_path(path), f"{field}_unit": unit}, dialect)


def _with_fields(operation: str, given: dict[str, Any], dialect: Dialect) -> Dialect:
    pattern = literal_pattern(operation)
    kinds = [structs.replace(rule, **given) if pattern_of(rule) == pattern else rule for rule in dialect.kind]
    return structs.replace(dialect, kind=kinds)

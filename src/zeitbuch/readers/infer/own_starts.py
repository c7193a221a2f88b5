# A flow may say of itself when it starts, in a field beside its name: a cron text, the word for what sets it off, or a list of them.
"""Finding flows that are their own triggers."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any, NamedTuple

from zeitbuch.readers.dialects.paths import ITEM, as_text
from zeitbuch.readers.input.clock_texts import duration_of
from zeitbuch.readers.input.clock_words import schedule_of_words

from .clocks import CRON, ZONE, find_clock, is_word_for_intervals
from .fields import find_columns
from .identity import Identity
from .operations import is_tokenlike
from .starts import Starts, is_trigger_word
from .steps import Found
from .survey import STAR, Path, find_leaves, is_scalar
from .vocabulary import guess_kinds, words_of

_FEWEST = 2  # flows that say it
_LEAST_SHARE = 0.5  # of the flows, where only words say it
_MOST = 0.6  # of the values of a field must be words for triggers
_OF_DAYS = frozenset({"time", "hour", "minute", "days", "month_days", "zone"})
_Column = list[tuple[int, Any]]  # what stands at a place of each flow, with the number of the flow; of lists, each item


class _Said(NamedTuple):
    """The fields of flows that say something of their starts."""

    clocks: dict[Path, _Column]
    words: dict[Path, _Column]
    zones: dict[Path, _Column]


def find_own_starts(found: Found, identity: Identity, have: int) -> Starts | None:
    """The triggers that flows are themselves, or None. ``have`` flows have a trigger among their steps."""
    flows = len(found.samples)
    if have >= _LEAST_SHARE * flows:
        return None
    said = _what_is_said(found, identity)
    words = {path: column for path, column in said.words.items() if _share_of(column, flows) >= _LEAST_SHARE}
    told = {
        path: column for path, column in (*said.clocks.items(), *words.items()) if len(column) >= min(_FEWEST, flows)
    }
    if not told:
        return _by_time_of_day(found)
    first = max(told, key=lambda path: (_share_of(told[path], flows), path in said.clocks))
    score = 3.5 + 1.5 * _share_of(told[first], flows)
    if STAR in first:
        records: list[tuple[int, dict[str, Any]]] = [(number, {ITEM: value}) for number, value in told[first]]
        return Starts(first, False, (ITEM,) if first in words else (), (), (), (), records, score)
    single = {path: column for path, column in (told | said.zones).items() if STAR not in path}
    operation = next((path for path in words if path in single), ())
    return Starts((), False, operation, (), (), (), _records_of(single, set(told)), score)


def _by_time_of_day(found: Found) -> Starts | None:
    """Flows that say a time of the day and the days, or the zone, that it is for."""
    fields = [list(_fields_beside(sample.raw, found.steps_at)) for sample in found.samples]
    clock = find_clock(find_columns(fields)[0])
    paths = {path for name, path in clock.items() if name in _OF_DAYS and type(path) is tuple}
    timed = clock.get("time", clock.get("hour"))
    if timed is None or not clock.keys() & {"days", "month_days", "zone"}:
        return None
    if not clock.keys() & {"days", "month_days"} and not _says_start(timed[-1]):
        return None  # many a flow has a zone, and a time at which something else is so
    columns = {path: column for path, column in _columns_of(fields).items() if {path, _without_items(path)} & paths}
    records = _records_of(columns, {timed})
    return Starts((), False, (), (), (), (), records, 3.5 + 1.5 * len(records) / max(1, len(fields)))


def _says_start(key: str) -> bool:
    return is_trigger_word(key) or words_of(key) in (("time",), ("at",), ("hour",))


def _columns_of(fields: Iterable[Iterable[tuple[Path, Any]]]) -> dict[Path, _Column]:
    columns: dict[Path, _Column] = {}
    for number, said in enumerate(fields):
        for path, value in said:
            columns.setdefault(path, []).append((number, value))
    return columns


def is_plain(starts: Starts) -> bool:
    """Whether triggers are fields of flows, and no records of their own."""
    return not starts.at or any(ITEM in record for _, record in starts.records)


def own_fields(starts: Starts) -> list[Path]:
    """Where in a flow that is its own trigger the fields of that are."""
    return sorted({path for _, record in starts.records for path, _ in find_leaves(record)})


def _without_items(path: Path) -> Path:
    return path[:-1] if path[-1] == STAR else path


def _share_of(column: _Column, flows: int) -> float:
    return len({number for number, _ in column}) / max(1, flows)


def _records_of(columns: dict[Path, _Column], telling: set[Path]) -> list[tuple[int, dict[str, Any]]]:
    """The fields of each flow that has one of those that tell when it starts."""
    records: dict[int, dict[str, Any]] = {}
    for path, column in columns.items():
        for number, value in column:
            record = records.setdefault(number, {})
            *outer, last = _without_items(path)
            for key in outer:
                record = record.setdefault(key, {})
            record[last] = [*record.get(last, []), value] if path[-1] == STAR else value
    starting = {number for path in telling & columns.keys() for number, _ in columns[path]}
    return [(number, records[number]) for number in sorted(starting)]


def _what_is_said(found: Found, identity: Identity) -> _Said:
    columns = _columns_of(_fields_beside(sample.raw, found.steps_at) for sample in found.samples)
    names = set().union(*identity.ids, *identity.names)
    said = _Said({}, {}, {})
    for path, column in columns.items():
        texts = [as_text(value) for _, value in column]
        if not names.issuperset(texts):  # those are the first steps of flows
            _judge_column(path, column, texts, said)
    return said


def _judge_column(path: Path, column: _Column, texts: list[str], said: _Said) -> None:
    key = next(part for part in reversed(path) if part != STAR)
    if all(_is_clock(text, key) for text in texts):
        said.clocks[path] = column
    elif all(map(ZONE.match, texts)):
        said.zones[path] = column
    elif is_trigger_word(key) and sum(map(_is_word, texts)) >= _MOST * len(texts):
        said.words[path] = column


def _fields_beside(record: Any, steps_at: Path, path: Path = ()) -> Iterator[tuple[Path, Any]]:
    """The plain fields of a flow, and of what holds its steps; of lists each item."""
    for key, value in record.items() if type(record) is dict and steps_at else ():
        here = (*path, key)
        if key == steps_at[0]:
            yield from _fields_beside(value, steps_at[1:], here)
        elif type(value) is list and all(map(is_scalar, value)):
            yield from (((*here, STAR), one) for one in value)
        elif _says_something(value):
            yield here, value


def _says_something(value: Any) -> bool:
    return is_scalar(value) and value not in ("", None) and type(value) is not bool


def _is_clock(text: str, key: str) -> bool:
    """Whether a text says when: a cron text, or under a key for it one in words or a length of time."""
    worded = (is_trigger_word(key) or is_word_for_intervals(key)) and any(map(str.isalpha, text))
    return bool(CRON.match(text.strip())) or (worded and bool(schedule_of_words(text) or duration_of(text)))


def _is_word(text: str) -> bool:
    return is_tokenlike(text) and any(guess.trigger is not None for guess in guess_kinds(text)[:1])

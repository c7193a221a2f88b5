# A usage log opened: what it sums up to, and every line and value of it that could not be used, with its place.
"""Reading usage logs."""

from __future__ import annotations

import csv
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from glob import glob
from itertools import islice
from pathlib import Path
from statistics import median
from typing import Any

from msgspec import Struct

from zeitbuch.core.actuals.columns import BY_NAME, USAGE_COLUMNS
from zeitbuch.core.actuals.grouping import (
    UsageSum,
    days_with_doubled,
    flows_with_ids_anew,
    flows_with_long_runs,
    hours_of_usage,
    runs_by_day_of_usage,
    runs_of_usage,
    sum_key,
    sums_of_usage,
    usage_sum,
    with_doubled,
)
from zeitbuch.core.actuals.part_days import PartDay, arrivals_of_usage, clocks_of_usage, part_days
from zeitbuch.core.actuals.step_times import (
    StepPlace,
    StepTimes,
    TimedDays,
    step_times,
    table_of_places,
    times_of_usage,
)
from zeitbuch.core.actuals.usage_mapping import UsageMapping
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Origin

from .log_tables import table_form, text_of
from .standard_logs import settled_mapping
from .usage_engines import PlaceEngine, UsageEngine, engine_of, unreachable
from .usage_records import missing_columns, records_of, refused_mark

_FAR_MORE = 1.5
_LINES_AT_ONCE = 25_000_000  # of runs: the engine holds each run until it has seen all lines
_MOST_PARTS = 64
_SHOWN = 3  # of the values of a column that could not be used
_SORTS = {
    "time": "a clock time",
    "day": "a day",
    "count": "a number of 0 or more",
    "money": "an amount",
    "seconds": "seconds, 0 or more",
}


# Names of a log -> the steps whose durations are asked for, and on which days.
Timing = Callable[[Sequence[UsageSum], UsageMapping], tuple[Sequence[StepPlace], TimedDays]]


class UsageSums(Struct):
    """What a log sums up to: ``sums`` by day and names, ``runs`` by (day, environment, flow), ``hours`` are lines by (flow, hour of
    the day); ``refused`` counts the values that
    could not be used, by column, ``rejected`` the lines; ``columns`` are those that the log has, ``mapping`` is that by which it was read, with what its form says of itself;
    ``times`` are the durations of steps, where they were asked for; ``part_days`` are days that the log has a part of."""

    sums: list[UsageSum]
    runs: dict[tuple[str, str, str], int]
    columns: tuple[str, ...]
    files: tuple[str, ...]
    refused: dict[str, int] = {}
    rejected: int = 0
    problems: list[Problem] = []
    zone: str = "UTC"
    mapping: UsageMapping = UsageMapping()
    hours: dict[tuple[str, int], int] = {}
    times: list[StepTimes] = []
    part_days: list[PartDay] = []

    @property
    def lines(self) -> int:
        """The lines that were read, those passed over too."""
        return sum(one.lines for one in self.sums)


def log_files(paths: Sequence[str], mapping: UsageMapping, folder: str) -> list[str]:
    """The files that are meant: those named, else those of the mapping, seen from its folder; none where an engine has them."""
    if paths or mapping.engine:
        return list(paths)
    found: list[str] = []
    for pattern in mapping.files:
        fitting = sorted(glob(str(Path(folder) / pattern), recursive=True))  # noqa: PTH207 - a pattern may begin at the root
        found += fitting or [str(Path(folder) / pattern)]
    return found


def read_usage(paths: Sequence[str], mapping: UsageMapping, timing: Timing | None = None) -> UsageSums:
    """The sums of all lines of some logs, and with ``timing`` the durations of steps. What cannot be read or used is told in ``problems``; the
    rest is summed up. Raises ZeitbuchError when the packages for it are not installed."""
    engine = engine_of(paths, mapping)
    opened = engine.open(paths, mapping)
    paths = paths or ((engine.place,) if isinstance(engine, PlaceEngine) else ())
    there = {name for table in opened if table.lines is not None for name in table.lines.columns}
    mapping = settled_mapping(mapping, there)
    found = UsageSums(
        [],
        {},
        tuple(mapping.column),
        tuple(paths),
        zone=mapping.day_zone,
        mapping=mapping,
        problems=[],
        hours={},
        times=[],
        part_days=[],
    )
    tables: dict[str, Any] = {}
    for path, table in zip(paths, opened, strict=True):
        found.problems += table.problems
        found.rejected += table.rejected
        if table.lines is not None:
            missing = missing_columns(table.lines, mapping, path)
            found.problems += missing
            if not missing:
                tables[path] = table.lines
    if tables:
        _add_tables(engine, tables, mapping, found, timing)
    return found


def _add_tables(
    engine: UsageEngine, tables: dict[str, Any], mapping: UsageMapping, found: UsageSums, timing: Timing | None
) -> None:
    """Adds up the lines of all files of a mapping, so that a line that stands in two of them is found."""
    import ibis

    kept = [row.name for row in USAGE_COLUMNS if row.name in mapping.column]
    measured = kept if "calls" in kept or mapping.stands_for not in ("call", "step") else [*kept, "calls"]
    parts = [_with_refused(records_of(lines, mapping, engine.words), measured) for lines in tables.values()]
    records = ibis.union(*parts) if len(parts) > 1 else parts[0]
    fetch = engine.words.fetch_rows
    try:
        if few := engine.holds(tables):
            records = engine.kept(records)
        rows = fetch(sums_of_usage(records, measured))
        if days := _days_doubled(fetch, records, rows, kept, few):
            twice = with_doubled(records.filter(records.day.isin(days)))
            records = ibis.union(twice, records.filter(~records.day.isin(days).fill_null(False)))
            rows = fetch(sums_of_usage(records, measured))
        runs = _runs_of(engine, records, sum(int(row["lines"]) for row in rows)) if "run" in mapping.column else []
        clocks_asked = (few or isinstance(engine, PlaceEngine)) and "time" in mapping.column
        hours = fetch(hours_of_usage(records)) if clocks_asked else []
        clocks = fetch(clocks_of_usage(records)) if clocks_asked else []
        arrivals = fetch(arrivals_of_usage(records)) if "arrived" in mapping.column else []
        sums = sorted([usage_sum(row) for row in rows], key=sum_key)  # engines give them in any order
        found.times += _times_of(engine, records, sums, mapping, few, timing)
    except engine.errors as error:
        if isinstance(engine, PlaceEngine):
            found.problems.append(unreachable(engine.place, error).problem)
            return
        words = (str(error).strip().splitlines() or [type(error).__name__])[0]
        place, hint = Origin(next(iter(tables))), "say in the mapping how it is written"
        found.problems.append(
            Problem("usage-unreadable", "error", f"expected a usage log, found: {words}", place, hint)
        )
        return
    rejected, rejects = engine.rejected()
    found.rejected += rejected
    found.problems += rejects
    found.sums += sums
    _tell_empty(tables, rows, rejects, found)
    for name in kept:
        by_file = Counter(
            {path: sum(int(row[f"refused_{name}"] or 0) for row in rows if row["file"] == path) for path in tables}
        )
        for path, count in by_file.items():
            if count:
                found.refused[name] = found.refused.get(name, 0) + count
                found.problems += _refused_values(engine, path, tables[path], name, count, mapping)
    found.hours |= {(row["flow"] or "", int(row["hour"])): int(row["lines"]) for row in hours}
    found.part_days += part_days(arrivals, clocks, sums, found.hours)
    for row in runs:
        day = str(row["day"])[:10] if row["day"] is not None else ""
        key = day, row["environment"] or "", row["flow"] or ""
        found.runs[key] = found.runs.get(key, 0) + int(row["runs"])


def _runs_of(engine: UsageEngine, records: Any, lines: int) -> list[dict[str, Any]]:
    """Runs by day; where ids begin anew on each day a run is one on each of its days."""
    rows = _rows_of_runs(engine, records, 1 + lines // _LINES_AT_ONCE if engine.memory_errors else 1)
    if not (long := flows_with_long_runs(rows)):
        return rows
    by_day = engine.words.fetch_rows(runs_by_day_of_usage(records, long))
    anew = flows_with_ids_anew(rows, by_day)
    kept = [row for row in rows if (row["flow"] or "") not in anew]
    return kept + [row for row in by_day if (row["flow"] or "") in anew]


def _rows_of_runs(engine: UsageEngine, records: Any, parts: int) -> list[dict[str, Any]]:
    """All runs, so many at a time as the engine can hold."""
    while True:
        try:
            return [
                row for part in range(parts) for row in engine.words.fetch_rows(runs_of_usage(records, part, parts))
            ]
        except engine.memory_errors:
            if parts >= _MOST_PARTS:
                raise
            parts *= 2


def _times_of(
    engine: UsageEngine, records: Any, sums: Sequence[UsageSum], mapping: UsageMapping, few: bool, timing: Timing | None
) -> list[StepTimes]:
    """The durations of steps; of sums and bills nobody knows how long one call took."""
    if timing is None or "duration" not in mapping.column or mapping.stands_for not in ("call", "step"):
        return []
    places, days = timing(sums, mapping)
    if not places:
        return []
    keys = engine.words.small_table(table_of_places(places), engine.connection)
    exact = few or engine.words.kind == "postgresql"  # which has no approximation, and disks of its own
    return [step_times(row) for row in engine.words.fetch_rows(times_of_usage(records, keys, days, exact))]


def _days_doubled(
    fetch: Callable[[Any], list[dict[str, Any]]],
    records: Any,
    rows: Sequence[dict[str, Any]],
    kept: Sequence[str],
    few: bool,
) -> list[Any]:
    """Days on which lines stand twice. Lines are held against each other where they have a clock time or a run, so that two that are equal
    are one; of a large log on days that have far more lines than most."""
    if not {"time", "run"} & set(kept):
        return []
    by_day: Counter[Any] = Counter()
    for row in rows:
        by_day[row["day"]] += int(row["lines"])
    usual = median(by_day.values()) if by_day else 0
    looked = [day for day, lines in by_day.items() if day is not None and (few or lines >= _FAR_MORE * usual)]
    if not looked:
        return []
    some = records if len(looked) == len(by_day) else records.filter(records.day.isin(looked))
    return [row["day"] for row in fetch(days_with_doubled(some)) if row["day"] is not None]


def _tell_empty(
    tables: Iterable[str], rows: Iterable[dict[str, Any]], rejects: Iterable[Problem], found: UsageSums
) -> None:
    there = {row["file"] for row in rows} | {one.origin.source for one in rejects if one.origin is not None}
    for path in tables:
        if path not in there:
            message = "expected lines below the head, found none"
            found.problems.append(Problem("usage-empty", "error", message, Origin(path), "export it again"))


def _with_refused(records: Any, kept: Sequence[str]) -> Any:
    """The records with a mark of what was refused for each column, also for one that the mapping does not name."""
    import ibis

    more = {f"refused_{name}": ibis.literal(0) for name in kept if f"refused_{name}" not in records.columns}
    return records.mutate(**more) if more else records


def _refused_values(
    engine: UsageEngine, path: str, lines: Any, name: str, count: int, mapping: UsageMapping
) -> list[Problem]:
    """Some of the values of a column that could not be used, with the line on which each stands first."""
    rule = mapping.rule_of(name)
    assert rule is not None
    joined = lines.mutate(
        refused=refused_mark(lines, mapping, name, engine.words), raw=lines[rule.column].cast("string")
    )
    values = [
        row["raw"]
        for row in engine.words.fetch_rows(
            joined.filter(joined.refused == 1).select("raw").distinct().order_by("raw").limit(_SHOWN)
        )
    ]
    sort = BY_NAME[name].sort
    zone = sort == "time" and not mapping.zone
    hint = (
        "set zone in the mapping, if the log's clock times name none"
        if zone
        else "correct the mapping (decimal, thousands, format), or the log"
    )
    places = _lines_of(path, rule.column, set(values), mapping)
    told = [
        Problem("usage-value", "error", f"expected {_SORTS[sort]} for {name}, found '{value[:60]}' in the column '{rule.column}'",
                Origin(path, line=places.get(value)), hint)
        for value in values
    ]  # fmt: skip
    if count > len(told):
        left = f"expected values that can be used for {name}, found {count:,} that cannot; sums leave them out"
        told.append(Problem("usage-value", "error", left, Origin(path), hint))
    return told


def _lines_of(path: str, column: str, values: set[str], mapping: UsageMapping) -> dict[str, int]:
    """The lines of a text table on which some values of a column stand first."""
    if not Path(path).is_file() or table_form(path, mapping) != "csv":
        return {}
    found: dict[str, int] = {}
    try:
        with text_of(path, mapping.encoding) as file:
            rows = csv.reader(file, delimiter=mapping.separator.replace("\\t", "\t"))
            for _ in islice(rows, mapping.skip):
                pass
            place = next(rows).index(column)
            for row in rows:
                if len(row) > place and row[place] in values and row[place] not in found:
                    found[row[place]] = rows.line_num
                    if len(found) == len(values):
                        break
    except (OSError, ValueError, LookupError, StopIteration, csv.Error):
        return found
    return found

# What a mapping makes of a log, as tables.
"""Tables of tried usage logs."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from zeitbuch.core.actuals.columns import BY_NAME
from zeitbuch.core.actuals.explain_part_days import part_day_words
from zeitbuch.core.actuals.trial import UsageTrial
from zeitbuch.core.model.sheet import Column, Sheet
from zeitbuch.core.model.words import count_words

from .reconcile_tables import MATCH_WORDS


class UsageTrials(Struct, frozen=True):
    """`usage test --format json`: one trial for each mapping."""

    logs: tuple[UsageTrial, ...]


def columns_sheet(result: UsageTrials) -> Sheet:
    """The columns of the records: where each comes from, what it sums up to, what was of no use."""
    columns = (
        Column("log", "log", rank=2),
        Column("name", "record"),
        Column("words", "what it is", rank=1),
        Column("column", "column of the log"),
        Column("total", "in total"),
        Column("refused", "not usable", "count"),
    )
    rows = tuple(
        [
            (_log_name(trial), use.name, BY_NAME[use.name].words, use.column, use.total, use.refused)
            for trial in result.logs
            for use in trial.columns
        ]
    )
    return Sheet(columns, rows, notes=tuple(_notes(result)))


def names_sheet(result: UsageTrials) -> Sheet:
    """The names of the logs, and what they are in the estate."""
    columns = (
        Column("log", "log", rank=2),
        Column("sort", "sort"),
        Column("name", "in the log", least=16),
        Column("lines", "lines", "count"),
        Column("cost", "cost", "money", rank=1),
        Column("kind", "how it is known"),
        Column("meant", "in the estate", least=16),
    )
    rows = tuple(
        [
            (
                _log_name(trial),
                use.sort,
                use.name,
                use.lines,
                use.cost if use.cost is not None else "",
                MATCH_WORDS[use.kind],
                use.meant,
            )
            for trial in result.logs
            for use in trial.names
        ]
    )
    return Sheet(columns, rows, notes=tuple(_notes(result)))


def _log_name(trial: UsageTrial) -> str:
    more = f" and {len(trial.files) - 1} more" if len(trial.files) > 1 else ""
    return f"{trial.files[0]}{more}"


def _notes(result: UsageTrials) -> Iterator[str]:
    for trial in result.logs:
        passed = f", {trial.passed:,} passed over" if trial.passed else ""
        broken = f", {trial.rejected:,} could not be read" if trial.rejected else ""
        span = (
            f", {trial.first_day} to {trial.last_day} ({count_words(trial.days, 'day')} with lines, in {trial.zone})"
            if trial.days
            else ""
        )
        yield f"{_log_name(trial)}: {trial.lines:,} lines{passed}{broken}{span}"
        yield from part_day_words(trial.part_days)
        for sort in ("flow", "step", "model"):
            named = [use for use in trial.names if use.sort == sort]
            lost = [use for use in named if use.kind not in ("exact", "mapped")]
            if lost:
                yield f"{count_words(len(lost), sort)} of {len(named)} not known in the estate: see --names"

# What a usage log may say: one row of this table for each column of a usage record. The mapping file, the reading of logs, their
# grouping and the docs go by it.
"""Columns of usage records."""

from __future__ import annotations

from typing import Literal, NamedTuple

Sort = Literal["time", "day", "name", "count", "money", "seconds"]


class UsageColumn(NamedTuple):
    """One column: its name, what sort of value it holds, and what it is in words."""

    name: str
    sort: Sort
    words: str


USAGE_COLUMNS: tuple[UsageColumn, ...] = (
    UsageColumn("time", "time", "when it happened"),
    UsageColumn("day", "day", "the day, where the log has no clock time"),
    UsageColumn("arrived", "time", "when the line reached the log"),
    UsageColumn("environment", "name", "environment: prod, test ..."),
    UsageColumn("host", "name", "the host or account that is billed"),
    UsageColumn("flow", "name", "id or name of the flow"),
    UsageColumn("run", "name", "id of the run"),
    UsageColumn("step", "name", "id or name of the step"),
    UsageColumn("feature", "name", "feature, team or cost centre"),
    UsageColumn("model", "name", "model that answered"),
    UsageColumn("meter", "name", "what the bill counts by: a meter or article"),
    UsageColumn("status", "name", "how it ended"),
    UsageColumn("currency", "name", "currency of the cost (ISO 4217)"),
    UsageColumn("calls", "count", "model calls, where a line stands for several"),
    UsageColumn("tokens_in", "count", "tokens of prompts, cached ones included"),
    UsageColumn("tokens_out", "count", "tokens of answers, reasoning included"),
    UsageColumn("tokens_cached", "count", "those of the prompt tokens that came from a cache"),
    UsageColumn("tokens_reasoning", "count", "those of the answer's tokens that nobody reads"),
    UsageColumn("characters", "count", "characters, where these are billed"),
    UsageColumn("images", "count", "pictures"),
    UsageColumn("pages", "count", "pages read"),
    UsageColumn("sound", "count", "seconds of sound"),
    UsageColumn("cost", "money", "what was billed"),
    UsageColumn("duration", "seconds", "how long it took, in seconds"),
)  # fmt: skip
BY_NAME: dict[str, UsageColumn] = {row.name: row for row in USAGE_COLUMNS}
NAMES = tuple(row.name for row in USAGE_COLUMNS if row.sort == "name")
# What is added up. Costs are decimal, so that a total is that of the log to the cent.
MEASURES = tuple(row.name for row in USAGE_COLUMNS if row.sort in ("count", "money", "seconds"))
# Units of a rate card -> the column that counts them. Prompt tokens from a cache are counted with the others, too.
UNIT_COLUMNS = {
    "input": "tokens_in", "cached": "tokens_cached", "output": "tokens_out", "characters": "characters", "image": "images", "page": "pages",
    "second": "sound", "call": "calls",
}  # fmt: skip
# What the name of a flow, or of a day, is in lines that are totals.
TOTAL_WORDS = frozenset(
    "total totals sum summe gesamt gesamtsumme total_general somme totale totaal suma razem łącznie subtotal zwischensumme".split()
) | {"grand total"}
TOKEN_UNITS = ("input", "cached", "output")

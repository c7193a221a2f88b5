# All catalogues, and what narrows one: a text, a condition over its columns.
"""Catalogues by name."""

from __future__ import annotations

from collections.abc import Iterable

from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.model.conditions import Condition
from zeitbuch.core.model.sheet import Sheet
from zeitbuch.core.model.words import count_words

from . import connections, hosts, models, operations, people, prompts, schedules, stores, tools, variables
from .records import Catalogue, Entry

_ALL = (connections, prompts, models, tools, variables, stores, hosts, people, schedules, operations)
CATALOGUES: dict[str, Catalogue] = {module.CATALOGUE.name: module.CATALOGUE for module in _ALL}


def catalogue_rows(
    catalogue: Catalogue, estate: EstateView, text: str = "", where: Condition | None = None
) -> list[Entry]:
    """The rows of a catalogue that hold a text (without case) and for which a condition holds."""
    rows = list(catalogue.rows(estate))
    if text:
        rows = [row for row in rows if any(text.casefold() in word.casefold() for word in _words(row.values()))]
    if where is not None:
        rows = [row for row in rows if where.holds(lambda name, given, row=row: row[name])]  # type: ignore[misc]
    return rows


def _words(values: Iterable[object]) -> Iterable[str]:
    for value in values:
        if isinstance(value, list):
            yield from map(str, value)
        elif value is not None:
            yield str(value)


def catalogue_sheet(catalogue: Catalogue, rows: list[Entry], flows: int) -> Sheet:
    """The rows as a table."""
    columns = catalogue.all_columns
    marked = sum(bool(row["marks"]) for row in rows)
    note = f"{count_words(len(rows), 'row')} ({catalogue.name}) of {count_words(flows, 'flow')}; {marked:,} marked."
    return Sheet(columns, tuple(tuple(row[column.key] for column in columns) for row in rows), notes=(note,))

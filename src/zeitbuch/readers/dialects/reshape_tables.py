# Who writes many records of one sort often says the names of their fields once, and of each record the values alone.
"""Bringing tables into shape."""

from __future__ import annotations

from typing import Any

from zeitbuch.readers.input.pointers import escape_key

from .query import Query
from .reshape_rules import RowsRule
from .reshape_values import REST
from .shaping import Work, drop_value, paths_of, value_of


class Rows:
    """Rows of values become objects with the names of the columns as keys; rows and tables of another form are told and stay."""

    def __init__(self, rule: RowsRule) -> None:
        self.at = Query(rule.at)
        self.columns = paths_of(rule.columns)[0] if rule.columns else ()
        self.rows = paths_of(rule.rows)[0] if rule.rows else ()

    def __call__(self, work: Work) -> None:
        moved, _ = work.places.begin_layer()
        for pointer, table in work.find(self.at):
            listed = value_of(table, self.rows) if self.rows else table
            if type(listed) is not list:
                work.tell(pointer, "a table with a list of rows", table)
                continue
            if not (listed or self.columns):
                continue  # not even names: nothing stands there
            names = self._names_of(table, listed)
            if names is None:
                work.tell(pointer, "the names of columns, each once", self._written_names(table, listed))
                continue
            place = pointer + "".join(f"/{escape_key(key)}" for key in self.rows)
            work.put(place, self._records(names, listed, place, work, moved))
            if self.columns:
                drop_value(table, self.columns)

    def _written_names(self, table: Any, listed: list[Any]) -> Any:
        if self.columns:
            return value_of(table, self.columns)
        return listed[0] if listed else None

    def _names_of(self, table: Any, listed: list[Any]) -> list[str] | None:
        names = self._written_names(table, listed)
        return names if type(names) is list and _are_names(names) else None

    def _records(self, names: list[str], listed: list[Any], place: str, work: Work, moved: dict[str, str]) -> list[Any]:
        first = 0 if self.columns else 1  # the names stand above
        made = []
        for number, row in enumerate(listed[first:]):
            written = f"{place}/{number + first}"
            record, columns = self._record(names, row, written, work)
            moved[f"{place}/{number}"] = written
            moved |= {f"{place}/{number}/{escape_key(key)}": f"{written}/{at}" for key, at in columns.items()}
            made.append(record)
        return made

    @staticmethod
    def _record(names: list[str], row: Any, place: str, work: Work) -> tuple[Any, dict[str, int]]:
        """The object of a row, and the places of its values."""
        if type(row) is not list:
            work.tell(place, "a row of values", row)
            return row, {}
        record: dict[str, Any] = dict(zip(names, row, strict=False))
        if len(row) > len(names):
            record[REST] = row[len(names) :]
        return record, {name: at for at, name in enumerate(names) if name in record}


def _are_names(names: list[Any]) -> bool:
    return bool(names) and all(type(name) is str and name for name in names) and len(set(names)) == len(names)

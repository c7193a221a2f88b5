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
                continue
            own = not self.columns and bool(listed)
            names = listed[0] if own else value_of(table, self.columns) if self.columns else None
            if names is None or not _are_names(names):
                work.tell(pointer, "the names of columns, each once", names)
                continue
            place = pointer + "".join(f"/{escape_key(key)}" for key in self.rows)
            made = [
                self._record(names, row, f"{place}/{number}", work) for number, row in enumerate(listed[own:], int(own))
            ]
            for number, (_, columns) in enumerate(made):
                moved[f"{place}/{number}"] = f"{place}/{number + own}"
                moved |= {
                    f"{place}/{number}/{escape_key(key)}": f"{place}/{number + own}/{at}" for key, at in columns.items()
                }
            if self.columns:
                drop_value(table, self.columns)
            work.put(place, [record for record, _ in made])

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


def _are_names(names: Any) -> bool:
    return (
        type(names) is list
        and bool(names)
        and all(type(name) is str and name for name in names)
        and len(set(names)) == len(names)
    )

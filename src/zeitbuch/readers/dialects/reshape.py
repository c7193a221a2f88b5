# Exports that are not built the way flows are (tables of rows, definitions within texts, ids that stand for entries elsewhere) are
# brought into shape before the selectors of the dialect apply. Nothing is lost on the way: what a rule cannot use stays where it is,
# and for everything that moves it is kept from where, so that messages name the place in the file.
"""Bringing documents into shape."""

from __future__ import annotations

from typing import Any, NamedTuple

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Origin
from zeitbuch.readers.input.limits import Limits, count_values

from .places import Places
from .reshape_records import Catalogue, Gather, Group
from .reshape_tables import Rows
from .reshape_values import Divide, Merge, Pairs, Splits, Texts, Unwrap
from .rules import Dialect
from .shaping import Change, Work

# The tables of a dialect that bring documents into shape, in the order in which they are carried out.
_TABLES: dict[str, Any] = {
    "text": Texts, "rows": Rows, "divide": Divide, "unwrap": Unwrap, "split": Splits, "pairs": Pairs, "merge": Merge, "catalogue": Catalogue, "group": Group, "gather": Gather,
}  # fmt: skip


class Shaped(NamedTuple):
    """A document in shape, the values in it, where they stood, and what could not be used."""

    value: Any
    counted: int
    places: Places
    problems: list[Problem]


def is_reshaped(dialect: Dialect) -> bool:
    """Whether a dialect has rules that bring documents into shape."""
    return any(getattr(dialect, table) for table in _TABLES)


class Reshaper:
    """Carries out the rules of one dialect; ``hits`` counts by rule what its query selected. Raises ZeitbuchError when a rule is
    wrong or a limit is passed."""

    def __init__(self, dialect: Dialect, limits: Limits | None = None) -> None:
        self.limits = limits or Limits()
        self.changes: dict[str, Change] = {
            f"{table}[{place}].at": kind(rule)
            for table, kind in _TABLES.items()
            for place, rule in enumerate(getattr(dialect, table))
        }
        self.hits = dict.fromkeys(self.changes, 0)

    def reshape(self, document: Any, base: Origin) -> Shaped:
        """The document in shape. It is changed in place: nobody else holds it."""
        work = Work({"": document}, base, self.limits)
        for key, change in self.changes.items():
            change(work)
            self.hits[key] += work.found[id(change.at)]
        value = work.root[""]
        return Shaped(value, count_values(value), work.places, work.problems)

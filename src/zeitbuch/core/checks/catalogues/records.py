# What a catalogue is: columns, and what fills them from an estate. All have the same last columns: where a thing is used, and what is odd.
"""Records of catalogues."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Any, NamedTuple

from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.model.conditions import Fact
from zeitbuch.core.model.records import Flow, Step, Trigger
from zeitbuch.core.model.sheet import Column

Entry = dict[str, Any]
USED = (Column("flows", "flows", "count"), Column("used_by", "used by", "list", rank=2, least=24))
MARKS = Column("marks", "marks", "list", least=16)


class Catalogue(NamedTuple):
    """One catalogue: what it lists, its columns (those of `USED` and `MARKS` come behind), and its rows."""

    name: str
    words: str
    columns: tuple[Column, ...]
    rows: Callable[[EstateView], Iterable[Entry]]
    is_used: bool = True  # whether its things are used by flows

    @property
    def all_columns(self) -> tuple[Column, ...]:
        """The columns as they are shown."""
        return (*self.columns, *(USED if self.is_used else ()), MARKS)

    @property
    def facts(self) -> dict[str, Fact]:
        """What `--where` may ask for."""
        return {column.key: Fact(column.title) for column in self.all_columns}


class Uses:
    """Where a thing is used: flows in order, and the steps in them."""

    def __init__(self) -> None:
        self.flows: dict[str, str] = {}
        self.places: dict[str, None] = {}

    def add(self, flow: Flow, part: Step | Trigger | None = None) -> None:
        """One use."""
        self.flows[flow.id] = flow.title
        self.places[f"{flow.title} / {part.title}" if part is not None else flow.title] = None

    @property
    def columns(self) -> Entry:
        """The columns of `USED`."""
        return {"flows": len(self.flows), "used_by": list(self.places)}


def all_parts(estate: EstateView) -> Iterator[tuple[Flow, Step | Trigger]]:
    """Every trigger and step of an estate that is switched on, with its flow."""
    for flow in estate.flows:
        yield from ((flow, part) for part in flow.triggers if part.enabled)
        yield from ((flow, step) for step in flow.steps if step.enabled)


def all_steps(estate: EstateView) -> Iterator[tuple[Flow, Step]]:
    """Every step of an estate that is switched on, with its flow."""
    for flow in estate.flows:
        yield from ((flow, step) for step in flow.steps if step.enabled)

# One row a flow. Rows are made flow by flow, so that an inventory of thousands never holds the estate in memory.
"""Inventory: rows, filters, sorting and totals."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from operator import attrgetter
from typing import Any

from msgspec import Struct

from zeitbuch.core.model.name_patterns import pattern_fits
from zeitbuch.core.model.named_connections import named_connections
from zeitbuch.core.model.records import Flow
from zeitbuch.core.model.sheet import Column, Sheet
from zeitbuch.core.model.words import count_words, triggers_words


class Row(Struct, frozen=True):
    """One flow of the inventory. ``steps`` are all boxes but notes, ``activities`` those that do work; ``read`` is the share (0..1) of the
    export's values that was understood; ``high``, ``medium`` and ``low`` count what the checks find, where they were asked for."""

    id: str
    name: str
    state: str
    owners: tuple[str, ...]
    trigger: str
    trigger_kinds: tuple[str, ...]
    steps: int
    activities: int
    ai_steps: int
    models: tuple[str, ...]
    pattern: str
    changed: str
    read: float
    findings: int
    folder: str
    format: str
    source: str
    high: int | None = None
    medium: int | None = None
    low: int | None = None


class Totals(Struct, frozen=True):
    """Sums over the rows shown."""

    flows: int
    on: int
    with_ai: int
    steps: int
    activities: int
    ai_steps: int
    models: int
    findings: int


class Filter(Struct, frozen=True):
    """Which rows are wanted; every given condition must hold. Texts are compared without case."""

    ai: bool = False
    trigger: tuple[str, ...] = ()
    owner: str = ""
    model: str = ""
    pattern: tuple[str, ...] = ()
    text: str = ""
    state: tuple[str, ...] = ()
    folder: str = ""
    id: str = ""
    connection: str = ""
    service: str = ""

    @property
    def needs_flows(self) -> bool:
        """Whether rows alone cannot say."""
        return bool(self.text or self.connection or self.service)


def inventory_row(flow: Flow) -> Row:
    """The inventory row of a flow."""
    # Not needed by a list whose rows come from the cache.
    from zeitbuch.core.graph.activities import activities_of
    from zeitbuch.core.graph.pattern_class import pattern_of
    from zeitbuch.core.graph.topology import ai_steps

    models: dict[str, None] = {}
    steps = 0
    for step in flow.steps:
        if step.kind == "note":
            continue
        steps += 1
        if step.model is not None and step.model.name:
            models[step.model.name] = None
    return Row(
        id=flow.id,
        name=flow.title,
        state=flow.state,
        owners=flow.owners,
        trigger=triggers_words(flow),
        trigger_kinds=tuple(dict.fromkeys([trigger.kind for trigger in flow.triggers])),
        steps=steps,
        activities=len(activities_of(flow)),
        ai_steps=len(ai_steps(flow)),
        models=tuple(sorted(models)),
        pattern=pattern_of(flow),
        changed=flow.changed,
        read=flow.content.read_share,
        findings=len(flow.findings),
        folder=flow.folder,
        format=flow.format,
        source=flow.origin.file if flow.origin else "",
    )


def searchable_text(flow: Flow) -> str:
    """The words of a flow that a text filter looks at, in lower case."""
    parts = [flow.id, flow.name, flow.description, flow.folder, *flow.owners]
    for step in flow.steps:
        parts += [step.name, step.operation, step.note]
        if step.model is not None:
            parts += [prompt.text for prompt in step.model.prompts]
    return "\n".join(parts).casefold()


def row_fits(entry: Row, conditions: Filter) -> bool:
    """Whether a row passes the filter, but for the text, which stands in the flow."""
    c = conditions
    if c.ai and not entry.ai_steps:
        return False
    if c.trigger and not set(c.trigger) & set(entry.trigger_kinds):
        return False
    if c.owner and not any(c.owner.casefold() in name.casefold() for name in entry.owners):
        return False
    if c.model and not any(c.model.casefold() in name.casefold() for name in entry.models):
        return False
    if c.state and entry.state not in c.state:
        return False
    if c.folder and c.folder.casefold() not in entry.folder.casefold():
        return False
    if c.id and not pattern_fits(c.id, entry.id, entry.name):
        return False
    return not c.pattern or entry.pattern in c.pattern


def flow_fits(flow: Flow, entry: Row, conditions: Filter) -> bool:
    """Whether a flow passes the filter."""
    c = conditions
    if not row_fits(entry, c) or (c.text and c.text.casefold() not in searchable_text(flow)):
        return False
    named, served = c.connection.casefold(), c.service.casefold()
    return any(
        named in f"{one.id} {one.name} {one.account}".casefold() and served in one.service.casefold()
        for one in named_connections(flow)
    ) or not (named or served)


def row_if_wanted(conditions: Filter, flow: Flow) -> Row | None:
    """The row of a flow that passes the filter, else None."""
    entry = inventory_row(flow)
    return entry if flow_fits(flow, entry, conditions) else None


def rows_of_flows(flows: Iterable[Flow], conditions: Filter | None = None) -> list[Row]:
    """The rows of all flows that pass the filter, in the order of reading."""
    return [row for flow in flows if (row := row_if_wanted(conditions or Filter(), flow)) is not None]


SORTS: dict[str, Callable[[Row], Any]] = {
    "name": lambda r: r.name.casefold(),
    "owner": lambda r: (r.owners, r.name.casefold()),
    "trigger": lambda r: (r.trigger_kinds, r.name.casefold()),
    "pattern": lambda r: (r.pattern, r.name.casefold()),
    "steps": lambda r: (-r.steps, r.name.casefold()),
    "activities": lambda r: (-r.activities, r.name.casefold()),
    "ai": lambda r: (-r.ai_steps, r.name.casefold()),
    "changed": lambda r: tuple(-ord(letter) for letter in r.changed) or (1,),
    "read": lambda r: (r.read, r.name.casefold()),
}


def inventory_totals(entries: list[Row]) -> Totals:
    """The totals line of an inventory."""
    return Totals(
        flows=len(entries),
        on=sum(row.state == "on" for row in entries),
        with_ai=sum(row.ai_steps > 0 for row in entries),
        steps=sum(row.steps for row in entries),
        activities=sum(row.activities for row in entries),
        ai_steps=sum(row.ai_steps for row in entries),
        models=len({name for row in entries for name in row.models}),
        findings=sum(row.findings for row in entries),
    )


_COLUMNS = (
    Column("name", "flow"),
    Column("state", "state", rank=4),
    Column("owners", "owner", "list", rank=2),
    Column("trigger", "trigger"),
    Column("activities", "activities", "count"),
    Column("ai_steps", "AI", "count"),
    Column("models", "models", "list", rank=1),
    Column("pattern", "pattern", rank=3),
    Column("changed", "changed", rank=5),
    Column("read", "read", "percent", rank=6),
)

_FINDINGS = Column("findings", "findings", "count")
_CHECKED = (Column("high", "high", "count"), Column("medium", "medium", "count"), Column("low", "low", "count"))


def inventory_sheet(entries: list[Row], full: bool = False) -> Sheet:
    """The inventory as a sheet; ``full`` adds id, folder, format and source, and whole time stamps."""
    t = inventory_totals(entries)
    columns: tuple[Column, ...] = _COLUMNS if not t.findings or full else (*_COLUMNS, _FINDINGS)
    checked = bool(entries) and entries[0].high is not None
    if full:
        columns = (
            Column("id", "id"),
            *_COLUMNS,
            Column("steps", "steps", "count"),
            _FINDINGS,
            Column("folder", "folder"),
            Column("format", "format"),
            Column("source", "source"),
        )
    if checked:
        columns = (*columns, *_CHECKED)
    # Column by column through C: an inventory may have thousands of rows.
    values = [list(map(attrgetter(column.key), entries)) for column in columns]
    if not full:
        place = next(index for index, column in enumerate(columns) if column.key == "changed")
        values[place] = [value[:10] for value in values[place]]
    rows_ = tuple(zip(*values, strict=True))
    sums: dict[str, Any] = {
        "name": count_words(t.flows, "flow"),
        "state": f"{t.on} on",
        "steps": t.steps,
        **(
            {name: sum(getattr(row, name) or 0 for row in entries) for name in ("high", "medium", "low")}
            if checked
            else {}
        ),
        "findings": t.findings,
        "activities": t.activities,
        "ai_steps": t.ai_steps,
        "models": (f"{t.models} different",),
        "trigger": f"{t.with_ai} use AI",
    }
    return Sheet(columns=columns, rows=rows_, total=tuple(sums.get(column.key, "") for column in columns))


class InventoryResult(Struct, frozen=True):
    """`inventory --format json`."""

    flows: tuple[Row, ...]
    totals: Totals

"""What flows fill, search, read and write: shelves of texts and connections that keep data."""

from __future__ import annotations

from collections.abc import Iterator

from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.checks.parts import store_of
from zeitbuch.core.graph.flow_calls import service_name
from zeitbuch.core.model.records import Flow, Step
from zeitbuch.core.model.sheet import Column

from .records import Catalogue, Entry, Uses, all_steps

_KEEPS = frozenset({"write", "delete"})


class _Store:
    """What is known of one store."""

    def __init__(self, name: str, kind: str) -> None:
        self.name, self.kind = name, kind
        self.fills, self.reads = Uses(), Uses()
        self.models: dict[str, None] = {}


def _rows(estate: EstateView) -> Iterator[Entry]:
    found: dict[tuple[str, str], _Store] = {}
    for flow, step in all_steps(estate):
        shelf = step.kind in ("embed", "retrieve")
        name = _name_of(flow, step)
        if not name:
            continue
        store = found.setdefault(
            (name.casefold(), "shelf" if shelf else "data"), _Store(name, "shelf of texts" if shelf else "data")
        )
        (store.fills if step.kind == "embed" or step.effect in _KEEPS else store.reads).add(flow, step)
        if shelf and step.model is not None and step.model.name:
            store.models[step.model.name] = None
    # A service that is only asked keeps nothing of ours.
    yield from (_row(store) for store in found.values() if store.kind != "data" or store.fills.flows)


def _name_of(flow: Flow, step: Step) -> str:
    """The store that a step fills, changes or reads; empty for none."""
    if step.kind in ("embed", "retrieve"):
        return store_of(step)
    keeps = step.effect in _KEEPS or step.effect == "read"
    return service_name(flow, step.connection) if step.connection and keeps else ""


def _row(store: _Store) -> Entry:
    uses = Uses()
    uses.flows = store.fills.flows | store.reads.flows
    uses.places = store.fills.places | store.reads.places
    marks = [] if store.fills.flows else ["filled by no flow"]
    marks += [] if store.reads.flows else ["read by no flow"]
    marks += ["several models"] if len(store.models) > 1 else []
    return {
        "name": store.name, "kind": store.kind, "filled": list(store.fills.places), "read": list(store.reads.places),
        "models": list(store.models), **uses.columns, "marks": marks,
    }  # fmt: skip


CATALOGUE = Catalogue(
    "stores", "stores, who fills and who reads them", (
        Column("name", "store"), Column("kind", "kind", rank=1), Column("filled", "filled by", "list"), Column("read", "read by", "list"),
        Column("models", "models", "list", rank=2),
    ), _rows,
)  # fmt: skip

# Applies a dialect to a document: the flows in it, their steps and triggers. How the steps hang together is in
# dialect_shapes.py (flat lists) and dialect_nested.py (steps within steps).
"""The declarative reader: documents in any dialect -> flows."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import (
    Connection,
    Content,
    Flow,
    FlowState,
    Origin,
    Variable,
)
from zeitbuch.readers.input.limits import count_values

from .paths import (
    Claims,
    as_text,
    claim_paths,
    make_getter,
    unclaimed_part,
)
from .query import Query
from .rules import KEY, Dialect, Items, Recogniser
from .steps import Draft, StepReader, with_key


class DialectReader:
    """Reads the documents of one dialect."""

    def __init__(self, dialect: Dialect, outline: bool = False, texts: bool = True) -> None:
        from .flat import Flat
        from .nested import Nested

        self.dialect = dialect
        self.recogniser = Recogniser(dialect)
        self.steps = StepReader(dialect, outline, texts)
        flow = dialect.flow
        self.flows_at = Query(flow.at)
        self.steps_at = Query(dialect.step.at)
        nested = dialect.tree is not None or bool(dialect.holds) or dialect.predecessors is not None
        self.shape: Flat | Nested = Nested(dialect, self.steps) if nested else Flat(dialect, self.steps)
        self.get = {
            name: make_getter(getattr(flow, name))
            for name in ("id", "name", "description", "state", "owners", "folder", "environment", "version", "created", "changed")
        }  # fmt: skip
        self.variables = _ItemReader(flow.variables)
        self.connections = _ItemReader(flow.connections)
        claims: Claims = {}
        for name in self.get:
            claim_paths(claims, getattr(flow, name))
        claim_paths(claims, flow.noise)
        for place in (flow.variables, flow.connections, dialect.link, dialect.adjacency, dialect.trigger, dialect.step):
            if place is not None:
                claim_paths(claims, _top_path(place.at))
        self.claims = claims

    def flows(self, document: Any, base: Origin, count: int) -> Iterator[tuple[Flow, list[Problem]]]:
        """Every flow of a document with the problems found in it."""
        found = self.flows_at.find_all(document)
        for pointer, raw in found:
            if isinstance(raw, dict):
                # What surrounds a single flow is its wrapping and counts with it.
                yield self._read_flow(raw, pointer, base, count if len(found) == 1 else count_values(raw))

    def holds_bare_flow(self, document: Any) -> bool:
        """Whether a document without its wrapping is a flow of this dialect: its steps are where they should be."""
        if not isinstance(document, dict):
            return False
        found = self.steps.find_objects(self.steps_at, document)
        return bool(found) and all(as_text(self.steps.operation(mapping)) for _, mapping in found)

    def read_bare_flow(self, document: dict[str, Any], base: Origin, count: int) -> tuple[Flow, list[Problem]]:
        """The flow of a document without its wrapping."""
        return self._read_flow(document, base.pointer, base, count)

    def _read_flow(self, raw: dict[str, Any], pointer: str, base: Origin, count: int) -> tuple[Flow, list[Problem]]:
        draft = Draft(base, pointer)
        get = self.get
        whole_flow = not self.steps.outline
        self.shape.read_flow(raw, draft)
        state = as_text(get["state"](raw))
        known: FlowState = self.dialect.flow.states.get(state, "unknown")
        owners = get["owners"](raw)
        unread = unclaimed_part(raw, self.claims)
        if draft.lost:
            unread["unread parts"] = draft.lost
        name = as_text(get["name"](raw))
        missed = _count_missed(unread, draft)
        flow = Flow(
            id=as_text(get["id"](raw)) or name or pointer or base.file,
            name=name,
            description=as_text(get["description"](raw)),
            state=known,
            owners=tuple(filter(None, map(as_text, owners if isinstance(owners, list) else [owners]))),
            folder=as_text(get["folder"](raw)),
            environment=as_text(get["environment"](raw)),
            version=as_text(get["version"](raw)),
            created=as_text(get["created"](raw)),
            changed=as_text(get["changed"](raw)),
            triggers=tuple(draft.triggers),
            steps=tuple(draft.steps),
            links=tuple(draft.links),
            connections=tuple(
                Connection(id=mapping.get("id", ""), name=mapping.get("name", ""), service=mapping.get("service", ""),
                           account=mapping.get("account", ""), unread=left)
                for mapping, _, left in (self.connections.read_item(raw) if whole_flow else ())
            ),
            variables=tuple(
                Variable(name=mapping.get("name", "") or mapping.get("id", ""), value=value, description=mapping.get("description", ""))
                for mapping, value, _ in (self.variables.read_item(raw) if whole_flow else ())
            ),
            unread=unread,
            format=self.dialect.name,
            content=Content(values=count, unread=missed),
            origin=base.at(pointer),
        )  # fmt: skip
        return flow, draft.problems


def _count_missed(unread: dict[str, Any], draft: Draft) -> int:
    missed = (count_values(unread) if unread else 0) + draft.missed
    missed += sum([count_values(step.unread) for step in draft.steps if step.unread])
    missed += sum([count_values(trigger.unread) for trigger in draft.triggers if trigger.unread])
    return missed


def _top_path(query: str) -> str:
    """The dotted path to the list that a JSONPath query from the flow walks into."""
    path = query.removeprefix("$").split("[", 1)[0].strip(".")
    return path


class _ItemReader:
    """Reads a list of named things (variables, connections)."""

    def __init__(self, rule: Items | None) -> None:
        self.query = Query(rule.at) if rule is not None else None
        self.value = make_getter(rule.value) if rule is not None else make_getter("")
        self.claims: Claims = {KEY: True}
        self.get = {}
        self.keyed = rule is not None and KEY in (rule.id, rule.name)
        if rule is not None:
            for name in ("id", "name", "service", "account", "description"):
                paths = getattr(rule, name)
                if paths:
                    self.get[name] = make_getter(paths)
                    claim_paths(self.claims, paths)
            claim_paths(self.claims, rule.value)

    def read_item(self, raw: dict[str, Any]) -> Iterator[tuple[dict[str, str], Any, dict[str, Any]]]:
        if self.query is None:
            return
        for pointer, item in self.query.find_all(raw):
            if isinstance(item, dict):
                if self.keyed:
                    item = with_key(pointer, item)
                yield (
                    {key: as_text(function(item)) for key, function in self.get.items()},
                    self.value(item),
                    unclaimed_part(item, self.claims),
                )

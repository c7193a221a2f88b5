# Applies a dialect to a document: the flows in it, their steps and triggers. How the steps hang together is in
# dialect_shapes.py (flat lists) and dialect_nested.py (steps within steps).
"""The declarative reader: documents in any dialect -> flows."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from msgspec import structs

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import (
    Connection,
    Content,
    Flow,
    FlowState,
    Link,
    Origin,
    Variable,
)
from zeitbuch.readers.input.limits import Limits, count_values

from .default_model import give_default_model
from .draft import Draft
from .field_checks import FORMS, WORDS, Form, make_field, one_of, with_refused
from .flow_rules import FlowRule
from .gates import add_gates
from .named_items import Item, ItemReader, name_of
from .named_tools import add_tools
from .own_rounds import add_rounds
from .paths import (
    Claims,
    Getter,
    as_count,
    as_text,
    claim_keys,
    claim_paths,
    copy_claims,
    make_getter,
    make_getters,
    unclaimed_part,
)
from .placeholders import Placeholders, note_variables
from .places import Places
from .query import Query
from .recogniser import Recogniser
from .record_forms import RecordForms
from .reshape import Reshaper, is_reshaped
from .rules import KEY, Dialect
from .several_clocks import part_clocks
from .steps import StepReader, with_key
from .variable_values import give_values

_FLOW_PATHS = (
    "id", "name", "description", "state", "owners", "folder", "environment", "version", "created", "changed", "fault_handlers",
    "concurrency", "first", "model",
)  # fmt: skip


def _flow_form(flow: FlowRule, name: str) -> Form:
    return one_of(flow.states) if name == "state" else FORMS.get(name, WORDS)


def _texts_of(value: Any) -> tuple[str, ...]:
    return tuple(text for item in (value if isinstance(value, list) else [value]) if (text := as_text(item)))


class DialectReader:
    """Reads the documents of one dialect."""

    def __init__(
        self, dialect: Dialect, outline: bool = False, texts: bool = True, limits: Limits | None = None
    ) -> None:
        from .flat import Flat
        from .nested import Nested

        self.dialect = dialect
        self.recogniser = Recogniser(dialect)
        self.reshaper = Reshaper(dialect, limits) if is_reshaped(dialect) else None
        self.steps = StepReader(dialect, outline, texts)
        flow = dialect.flow
        self.flows_at = Query(flow.at)
        self.steps_at = Query(dialect.step.at)
        nested = dialect.tree is not None or bool(dialect.holds) or dialect.predecessors is not None
        self.shape: Flat | Nested = Nested(dialect, self.steps) if nested else Flat(dialect, self.steps)
        self.get = {
            name: make_getter(getattr(flow, name))
            for name in _FLOW_PATHS
        }  # fmt: skip
        self.placeholders = Placeholders(dialect.placeholders)
        self.variables = ItemReader(flow.variables, ("id", "name", "description", "value"))
        self.connections = ItemReader(flow.connections, ("id", "name", "service", "account"))
        claims: Claims = {}
        for name in self.get:
            claim_paths(claims, getattr(flow, name))
        claim_paths(claims, flow.noise)
        self.selected: list[Query] = []  # queries whose claims must be worked out for each flow
        for place in (
            flow.variables,
            flow.connections,
            *dialect.links,
            *dialect.adjacencies,
            dialect.trigger,
            dialect.step,
        ):
            if place is not None:
                query = Query(place.at)
                if query.parts is None:
                    self.selected.append(query)
                elif query.parts:
                    claim_keys(claims, tuple(query.parts))
        self.claims = claims
        self.keyed = any(KEY in (paths if isinstance(paths, list) else [paths]) for paths in (flow.id, flow.name))
        fields = [
            make_field(getattr(flow, name), _flow_form(flow, name), gathers=name == "owners")
            for name in self.get
            if getattr(flow, name)
        ]
        self.forms = RecordForms(None, fields)
        self.owners = make_getters(flow.owners)
        self.noise = [(path, make_getter(path)) for path in flow.noise]
        self.noise_around = [(path, make_getter(path)) for path in dialect.signature.noise]

    def flows(self, document: Any, base: Origin, count: int) -> Iterator[tuple[Flow, list[Problem]]]:
        """Every flow of a document with the problems found in it."""
        places: Places | None = None
        shaped: list[Problem] = []
        if self.reshaper is not None:
            document, count, places, shaped = self.reshaper.reshape(document, base)
        found = [(pointer, raw) for pointer, raw in self.flows_at.find_all(document) if isinstance(raw, dict)]
        around = self._surroundings(document) if found else {}
        shared = self.variables.shared_by([raw for _, raw in found], document, self.placeholders.bodies_in)
        if shared.idle:
            around = {**around, "variables that no flow names": shared.idle}
        for place, (pointer, raw) in enumerate(found):
            counted = count if len(found) == 1 else count_values(raw)
            flow, problems = self._read_flow(raw, pointer, base, counted, places, shared.of_flows[place])
            if not place:
                problems = [*shaped, *problems]
            if not place and self.noise_around and isinstance(document, dict) and not self.steps.outline:
                flow = structs.replace(flow, noise={**_values_at(document, self.noise_around), **flow.noise})
            if around and not place:
                flow = _with_surroundings(flow, around, len(found) > 1)
            yield flow, problems

    def _surroundings(self, document: Any) -> dict[str, Any]:
        """What stands around the flows of a document, and is no noise."""
        below: Claims = {}
        for keys in self.flows_at.claimed_keys(document):
            if not keys:
                return {}
            claim_keys(below, keys)
        for keys in self.variables.claimed_in(document):
            claim_keys(below, keys)
        claim_paths(below, self.dialect.signature.noise)
        around = unclaimed_part({"document": document}, {"document": below})
        found: dict[str, Any] = around.get("document", {}) if isinstance(document, dict) else around
        odd = [raw for _, raw in self.flows_at.find_all(document) if raw is not None and not isinstance(raw, dict)]
        return {**found, "no flows": odd} if odd else found

    def holds_bare_flow(self, document: Any) -> bool:
        """Whether a document without its wrapping is a flow of this dialect: its steps are where they should be."""
        if not isinstance(document, dict):
            return False
        found = self.steps.find_objects(self.steps_at, document)
        return bool(found) and all(as_text(self.steps.operation(mapping)) for _, mapping in found)

    def read_bare_flow(self, document: dict[str, Any], base: Origin, count: int) -> tuple[Flow, list[Problem]]:
        """The flow of a document without its wrapping."""
        return self._read_flow(document, base.pointer, base, count)

    def _read_flow(
        self, raw: dict[str, Any], pointer: str, base: Origin, count: int, places: Places | None = None, shared: Sequence[Item] = (),
    ) -> tuple[Flow, list[Problem]]:  # fmt: skip
        if self.keyed:
            raw = with_key(pointer, raw)
        draft = Draft(base, pointer, places)
        get = self.get
        whole_flow = not self.steps.outline
        if self.dialect.flow.first:
            draft.first = as_text(get["first"](raw))
        items = [*shared, *self.variables.read_item(raw)]
        if items and self.placeholders.rule is not None:
            note_variables(draft.names, [name_of(item) for item in items])
        self.shape.read_flow(raw, draft)
        variables = self._complete_draft(raw, draft, items)
        state = as_text(get["state"](raw))
        known: FlowState = self.dialect.flow.states.get(state, "unknown")
        named = [get_owner(raw) for get_owner in self.owners]
        owners = [owner for value in named for owner in (value if isinstance(value, list) else [value])]
        unread = self._unread_of(raw, draft, items)
        name = as_text(get["name"](raw))
        connections = tuple(
            Connection(id=mapping.get("id", ""), name=mapping.get("name", ""), service=mapping.get("service", ""),
                       account=mapping.get("account", ""), unread=left)
            for mapping, _, left in (self.connections.read_item(raw) if whole_flow else ())
        )  # fmt: skip
        missed = _count_missed(unread, draft, connections)
        flow = Flow(
            id=as_text(get["id"](raw)) or name or pointer or base.file,
            name=name,
            description=as_text(get["description"](raw)),
            state=known,
            owners=tuple(dict.fromkeys(filter(None, map(as_text, owners)))),
            folder=as_text(get["folder"](raw)),
            environment=as_text(get["environment"](raw)),
            version=as_text(get["version"](raw)),
            fault_handlers=_texts_of(get["fault_handlers"](raw)),
            concurrency=as_count(get["concurrency"](raw)),
            created=as_text(get["created"](raw)),
            changed=as_text(get["changed"](raw)),
            triggers=tuple(draft.triggers),
            steps=tuple(draft.steps),
            links=tuple(draft.links),
            connections=connections,
            variables=variables if whole_flow else (),
            unread=unread,
            noise={**_values_at(raw, self.noise), **draft.noise} if whole_flow else {},
            format=self.dialect.name,
            content=Content(values=count, unread=missed),
            origin=draft.origin_at(""),
        )  # fmt: skip
        return flow, draft.problems

    def _complete_draft(self, raw: dict[str, Any], draft: Draft, items: list[Item]) -> tuple[Variable, ...]:
        """What the flow says for its steps: the first of them, their model, the values of its variables, which are returned; and the
        decisions and loops around steps that say when and how often they run."""
        if draft.first:
            self._start_at_first(draft)
        if self.dialect.flow.model:
            give_default_model(draft, as_text(self.get["model"](raw)))
        if draft.clocks:
            part_clocks(draft)
        if draft.tools:
            add_tools(draft, self.steps.plans)
        if draft.gates:
            add_gates(draft, self.steps.places, self.steps.outline)
        if draft.rounds:
            add_rounds(draft, self.steps.outline)
        variables = tuple(
            Variable(name=name_of(item), value=item[1], description=item[0].get("description", "")) for item in items
        )
        give_values(draft, variables, self.placeholders)
        return variables

    def _start_at_first(self, draft: Draft) -> None:
        """What the flow names as its first step is where a trigger leads that leads nowhere yet. Where that is the trigger itself, or
        a link says it already, it says nothing new; where nothing starts the flow it is of no use."""
        first = draft.first
        target = draft.step_named(first)
        if not first or any(trigger.id in (first, target) for trigger in draft.triggers):
            return
        if target is None:
            hint = "the steps that nothing leads to are taken for the first; mend it in the builder"
            draft.add_problem("link-end", f"expected the first step among the steps, found '{first}'", hint, "")
        if target is None or not self._lead_to(draft, target):
            draft.lost.append({"first": first})

    @staticmethod
    def _lead_to(draft: Draft, target: str) -> bool:
        """Leads triggers that lead nowhere to a step; whether some trigger leads there."""
        starts = {trigger.id for trigger in draft.triggers}
        if any(link.source in starts and link.target == target for link in draft.links):
            return True
        idle = sorted(starts - {link.source for link in draft.links})
        draft.links += [Link(source=start, target=target) for start in idle]
        return bool(idle)

    def _unread_of(self, raw: dict[str, Any], draft: Draft, items: list[Item]) -> dict[str, Any]:
        """What of a flow beside its steps and triggers has no place in the model."""
        claims = self.claims
        if self.selected:
            claims = copy_claims(claims)
            for query in self.selected:
                for keys in query.claimed_keys(raw):
                    claim_keys(claims, keys)
        refused = self.forms.refused_in(raw)
        draft.tell_refused(refused, "of the flow", "")
        unread = with_refused(unclaimed_part(raw if draft.rest is None else draft.rest, claims), refused)
        variables = [
            {
                **left,
                **({"id": item["id"]} if item.get("name") and item.get("id", "") not in ("", item["name"]) else {}),
            }
            for item, _, left in items
        ]
        variables = list(filter(None, variables))
        if variables:
            unread["parts of variables"] = variables
        connections = self.connections.unread_in(raw) if self.steps.outline else []
        draft.missed += sum(map(count_values, connections))
        if draft.lost:
            unread["unread parts"] = draft.lost
        return unread


def _values_at(record: dict[str, Any], places: Iterable[tuple[str, Getter]]) -> dict[str, Any]:
    """What stands at places that the dialect calls noise."""
    return {path: value for path, get in places if (value := get(record)) is not None}


def _count_missed(unread: dict[str, Any], draft: Draft, connections: Iterable[Connection]) -> int:
    missed = (count_values(unread) if unread else 0) + draft.missed
    missed += sum([count_values(step.unread) for step in draft.steps if step.unread])
    missed += sum([count_values(trigger.unread) for trigger in draft.triggers if trigger.unread])
    missed += sum([count_values(connection.unread) for connection in connections if connection.unread])
    return missed


def _with_surroundings(flow: Flow, around: dict[str, Any], several: bool) -> Flow:
    """The first flow of a document with what stands around the flows; of ``several`` its values are not among those counted."""
    left = count_values(around)
    content = Content(values=flow.content.values + (left if several else 0), unread=flow.content.unread + left)
    return structs.replace(flow, around=around, content=content)

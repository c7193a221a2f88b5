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
    Link,
    ModelUse,
    Origin,
    Retry,
    Step,
    Trigger,
    Variable,
)
from zeitbuch.readers.input.limits import count_values
from zeitbuch.readers.input.pointers import last_key

from .paths import Claims, Getter, claim, getter, leftover, number, text, unclaimed, whole
from .placeholders import Placeholders
from .query import Query
from .rules import KEY, Dialect, Items, Recogniser
from .step_plan import Plan, Plans, inputs_of, model_of, repeat_of, schedule_of


def with_key(pointer: str, item: dict[str, Any]) -> dict[str, Any]:
    """A copy that also holds the key under which it stands."""
    return {**item, KEY: last_key(pointer)}


class Draft:
    """The parts of one flow while it is being read."""

    def __init__(self, base: Origin, pointer: str) -> None:
        self.source = base.source
        self.member = base.member
        self.pointer = pointer
        self.names: dict[str, str] = {}
        self.steps: list[Step] = []
        self.triggers: list[Trigger] = []
        self.links: list[Link] = []
        self.cases: dict[str, dict[str, tuple[str, str]]] = {}
        self.problems: list[Problem] = []
        self.lost: list[dict[str, Any]] = []
        self.missed = 0  # values of steps that were only counted as unread

    def origin(self, pointer: str) -> Origin:
        return Origin(self.source, self.pointer + pointer, self.member)

    def problem(self, code: str, message: str, hint: str, pointer: str) -> None:
        self.problems.append(Problem(code, "error", message, self.origin(pointer), hint))


class StepReader:
    """Reads single steps and triggers of one dialect. An ``outline`` leaves out inputs, references, retries,
    positions and the like: what a list of flows does not show; without ``texts`` prompts and notes too."""

    def __init__(self, dialect: Dialect, outline: bool = False, texts: bool = True) -> None:
        rule = dialect.step
        self.outline = outline
        self.texts = texts
        claimed: Claims = {}
        inside = dialect.inside
        self.keyed = dialect.keyed
        for path in (
            rule.id, rule.name, rule.operation, rule.scope, rule.next, rule.enabled, rule.disabled, rule.connection, rule.note,
            rule.position, rule.retries, rule.retry_wait, rule.timeout, rule.on_fault, rule.noise,
        ):  # fmt: skip
            claim(claimed, path)
        for hold in inside:
            claim(claimed, hold.at)
        if dialect.predecessors is not None:
            claim(claimed, dialect.predecessors.at)
        for pointer in dialect.pointer:
            claim(claimed, pointer.at)
        if self.keyed:
            claim(claimed, KEY)
        self.rule = rule
        self.plans = Plans(dialect, rule, rule.settings, claimed)
        self.places = Placeholders(None if outline else dialect.placeholders)
        self.id = getter(rule.id)
        self.name = getter(rule.name)
        self.operation = getter(rule.operation)
        self.scope = getter(rule.scope)
        self.settings = getter("" if rule.settings == "." else rule.settings)
        self.connection = getter(rule.connection)
        self.note = getter(rule.note)
        self.enabled = getter(rule.enabled)
        self.disabled = getter(rule.disabled)
        self.position = [getter(part) for part in rule.position]
        self.retries = getter(rule.retries)
        self.retry_wait = getter(rule.retry_wait)
        self.timeout = getter(rule.timeout)
        self.on_fault = getter(rule.on_fault)
        self.optional = self._optional()

    def _where(self, raw: dict[str, Any]) -> tuple[float, float] | None:
        if len(self.position) != 2:
            return None
        x, y = number(self.position[0](raw)), number(self.position[1](raw))
        return None if x is None or y is None else (x, y)

    def _on(self, raw: dict[str, Any]) -> bool:
        return self.enabled(raw) is not False and self.disabled(raw) is not True

    def found(self, query: Query, raw: Any) -> list[tuple[str, dict[str, Any]]]:
        """The objects that a query selects, with their pointers and, where the dialect asks for it, their keys."""
        if self.keyed:
            return [(part, with_key(part, value)) for part, value in query.find(raw) if type(value) is dict]
        return [(part, value) for part, value in query.find(raw) if type(value) is dict]

    def identity(self, raw: dict[str, Any]) -> tuple[str, str]:
        """Id and name of a step; a step without id goes by its name."""
        name = text(self.name(raw))
        return text(self.id(raw)) or name, name

    def plan(self, raw: dict[str, Any]) -> Plan:
        return self.plans.of(text(self.operation(raw)))

    def trigger(self, raw: dict[str, Any], pointer: str, draft: Draft, plan: Plan) -> Trigger:
        """A trigger written in the shape of a step."""
        step_id, name = self.identity(raw)
        get = plan.get
        kind = plan.rule.trigger
        assert kind is not None
        settings = raw if plan.all_inputs else self.settings(raw)
        return Trigger(
            id=step_id,
            kind=kind,
            name=name,
            operation=text(self.operation(raw)),
            schedule=schedule_of(plan, raw),
            event=text(get["event"](raw)) if "event" in get else "",
            condition=text(get["condition"](raw)) if "condition" in get else "",
            batch=whole(get["batch"](raw)) if "batch" in get else None,
            connection=text(self.connection(raw)) or None,
            inputs=() if self.outline else inputs_of(plan, settings, self.places, draft.names),
            enabled=self._on(raw),
            unread={} if plan.all_inputs else leftover(raw, plan.outside),
            position=self._where(raw),
            origin=draft.origin(pointer),
        )

    def step(self, raw: dict[str, Any], pointer: str, draft: Draft, plan: Plan, scope: str | None) -> Step:
        """One step."""
        if self.outline:
            return self._outlined(raw, draft, plan, scope)
        name = text(self.name(raw))
        get = plan.get
        names = draft.names
        more: dict[str, Any] = {}
        for field, read in self.optional:
            value = read(raw)
            if value is not None:
                more[field] = value
        if plan.uses_model:
            more["model"] = model_of(plan, raw, self.places, names)
        if plan.kind == "loop":
            more["repeat"] = repeat_of(plan, raw, self.places, names)
        more["inputs"] = inputs_of(plan, raw if plan.all_inputs else self.settings(raw), self.places, names)
        more["origin"] = Origin(draft.source, draft.pointer + pointer, draft.member)
        if "condition" in get:
            condition = text(get["condition"](raw))
            more["condition"] = condition or None
            more["refs"] = self.places.in_text(condition, names)
        if "calls" in get:
            more["calls"] = text(get["calls"](raw)) or None
        if scope is not None:
            more["scope"] = scope
        if not plan.all_inputs:
            rest = leftover(raw, plan.outside)
            if rest:
                more["unread"] = rest
        return Step(
            id=text(self.id(raw)) or name,
            kind=plan.kind,
            name=name,
            operation=text(self.operation(raw)),
            effect=plan.rule.effect,
            inclusive=plan.rule.inclusive,
            per_item=plan.rule.per_item,
            yields=plan.rule.yields,
            ends=plan.rule.ends,
            **more,
        )

    def _outlined(self, raw: dict[str, Any], draft: Draft, plan: Plan, scope: str | None) -> Step:
        """What a list of flows needs of a step, and no more; what was not read is only counted."""
        name = self.name(raw)
        key = self.id(raw)
        get = plan.get
        if scope is None and self.rule.scope:
            scope = text(self.scope(raw)) or None
        model = None
        if plan.uses_model:
            if self.texts:
                model = model_of(plan, raw, self.places, draft.names)
            elif "model" in get:
                model = ModelUse(name=text(get["model"](raw)) or None)
        if not plan.all_inputs:
            draft.missed += unclaimed(raw, plan.checks)
        return Step(
            id=key if type(key) is str and key else text(key) or text(name),
            kind=plan.kind,
            name=name if type(name) is str else text(name),
            operation=text(self.operation(raw)) if self.texts else "",
            scope=scope,
            model=model,
            calls=(text(get["calls"](raw)) or None) if "calls" in get else None,
            note=text(self.note(raw)) if self.texts else "",
        )

    def _optional(self) -> list[tuple[str, Getter]]:
        """Readers of the fields that the dialect names paths for; None means: as by default."""
        rule = self.rule
        found: list[tuple[str, Getter]] = []
        if rule.enabled or rule.disabled:
            found.append(("enabled", lambda raw: None if self._on(raw) else False))
        if rule.scope:
            found.append(("scope", lambda raw: text(self.scope(raw)) or None))
        if rule.note:
            found.append(("note", lambda raw: text(self.note(raw)) or None))
        if rule.connection:
            found.append(("connection", lambda raw: text(self.connection(raw)) or None))
        if len(rule.position) == 2:
            found.append(("position", self._where))
        if rule.timeout:
            found.append(("timeout", lambda raw: number(self.timeout(raw))))
        if rule.retries:
            found.append(("retry", self._retry))
        if rule.on_fault:
            faults = rule.on_faults
            found.append(("on_fault", lambda raw: faults.get(text(self.on_fault(raw)))))
        return found

    def _retry(self, raw: dict[str, Any]) -> Retry | None:
        tries = whole(self.retries(raw))
        return Retry(attempts=tries, wait=number(self.retry_wait(raw))) if tries else None

    def cases(self, raw: dict[str, Any], plan: Plan) -> dict[str, tuple[str, str]]:
        """Outlet -> (label, condition) of a decision."""
        if plan.cases is None:
            return {}
        function, outlet, label, condition = plan.cases
        found: dict[str, tuple[str, str]] = {}
        listed = function(raw)
        for position, case in enumerate(listed if isinstance(listed, list) else []):
            if isinstance(case, dict):
                key = text(outlet(case)) if outlet is not None else str(position)
                found[key] = (text(label(case)) or key, text(condition(case)))
        return found


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
            name: getter(getattr(flow, name))
            for name in ("id", "name", "description", "state", "owners", "folder", "environment", "version", "created", "changed")
        }  # fmt: skip
        self.variables = _ItemReader(flow.variables)
        self.connections = _ItemReader(flow.connections)
        claims: Claims = {}
        for name in self.get:
            claim(claims, getattr(flow, name))
        claim(claims, flow.noise)
        for place in (flow.variables, flow.connections, dialect.link, dialect.adjacency, dialect.trigger, dialect.step):
            if place is not None:
                claim(claims, _top(place.at))
        self.claims = claims

    def flows(self, document: Any, base: Origin, count: int) -> Iterator[tuple[Flow, list[Problem]]]:
        """Every flow of a document with the problems found in it."""
        found = self.flows_at.find(document)
        for pointer, raw in found:
            if isinstance(raw, dict):
                # What surrounds a single flow is its wrapping and counts with it.
                yield self._flow(raw, pointer, base, count if len(found) == 1 else count_values(raw))

    def holds(self, document: Any) -> bool:
        """Whether a document without its wrapping is a flow of this dialect: its steps are where they should be."""
        if not isinstance(document, dict):
            return False
        found = self.steps.found(self.steps_at, document)
        return bool(found) and all(text(self.steps.operation(mapping)) for _, mapping in found)

    def bare(self, document: dict[str, Any], base: Origin, count: int) -> tuple[Flow, list[Problem]]:
        """The flow of a document without its wrapping."""
        return self._flow(document, base.pointer, base, count)

    def _flow(self, raw: dict[str, Any], pointer: str, base: Origin, count: int) -> tuple[Flow, list[Problem]]:
        draft = Draft(base, pointer)
        get = self.get
        whole_flow = not self.steps.outline
        self.shape.read(raw, draft)
        state = text(get["state"](raw))
        known: FlowState = self.dialect.flow.states.get(state, "unknown")
        owners = get["owners"](raw)
        unread = leftover(raw, self.claims)
        if draft.lost:
            unread["unread parts"] = draft.lost
        name = text(get["name"](raw))
        missed = (count_values(unread) if unread else 0) + draft.missed
        missed += sum([count_values(step.unread) for step in draft.steps if step.unread])
        missed += sum([count_values(trigger.unread) for trigger in draft.triggers if trigger.unread])
        flow = Flow(
            id=text(get["id"](raw)) or name or pointer or base.file,
            name=name,
            description=text(get["description"](raw)),
            state=known,
            owners=tuple(filter(None, map(text, owners if isinstance(owners, list) else [owners]))),
            folder=text(get["folder"](raw)),
            environment=text(get["environment"](raw)),
            version=text(get["version"](raw)),
            created=text(get["created"](raw)),
            changed=text(get["changed"](raw)),
            triggers=tuple(draft.triggers),
            steps=tuple(draft.steps),
            links=tuple(draft.links),
            connections=tuple(
                Connection(id=mapping.get("id", ""), name=mapping.get("name", ""), service=mapping.get("service", ""),
                           account=mapping.get("account", ""), unread=left)
                for mapping, _, left in (self.connections.read(raw) if whole_flow else ())
            ),
            variables=tuple(
                Variable(name=mapping.get("name", "") or mapping.get("id", ""), value=value, description=mapping.get("description", ""))
                for mapping, value, _ in (self.variables.read(raw) if whole_flow else ())
            ),
            unread=unread,
            format=self.dialect.name,
            content=Content(values=count, unread=missed),
            origin=base.at(pointer),
        )  # fmt: skip
        return flow, draft.problems


def _top(query: str) -> str:
    """The dotted path to the list that a JSONPath query from the flow walks into."""
    path = query.removeprefix("$").split("[", 1)[0].strip(".")
    return path


class _ItemReader:
    """Reads a list of named things (variables, connections)."""

    def __init__(self, rule: Items | None) -> None:
        self.query = Query(rule.at) if rule is not None else None
        self.value = getter(rule.value) if rule is not None else getter("")
        self.claims: Claims = {KEY: True}
        self.get = {}
        self.keyed = rule is not None and KEY in (rule.id, rule.name)
        if rule is not None:
            for name in ("id", "name", "service", "account", "description"):
                paths = getattr(rule, name)
                if paths:
                    self.get[name] = getter(paths)
                    claim(self.claims, paths)
            claim(self.claims, rule.value)

    def read(self, raw: dict[str, Any]) -> Iterator[tuple[dict[str, str], Any, dict[str, Any]]]:
        if self.query is None:
            return
        for pointer, item in self.query.find(raw):
            if isinstance(item, dict):
                if self.keyed:
                    item = with_key(pointer, item)
                yield (
                    {key: text(function(item)) for key, function in self.get.items()},
                    self.value(item),
                    leftover(item, self.claims),
                )

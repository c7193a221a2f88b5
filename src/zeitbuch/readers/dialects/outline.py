# The quick way through a flat flow when only an outline without texts is wanted, as for an inventory of thousands. It
# does what the readers of flat flows and of links do for plain cases, and gives up on anything unusual: then those do it.
"""Outlines of flat flows, quickly."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import chain
from typing import TYPE_CHECKING, Any

from zeitbuch.core.model.records import Link, LinkRole, ModelUse, Step

from .draft import Draft
from .gates import find_gates
from .links import WITH_OUTCOMES, Links, pointer_targets, unclaimed_targets
from .named_tools import tool_names
from .paths import Getter, as_text
from .step_plan import Plan

if TYPE_CHECKING:
    from .flat import Flat


def outline_flow(shape: Flat, raw: dict[str, Any], draft: Draft) -> bool:
    """Fills the draft; False, with the draft as it was, when the flow has something this way does not know."""
    steps, links = shape.steps, shape.links
    if shape.triggers.rule is not None or steps.own_paths or not links.quick:
        return False
    get_id, get_operation, plans = steps.id, steps.operation, steps.plans
    get_scope = steps.scope if steps.rule.scope else None
    made: list[Step] = []
    starts: list[tuple[dict[str, Any], Plan]] = []
    kinds: dict[str, str] = {}
    missed = 0
    known = plans.made
    for item in shape.query.find_values(raw):
        if type(item) is not dict:
            return False
        operation = get_operation(item)
        plan = known.get(operation) if type(operation) is str else None
        if plan is None:
            plan = plans.plan_of(as_text(operation), item)
        key = get_id(item)
        if type(key) is not str:
            key = as_text(key)
        if not key or key in kinds:
            return False
        if plan.rule.trigger is not None:
            kinds[key] = "\x00start"
            starts.append((item, plan))
            continue
        kinds[key] = plan.kind
        unread, refused = plan.count_unread(item)
        # What is told needs its place; a link may say otherwise than the case it takes.
        told = refused and any([one.expected for one in refused])
        if told or (plan.cases is not None and links.names_cases) or _has_steps_around(plan, item):
            return False
        missed += unread
        if plan.cases is not None and plan.cases.at(item) is not None:
            draft.cases[key] = steps.cases_of(item, plan)
        bare = plan.is_bare and get_scope is None
        made.append(Step(id=key, kind=plan.kind) if bare else _outline_step(plan, item, key, get_scope))
    arrows = _outline_links(shape, raw, kinds, draft)
    if arrows is None:
        draft.cases.clear()
        draft.taken_cases.clear()
        return False
    draft.tell_idle_cases()
    draft.steps += made
    draft.links += arrows
    draft.missed += missed
    for item, plan in starts:
        draft.triggers.append(steps.read_trigger(item, "", draft, plan))
    return True


def _has_steps_around(plan: Plan, item: dict[str, Any]) -> bool:
    """Whether a decision or a loop belongs before or around a step, or tools to it."""
    repeats = plan.rounds is not None and plan.rounds.repeats(item)
    return (
        repeats
        or bool(plan.gates and find_gates(plan.gates, item, ""))
        or ("tools" in plan.get and bool(tool_names(plan, item)))
    )


def _outline_step(plan: Plan, item: dict[str, Any], key: str, get_scope: Getter | None) -> Step:
    model = calls = None
    get = plan.get
    if plan.uses_model and "model" in get:
        model = ModelUse(name=as_text(get["model"](item)) or None)
    if "calls" in get:
        calls = as_text(get["calls"](item)) or None
    scope = (as_text(get_scope(item)) or None) if get_scope is not None else None
    return Step(id=key, kind=plan.kind, scope=scope, model=model, calls=calls)


def _outline_links(shape: Flat, raw: dict[str, Any], kinds: dict[str, str], draft: Draft) -> list[Link] | None:
    """The links between known steps, or None when one has an end that is no step."""
    place = {key: index if kind != "\x00start" else -1 for index, (key, kind) in enumerate(kinds.items())}
    found: list[Link] = []
    lost: list[dict[str, Any]] = []
    for source, outlet, target in _written_links(shape, raw, lost):
        if type(source) is not str or type(target) is not str or source not in kinds or target not in kinds:
            return None
        role: LinkRole | None = "case" if kinds[source] == "decide" else "next"
        if outlet:
            role = _role_of_outlet(shape, kinds[source], source, as_text(outlet), draft)
        if role is None:
            return None
        if role != "attach" and place[source] >= place[target]:
            return None  # perhaps a cycle, and its message needs the names of the steps
        found.append(Link(source=source, target=target, role=role))
    draft.lost += lost
    return found


def _role_of_outlet(shape: Flat, kind: str, source: str, outlet: str, draft: Draft) -> LinkRole | None:
    """The role of a link from an outlet; None when it runs the other way, or into a loop."""
    if source in draft.cases and draft.case_of(source, outlet) is not None:
        return "case"
    rule = shape.links.rule_for_outlet(outlet)
    if rule is None:
        return "case" if kind in WITH_OUTCOMES else "next"
    return None if rule.reversed or rule.role == "body" else rule.role


def _written_links(shape: Flat, raw: dict[str, Any], lost: list[dict[str, Any]]) -> Iterator[tuple[Any, Any, Any]]:
    """(source, outlet, target) of every link as written; what is not understood of a record goes to ``lost``."""
    links = shape.links
    return chain(
        _written_records(raw, lost, links),
        _written_tables(raw, lost, links),
        _written_pointers(shape, raw, links) if links.pointers else (),
    )


def _written_records(raw: dict[str, Any], lost: list[dict[str, Any]], links: Links) -> Iterator[tuple[Any, Any, Any]]:
    for listed in links.lists:
        source_of, target_of = listed.ends
        outlet_of = listed.outlet
        items = listed.at.find_values(raw)
        plain = listed.plain_ends(items)
        if plain is not None:
            yield from plain
            continue
        for item in items:
            if type(item) is not dict:
                yield None, None, None
                continue
            yield source_of(item), outlet_of(item), target_of(item)
            rest = listed.rest_of_record(item)
            if rest:
                lost.append(rest)


def _written_tables(raw: dict[str, Any], lost: list[dict[str, Any]], links: Links) -> Iterator[tuple[Any, Any, Any]]:
    for adjacency in links.adjacencies:
        end = adjacency.target
        for table in adjacency.at.find_values(raw):
            if type(table) is not dict:
                yield None, None, None
            for key, value in table.items() if type(table) is dict else ():
                if end.get is not None:
                    lost += list(unclaimed_targets(value, end.get, end.claims))
                for outlet, target in _plain_targets(value, end.get):
                    yield key, outlet, target


def _written_pointers(shape: Flat, raw: dict[str, Any], links: Links) -> Iterator[tuple[Any, Any, Any]]:
    get_id = shape.steps.id
    for item in shape.query.find_values(raw):
        for pointer in links.pointers if type(item) is dict else ():
            for outlet, target in _plain_targets(pointer.at(item), None):
                yield get_id(item), outlet or pointer.rule.outlet, target


def _plain_targets(value: Any, target: Getter | None) -> Iterable[tuple[str, str]]:
    """As ``pointer_targets``; the common forms at once."""
    if type(value) is str:
        return (("", value),) if value else ()
    if type(value) is dict and target is None:
        pairs = []
        for outlet, inner in value.items():
            if type(inner) is list and len(inner) == 1:
                (inner,) = inner
            if type(inner) is not str:
                return pointer_targets(value, None)
            if inner:
                pairs.append((outlet, inner))
        return pairs
    return () if value is None else pointer_targets(value, target)

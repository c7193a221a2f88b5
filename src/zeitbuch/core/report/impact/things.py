# What may be gone: one row a sort of thing, which says who needs it. A value that is only known in a run may mean the thing: perhaps.
"""Things, and the steps and triggers that need them."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from typing import NamedTuple

from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.checks.parts import approvers_of, fixed_inputs, refs_of_part, store_of, texts_of
from zeitbuch.core.graph.flow_calls import service_name
from zeitbuch.core.model.kinds import MODEL_KINDS
from zeitbuch.core.model.name_patterns import pattern_fits
from zeitbuch.core.model.named_connections import named_connections
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Flow, Step, Trigger
from zeitbuch.core.report.what_if import Odds


class Need(NamedTuple):
    """A step or trigger that needs the thing, why, and how sure that is."""

    part: Step | Trigger
    why: str
    odds: Odds = "certain"


class ThingRow(NamedTuple):
    """A sort of thing: what names it, who needs it in a flow, and the names that there are."""

    sort: str
    words: str
    needs: Callable[[Flow, str], Iterator[Need]]
    names: Callable[[EstateView], Iterator[str]]


def _parts(flow: Flow) -> Iterator[Step | Trigger]:
    yield from (trigger for trigger in flow.triggers if trigger.enabled)
    yield from (step for step in flow.steps if step.enabled)


def _by_connection(flow: Flow, name: str) -> Iterator[Need]:
    keys = {one.id: one for one in flow.connections if pattern_fits(name, one.id, one.name, one.account)}
    for part in _parts(flow):
        if part.connection and (part.connection in keys or pattern_fits(name, part.connection)):
            one = keys.get(part.connection)
            yield Need(part, f"uses the connection ‘{(one.name or one.id) if one is not None else part.connection}’")


def _connection_names(estate: EstateView) -> Iterator[str]:
    for flow in estate.flows:
        yield from (one.name or one.id for one in named_connections(flow))


def _by_model(flow: Flow, name: str) -> Iterator[Need]:
    for step in flow.steps:
        if not step.enabled or step.kind not in MODEL_KINDS or step.model is None:
            continue
        if step.model.name and pattern_fits(name, step.model.name):
            yield Need(step, f"calls the model ‘{step.model.name}’")
        elif step.model.name is not None and "{" in step.model.name:
            yield Need(step, f"calls a model that a run chooses (‘{step.model.name}’)", "perhaps")


def _model_names(estate: EstateView) -> Iterator[str]:
    for flow in estate.flows:
        yield from (step.model.name for step in flow.steps if step.model is not None and step.model.name)


def _by_flow(flow: Flow, name: str) -> Iterator[Need]:
    for step in flow.steps:
        if step.enabled and step.calls and "{" in step.calls:
            yield Need(step, f"calls a flow that a run chooses (‘{step.calls}’)", "perhaps")


def _by_store(flow: Flow, name: str) -> Iterator[Need]:
    for step in flow.steps:
        if not step.enabled:
            continue
        named = [store_of(step), service_name(flow, step.connection) if step.connection else ""]
        named += [
            text
            for one, text in fixed_inputs(step)
            if one.name.casefold() in ("table", "store", "shelf", "bucket", "sheet", "database")
        ]
        if any(one and pattern_fits(name, one) for one in named):
            yield Need(
                step,
                f"{'reads' if step.effect == 'read' else 'fills or changes' if step.effect != 'none' else 'uses'} the store",
            )


def _store_names(estate: EstateView) -> Iterator[str]:
    for flow in estate.flows:
        for step in flow.steps:
            yield from (
                one for one in (store_of(step), service_name(flow, step.connection) if step.connection else "") if one
            )


def _by_variable(flow: Flow, name: str) -> Iterator[Need]:
    for part in _parts(flow):
        if any(ref.variable and pattern_fits(name, ref.variable) for ref in refs_of_part(part)):
            yield Need(part, f"takes the variable ‘{name}’")


def _variable_names(estate: EstateView) -> Iterator[str]:
    for flow in estate.flows:
        yield from (one.name for one in flow.variables)


def _by_person(flow: Flow, name: str) -> Iterator[Need]:
    accounts = {one.id for one in flow.connections if one.account and pattern_fits(name, one.account)}
    for part in _parts(flow):
        if part.connection in accounts:
            yield Need(part, "acts under the person's account")
    for step in flow.steps:
        if step.enabled and any(pattern_fits(name, one) for one in approvers_of(step)):
            yield _question_to(step, name)


def _question_to(step: Step, name: str) -> Need:
    """An approval that asks a person: without enough others it waits for nobody."""
    others = [one for one in approvers_of(step) if not pattern_fits(name, one)]
    needed = (step.approval.needed if step.approval is not None else None) or 1
    if needed > len(others):
        return Need(step, "asks the person")
    return Need(step, f"asks the person or {', '.join(others)}", "not")


def _person_names(estate: EstateView) -> Iterator[str]:
    yield from (person.name for person in estate.facts.people)
    for flow in estate.flows:
        yield from flow.owners


def _by_host(flow: Flow, name: str) -> Iterator[Need]:
    pattern = re.compile(rf"(?i)(?:://|@|^)(?:[^/@\s]*@)?{re.escape(name)}(?![\w.-])")
    for part in _parts(flow):
        texts = [text for what, text in texts_of(part) if not what.endswith("prompt")]
        if any(pattern.search(text) for text in texts):
            yield Need(part, f"calls ‘{name}’")
        elif any(one.role == "address" and one.decided != "fixed" for one in part.inputs):
            yield Need(part, "calls an address that a run chooses", "perhaps")


def _host_names(estate: EstateView) -> Iterator[str]:
    for flow in estate.flows:
        for part in _parts(flow):
            for _, text in texts_of(part):
                yield from re.findall(r"://(?:[^/@\s]*@)?([\w.-]+)", text)


def _by_step(flow: Flow, name: str) -> Iterator[Need]:
    of, _, key = name.partition("/")
    if pattern_fits(of, flow.id, flow.name):
        for step in flow.steps:
            if step.enabled and pattern_fits(key, step.id, step.name):
                yield Need(step, "is the step")


def _step_names(estate: EstateView) -> Iterator[str]:
    for flow in estate.flows:
        yield from (f"{flow.id}/{step.id}" for step in flow.steps)


THINGS: dict[str, ThingRow] = {row.sort: row for row in (
    ThingRow("connection", "a connection, by name, id or account", _by_connection, _connection_names),
    ThingRow("model", "a model", _by_model, _model_names),
    ThingRow("flow", "a flow, by id or name", _by_flow, lambda estate: iter(estate.places)),
    ThingRow("store", "a store, table or shelf", _by_store, _store_names),
    ThingRow("variable", "a variable", _by_variable, _variable_names),
    ThingRow("person", "a person, by name or address", _by_person, _person_names),
    ThingRow("host", "a host or address", _by_host, _host_names),
    ThingRow("step", "a step: FLOW/STEP", _by_step, _step_names),
)}  # fmt: skip


def thing_of(text: str) -> tuple[ThingRow, str]:
    """The sort and the name of 'model:fulmar-large'. Raises ZeitbuchError for a sort that is none."""
    sort, sign, name = text.partition(":")
    row = THINGS.get(sort.strip().casefold())
    if row is None or not sign or not name.strip():
        known = ", ".join(f"{one}:" for one in THINGS)
        raise fail("thing", f"expected one of {known} and a name, found '{text}'", "example: model:fulmar-large-2")
    return row, name.strip()

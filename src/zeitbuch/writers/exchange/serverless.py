# Flows in the Serverless Workflow DSL 1.0 (CNCF): head, triggers, what the document shares. The tasks stand in
# serverless_order.py (which follows which) and serverless_tasks.py (what each does).
"""Writing Serverless Workflow definitions."""

from __future__ import annotations

import re
from typing import Any

from zeitbuch.core.model.records import Estate, Flow, Schedule, Trigger
from zeitbuch.writers.theme.terminal import TextLook

from .sayable import Exchanged, NotSayable, Outline, Written, exchange_documents, given_values, slug, unique_names
from .serverless_order import TaskWriter
from .serverless_tasks import span_of

_VERSION = re.compile(r"\d+\.\d+\.\d+(-[\w.]+)?")
_USED = ("authentications", "errors")
_WHOLE = ("input", "output", "timeout", "evaluate")


def exchange_flows(estate: Estate) -> Exchanged:
    """A document for each flow that can be said."""
    return exchange_documents(estate, _write_flow)


def write_serverless(estate: Estate, look: TextLook) -> str:
    """Flows as Serverless Workflow documents."""
    return exchange_flows(estate).text


def _write_flow(flow: Flow) -> tuple[dict[str, Any], Written]:
    outline = Outline(flow)
    steps = list(outline.steps.values())
    names = unique_names(steps)
    tasks = TaskWriter(outline, names).write_level(None)
    if not tasks:
        raise NotSayable("it has no step that a trigger leads to")
    space, _, name = flow.id.rpartition("/")
    version = flow.version if _VERSION.fullmatch(flow.version) else "0.1.0"
    head: dict[str, Any] = {
        "dsl": "1.0.0", "namespace": slug(space or flow.folder or "flows"), "name": slug(name), "version": version,
    }  # fmt: skip
    if flow.name and flow.name != head["name"]:
        head["title"] = flow.name
    if flow.description:
        head["summary"] = flow.description
    shared = _shared(flow)
    whole = {
        "document": head, "schedule": _schedule_of(flow.triggers), "use": shared, **_whole_parts(flow), "do": tasks,
    }  # fmt: skip
    return {key: value for key, value in whole.items() if value}, Written(flow, names)


def _shared(flow: Flow) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for variable in flow.variables:
        part, _, name = variable.name.partition(".")
        if part == "secrets" and name:
            found.setdefault("secrets", []).append(name)
        elif part in _USED and name:
            found.setdefault(part, {})[name] = variable.value
    return found


def _whole_parts(flow: Flow) -> dict[str, Any]:
    return {variable.name: variable.value for variable in flow.variables if variable.name in _WHOLE}


def _schedule_of(triggers: tuple[Trigger, ...]) -> dict[str, Any]:
    """The clock and the events that start a run. What starts it otherwise has no place in the DSL."""
    found: dict[str, Any] = {}
    events: list[dict[str, Any]] = []
    for trigger in triggers:
        if not trigger.enabled:
            continue
        if trigger.schedule is not None:
            for key, value in _clock_of(trigger, trigger.schedule).items():
                found.setdefault(key, value)
        elif trigger.kind == "event" and trigger.event:
            given = {name: value for name, value in given_values(trigger.inputs).items() if name != "together with"}
            events.append({"with": {"type": trigger.event, **given}})
    return {**found, **_events_of(triggers, events)}


def _clock_of(trigger: Trigger, schedule: Schedule) -> dict[str, Any]:
    if schedule.cron and len(schedule.cron.split()) == 5 and not schedule.zone:
        return {"cron": schedule.cron}
    if schedule.every:
        key = "after" if trigger.operation == "schedule after" else "every"
        return {key: span_of(schedule.every)}
    return {}


def _events_of(triggers: tuple[Trigger, ...], events: list[dict[str, Any]]) -> dict[str, Any]:
    if not events:
        return {}
    together = any(binding.name == "together with" for trigger in triggers for binding in trigger.inputs)
    return {"on": {"one": events[0]} if len(events) == 1 else {"all" if together else "any": events}}

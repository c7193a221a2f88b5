# The head of a Serverless Workflow document: what starts it, what it shares among its tasks, and what is not understood.
"""Triggers, variables and the unread part of a workflow."""

from __future__ import annotations

from typing import Any

from zeitbuch.core.model.records import Origin, Schedule, Trigger, Variable
from zeitbuch.readers.input.link_builder import as_dict, as_list

from .tasks import duration_of

_KNOWN = frozenset({"document", "input", "use", "do", "timeout", "output", "schedule", "evaluate", "metadata"})


def read_triggers(document: dict[str, Any], base: Origin) -> list[Trigger]:
    """The clock and the events that start the workflow; by hand when it names none."""
    schedule = as_dict(document.get("schedule"))
    found: list[Trigger] = []
    origin = base.at("/schedule")
    if isinstance(schedule.get("cron"), str):
        found.append(
            Trigger(
                id="schedule.cron",
                kind="schedule",
                operation="schedule cron",
                schedule=Schedule(cron=schedule["cron"]),
                origin=origin,
            )
        )
    for key in ("every", "after"):
        span = duration_of(schedule.get(key))
        if span is not None:
            found.append(
                Trigger(
                    id=f"schedule.{key}",
                    kind="schedule",
                    operation=f"schedule {key}",
                    schedule=Schedule(every=span),
                    origin=origin,
                )
            )
    on = schedule.get("on")
    if isinstance(on, dict):
        for event in _event_types(on):
            found.append(
                Trigger(id=f"on.{len(found)}", kind="event", operation="schedule on", event=event, origin=origin)
            )
    if not found:
        found.append(Trigger(id="start", kind="manual", operation="start", origin=base.at("/document")))
    return found


def read_variables(document: dict[str, Any]) -> list[Variable]:
    """Secrets, authentications, errors and the settings of the whole workflow."""
    used = as_dict(document.get("use"))
    found = [Variable(name=f"secrets.{item}") for item in as_list(used.get("secrets")) if isinstance(item, str)]
    for part in ("authentications", "errors"):
        found += [Variable(name=f"{part}.{key}", value=value) for key, value in as_dict(used.get(part)).items()]
    for key in ("input", "output", "timeout", "evaluate"):
        if key in document:
            found.append(Variable(name=key, value=document[key]))
    return found


def unread_parts(document: dict[str, Any]) -> dict[str, Any]:
    """What of a document has no place in the model."""
    head = document["document"]
    unread: dict[str, Any] = {key: value for key, value in document.items() if key not in _KNOWN}
    for key in ("tags", "metadata"):
        if head.get(key):
            unread[f"document.{key}"] = head[key]
    if document.get("metadata"):
        unread["metadata"] = document["metadata"]
    rest = {
        key: value
        for key, value in as_dict(document.get("use")).items()
        if key not in ("functions", "retries", "timeouts", "errors", "secrets", "authentications")
    }
    if rest:
        unread["use"] = rest
    return unread


def _event_types(on: dict[str, Any]) -> list[str]:
    """The types of the events that set a flow off or that a task waits for."""
    found: list[str] = []
    for way in ("one", "any", "all"):
        for one in as_list(on.get(way)) or [on.get(way)]:
            given = as_dict(as_dict(one).get("with"))
            if given:
                found.append(str(given.get("type") or given.get("source") or "any event"))
            elif isinstance(one, dict):
                found.append("any event")
    return found

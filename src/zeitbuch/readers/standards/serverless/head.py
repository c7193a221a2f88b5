# The head of a Serverless Workflow document: what starts it, and what it shares among its tasks.
"""Triggers and variables of a workflow."""

from __future__ import annotations

from typing import Any

from zeitbuch.core.model.records import Binding, Origin, Schedule, Trigger, Variable
from zeitbuch.readers.input.views import View

from .tasks import make_binding


def read_triggers(document: View, base: Origin) -> list[Trigger]:
    """The clock and the events that start the workflow; by hand when it names none."""
    schedule = document.view("schedule")
    origin = base.at("/schedule")
    found: list[Trigger] = []
    cron = schedule.text("cron")
    if cron:
        found.append(_clock("cron", Schedule(cron=cron), origin))
    for key in ("every", "after"):
        span = schedule.duration(key)
        if span is not None:
            found.append(_clock(key, Schedule(every=span), origin))
    for event, inputs, unread in _events(schedule.view("on")):
        found.append(
            Trigger(
                id=f"on.{len(found)}", kind="event", operation="schedule on", event=event, inputs=inputs, unread=unread, origin=origin
            )
        )  # fmt: skip
    return found or [Trigger(id="start", kind="manual", operation="start", origin=base.at("/document"))]


def _clock(key: str, schedule: Schedule, origin: Origin) -> Trigger:
    return Trigger(id=f"schedule.{key}", kind="schedule", operation=f"schedule {key}", schedule=schedule, origin=origin)


def _events(on: View) -> list[tuple[str, tuple[Binding, ...], dict[str, Any]]]:
    """(type, what else it must be, what is not understood) of each event that starts a run."""
    found = []
    for way in ("one", "any", "all"):
        several = isinstance(on.peek(way), list)
        filters = on.views(way) if several else [on.view(way)] if isinstance(on.peek(way), dict) else []
        for one in filters:
            given = one.view("with")
            event = given.text("type") or given.text("source") or "any event"
            rest = [make_binding(key, given.take(key), None) for key in given.value if key not in given.taken]
            if way == "all" and len(filters) > 1:
                rest.append(Binding(name="together with", value=len(filters) - 1))
            left = one.rest()
            for key in left:
                one.mark(key)  # it is told with the trigger
            found.append((event, tuple(rest), left))
    return found


def read_variables(document: View) -> list[Variable]:
    """Secrets, authentications, errors and the settings of the whole workflow."""
    used = document.view("use")
    found = [Variable(name=f"secrets.{item}") for item in used.texts("secrets")]
    for part in ("authentications", "errors"):
        given = used.view(part)
        found += [Variable(name=f"{part}.{key}", value=given.take(key)) for key in given.value]
    for key in ("input", "output", "timeout", "evaluate"):
        if key in document:
            found.append(Variable(name=key, value=document.take(key)))
    return found

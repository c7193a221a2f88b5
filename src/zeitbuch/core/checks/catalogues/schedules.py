"""A day's plan: what fires when."""

from __future__ import annotations

from collections.abc import Iterator

from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.checks.families import clock
from zeitbuch.core.checks.views import FlowView
from zeitbuch.core.model.kinds import AI_KINDS
from zeitbuch.core.model.records import Flow, Trigger
from zeitbuch.core.model.sheet import Column
from zeitbuch.core.model.words import trigger_words

from .records import Catalogue, Entry

_MARKS = {
    "zone-missing": "no time zone", "clock-change": "skipped or doubled by a clock change", "schedule-never-fires": "never fires",
}  # fmt: skip


def _rows(estate: EstateView) -> Iterator[Entry]:
    rows: list[tuple[str, Entry]] = []
    for flow in estate.flows:
        for trigger in flow.triggers:
            if trigger.schedule is not None and trigger.kind in ("schedule", "polling"):
                rows += _times(estate, flow, trigger)
    minutes: dict[str, int] = {}
    for at, _ in rows:
        minutes[at] = minutes.get(at, 0) + 1
    for at, row in sorted(rows, key=lambda one: (one[0] == "", one[0], one[1]["flow"])):
        if at and minutes[at] > 1:
            row["marks"] = [*row["marks"], f"with {minutes[at] - 1} other{'s' if minutes[at] > 2 else ''}"]
        yield row


def _times(estate: EstateView, flow: Flow, trigger: Trigger) -> Iterator[tuple[str, Entry]]:
    schedule = trigger.schedule
    assert schedule is not None
    marks = [
        words
        for row in clock.CHECKS
        if (words := _MARKS.get(row.code)) and any(hit.part is trigger for hit in row.find(FlowView(flow, estate)))
    ]
    marks += ["switched off"] if not trigger.enabled or flow.state == "off" else []
    calls = sum(step.kind in AI_KINDS for step in flow.steps if step.enabled)
    shown = {
        "flow": flow.title,
        "trigger": trigger.title,
        "when": trigger_words(trigger),
        "zone": schedule.zone or "",
        "ai_steps": calls,
        "marks": marks,
    }
    times = clock.daily_times(schedule.cron) if schedule.cron else []
    for hour, minute in times or [(-1, 0)]:
        at = f"{hour:02}:{minute:02}" if hour >= 0 else ""
        yield at, {"time": at or "often", **shown}


CATALOGUE = Catalogue(
    "schedules", "a day's plan of all schedules and polls", (
        Column("time", "time"), Column("zone", "zone", rank=1), Column("flow", "flow"), Column("when", "when"), Column("trigger", "trigger", rank=2),
        Column("ai_steps", "AI steps", "count", rank=1),
    ), _rows, is_used=False,
)  # fmt: skip

# Who answers for a flow, and when it fires.
"""Checks of ownership and of the clock."""

from __future__ import annotations

from collections.abc import Iterator

from zeitbuch.core.graph.phrases import quote_name

from .records import Check, Hit
from .views import FlowView


def _no_owner(view: FlowView) -> Iterator[Hit]:
    if not view.flow.owners and not view.is_of_standard:
        yield Hit(None, "the export names nobody who answers for the flow")


def _no_zone(view: FlowView) -> Iterator[Hit]:
    for trigger in view.flow.triggers:
        schedule = trigger.schedule
        if trigger.kind != "schedule" or not trigger.enabled or schedule is None or schedule.zone:
            continue
        if schedule.cron and _is_at_an_hour(schedule.cron):
            yield Hit(
                trigger,
                f"{quote_name(trigger.title)} fires at {quote_name(schedule.cron)}, and the export does not say in which time zone",
            )


def _is_at_an_hour(cron: str) -> bool:
    """Whether a cron text names hours: by the minute alone every zone is the same, but for half hours."""
    fields = cron.split()
    hour = fields[-4] if len(fields) in (5, 6) else "*"
    return hour not in ("*", "*/1")


CHECKS: tuple[Check, ...] = (
    Check("owner-missing", "low", "a flow without an owner",
          "Nobody is asked when it fails, and nobody signs for it.",
          "The owners that the export names.",
          "Owners who stand in another system.",
          "Name an owner in the builder.", _no_owner),
    Check("zone-missing", "low", "a time without a time zone",
          "It fires an hour or more off, or twice a year at another time.",
          "Schedules at certain hours whose export says no zone.",
          "Zones that the platform sets for all.",
          "State the zone.", _no_zone),
)  # fmt: skip

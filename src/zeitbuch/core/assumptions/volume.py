# How often a flow runs in a calendar month: counted from the schedule itself in its time zone (daylight saving
# included), from polling with its empty checks, or from declared events, conditions and batches. Unknown stays unknown.
"""Runs per month of triggers."""

from __future__ import annotations

import calendar
import math

from msgspec import Struct, structs

from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Flow, Schedule, Trigger

from .days import Days, Month, month_bounds
from .lookup import AssumptionLookup
from .quantities import DEFAULTS
from .recurrence import count_firings
from .uncertain import Uncertain, exceeds, in_each_world
from .values import Evidence, Value, weakest_evidence

_MANY = 50  # events or items at once, from which on one more or less makes no step that could be seen


class Volume(Struct, frozen=True):
    """Runs per month, None when unknown; ``checks`` counts the checks of polling triggers, empty ones too. ``items`` is
    what a run gets at once."""

    runs: float | None
    checks: float
    evidence: Evidence
    why: str = ""
    items: float = 1.0


def parse_month(text: str) -> Month:
    """'2026-11' -> (2026, 11); '2026' -> (2026, 0), an average month of that year. Raises ZeitbuchError for anything else."""
    year, dash, month = text.partition("-")
    if len(year) == 4 and year.isdecimal() and int(year) > 0:
        if not dash:
            return int(year), 0
        if month.isdecimal() and len(month) == 2 and 1 <= int(month) <= 12:
            return int(year), int(month)
    raise fail("month", f"expected a month as YYYY-MM or a year as YYYY, found '{text}'", "example: 2026-11")


def month_text(month: Month) -> str:
    """(2026, 11) -> '2026-11'; (2026, 0) -> '2026' for the average month."""
    return f"{month[0]:04d}-{month[1]:02d}" if month[1] else f"{month[0]:04d}"


def days_of(month: Month) -> float:
    """Days of a month, or of an average month of the year."""
    year, number = month
    return float(calendar.monthrange(year, number)[1]) if number else (366 if calendar.isleap(year) else 365) / 12


def schedule_runs(schedule: Schedule, month: Month, days: Days | None = None) -> float:
    """Times a schedule fires in a month (a twelfth of the year for an average month), or on some ``days`` of it."""
    spans = days.spans if days is not None else (month_bounds(month),)
    return sum([count_firings(schedule, first, after) for first, after in spans]) / (1 if month[1] else 12)


def cron_runs(cron: str, zone: str, month: Month) -> float:
    """Times a cron text fires within a month of its zone."""
    return schedule_runs(Schedule(cron=cron, zone=zone), month)


def runs_of_batches(items: float, admitted: float, batch: int | None) -> tuple[float, float]:
    """Runs that one occurrence with so many items causes when each is let through with a probability, and the items of a
    run. Without a batch limit one run takes all; with it, runs are the expected ceil(n / batch)."""
    if not items or not admitted:
        return 0.0, 1.0
    if items == 1 and type(items) is not Uncertain:
        return admitted, 1.0
    runs = in_each_world(
        lambda count, share: _runs_of_several(count, share, batch), items, admitted, smooth=exceeds(items, _MANY)
    )
    return runs, items * admitted / runs if runs else 1.0


def _runs_of_several(items: float, admitted: float, batch: int | None) -> float:
    low = math.floor(items)
    parts = [(low, 1 - (items - low)), (low + 1, items - low)]
    return sum(weight * _runs_of(count, admitted, batch) for count, weight in parts if weight)


def _runs_of(count: int, admitted: float, batch: int | None) -> float:
    if not count:
        return 0.0
    if batch is None or batch >= count:
        return float(1 - (1 - admitted) ** count)
    if admitted >= 1:
        return float(math.ceil(count / batch))
    if count > 5000:
        return count * admitted / batch + 0.5  # many: half a batch is left over on average
    up, down, whole = math.log(admitted), math.log1p(-admitted), math.lgamma(count + 1)
    return sum(
        math.exp(
            whole - math.lgamma(number + 1) - math.lgamma(count - number + 1) + number * up + (count - number) * down
        )
        * math.ceil(number / batch)
        for number in range(1, count + 1)
    )


def runs_of_check(events: float, items: float = 1.0, batch: int | None = None) -> float:
    """Runs that one check of a poll causes when so many events, of so many items each, came since the one before on average (at times
    that have nothing to do with each other: Poisson): one for all, or one for each batch."""
    if batch is None:
        return -math.expm1(-events)
    if events > 5000:
        return events * items / batch + 0.5  # many: half a batch is left over on average
    most = math.ceil(events + 12 * math.sqrt(events) + 12)
    return sum(
        math.exp(number * math.log(events) - events - math.lgamma(number + 1)) * math.ceil(number * items / batch)
        for number in range(1, most + 1)
        if events
    )


def trigger_volume(trigger: Trigger, lookup: AssumptionLookup, month: Month, called: Value | None) -> Volume:
    """Runs that one trigger causes in a month. ``called`` is what the estate's other flows cause by calling."""
    if not trigger.enabled:
        return Volume(0.0, 0.0, "export", "the trigger is switched off")
    names = (trigger.id, trigger.name)
    clocked = trigger.schedule is not None and trigger.kind in ("schedule", "polling")
    occurs = schedule_runs(trigger.schedule, month, lookup.days) if trigger.schedule is not None and clocked else 0.0
    checks = occurs if trigger.kind == "polling" else 0.0
    season, in_season = lookup.factor(month[1])
    declared = lookup.find("runs", trigger=names)
    if declared is not None:
        return Volume(declared.amount * season, checks, declared.evidence, declared.why + in_season)
    events = lookup.find("events", trigger=names)
    base: Value
    if clocked:
        if checks and events is not None:
            return _polled_events(trigger, lookup, names, season, events, checks)
        base = Value(occurs, "export", "counted from the schedule")
        if trigger.kind == "polling":
            base = _polled_runs(lookup, names, occurs, checks)
    else:
        if events is None:
            if trigger.kind == "call" and called is not None:
                return Volume(called.amount, 0.0, called.evidence, called.why)
            words = f"no volume declared for the {trigger.kind} trigger '{trigger.title}'"
            return Volume(
                None, 0.0, "default", f"{words} {lookup.days.words}".rstrip() if lookup.days is not None else words
            )
        base = Value(events.amount * season, events.evidence, events.why + in_season)
    return _volume_admitted(trigger, lookup, names, base, checks)


def _polled_runs(lookup: AssumptionLookup, names: tuple[str, str], occurs: float, checks: float) -> Value:
    hits = lookup.find("hit_rate", trigger=names) or lookup.default_of("hit_rate", _HITS)
    return Value(occurs * hits.amount, hits.evidence, f"{checks:,.0f} checks x {hits.amount:g} ({hits.why})")


_HITS = Value(DEFAULTS["hit_rate"], "default", "default share of checks that find something")
_ADMITTED = Value(DEFAULTS["accept_rate"], "default", "default share")
_ALL = Value(1.0, "export")


def _polled_events(
    trigger: Trigger, lookup: AssumptionLookup, names: tuple[str, str], season: float, events: Value, checks: float
) -> Volume:
    """Runs of a poll that finds so many events a month: a check takes what came since the one before, cut into batches."""
    items = lookup.find("items", trigger=names) or _ALL
    admitted = lookup.find("accept_rate", trigger=names)
    if admitted is None:
        admitted = lookup.default_of("accept_rate", _ADMITTED) if trigger.condition else _ALL
    found = events.amount * admitted.amount * season / checks
    runs = checks * in_each_world(
        lambda count, each: runs_of_check(count, each, trigger.batch),
        found,
        items.amount,
        smooth=exceeds(found, _MANY),
    )
    said = f"{events.amount * season:,.4g} events found by {checks:,.0f} checks ({events.why})"
    if admitted.amount < 1:
        said += f", {admitted.amount:g} of them let through ({admitted.why})"
    each = events.amount * season * admitted.amount * items.amount / runs if runs else 1.0
    evidence = weakest_evidence(events.evidence, items.evidence, admitted.evidence)
    return Volume(runs, checks, evidence, said, each)


def _volume_admitted(
    trigger: Trigger, lookup: AssumptionLookup, names: tuple[str, str], base: Value, checks: float
) -> Volume:
    """Occurrences go through the trigger's condition and are cut into batches."""
    items = lookup.find("items", trigger=names) or _ALL
    admitted = lookup.find("accept_rate", trigger=names)
    said = [base.why]
    if admitted is None:
        known = trigger.condition and base.evidence != "export" and trigger.kind not in ("schedule", "polling")
        admitted = lookup.default_of("accept_rate", _ADMITTED) if known else _ALL
    if admitted.amount < 1:
        said.append(f"{admitted.amount:g} of them let through ({admitted.why})")
    each, per_run = runs_of_batches(items.amount, admitted.amount, trigger.batch)
    if items.amount != 1:
        said.append(
            f"{items.amount:g} items at once ({items.why})" + (f", {trigger.batch} per run" if trigger.batch else "")
        )
    evidence = weakest_evidence(base.evidence, items.evidence, admitted.evidence)
    return Volume(base.amount * each, checks, evidence, ", ".join(said), per_run)


def flow_volume(
    flow: Flow, lookup: AssumptionLookup, month: Month, called: Value | None
) -> tuple[Volume, dict[str, Volume]]:
    """Runs of a flow in a month over all its triggers, and those of each trigger."""
    if flow.state == "off":
        return Volume(0.0, 0.0, "export", "the flow is switched off"), {}
    by_trigger = {trigger.id: trigger_volume(trigger, lookup, month, called) for trigger in flow.triggers}
    together = _triggers_together(flow, lookup)
    for name in together:
        volume = by_trigger[name]
        runs = None if volume.runs is None else volume.runs * (1 / len(together))
        by_trigger[name] = structs.replace(volume, runs=runs)
    parts = list(by_trigger.values())
    by_calls = Volume(called.amount, 0.0, called.evidence, called.why) if called is not None else None
    if not parts:
        return by_calls or Volume(None, 0.0, "default", "the flow has no trigger"), by_trigger
    told = together or any(trigger.kind == "call" for trigger in flow.triggers)
    if by_calls is not None and by_calls.runs and not told:
        parts.append(by_calls)  # calls come on top of what its own triggers start
    return _sum_volumes(parts), by_trigger


def _triggers_together(flow: Flow, lookup: AssumptionLookup) -> list[str]:
    """The triggers of which one rule for ``trigger = "*"`` says how many runs they cause together, those by calls of other flows
    included."""
    if "runs" not in lookup.by:
        return []
    found = []
    for trigger in flow.triggers:
        rule = lookup.find_rule("runs", trigger=(trigger.id, trigger.name)) if trigger.enabled else None
        if rule is not None and rule.rule.trigger == "*":
            found.append(trigger.id)
    return found


def _sum_volumes(parts: list[Volume]) -> Volume:
    """All volumes together; unknown when one of them is."""
    checks = sum(volume.checks for volume in parts)
    unknown = [volume.why for volume in parts if volume.runs is None]
    if unknown:
        return Volume(None, checks, "default", "; ".join(unknown))
    return _sum_known(parts, checks)


def _sum_known(parts: list[Volume], checks: float | int) -> Volume:
    runs = sum(volume.runs or 0.0 for volume in parts)
    items = sum(volume.items * (volume.runs or 0.0) for volume in parts) / runs if runs else 1.0
    evidence = weakest_evidence(*(volume.evidence for volume in parts if volume.runs))
    return Volume(runs, checks, evidence, "; ".join(volume.why for volume in parts), items)

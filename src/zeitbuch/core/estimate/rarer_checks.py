# A poll that looks less often finds as much in a month: each check finds something more often, and more at once.
"""Scenarios in which polls look less often."""

from __future__ import annotations

from msgspec import structs

from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.assumptions.volume import schedule_runs
from zeitbuch.core.model.name_patterns import literal_pattern, pattern_fits
from zeitbuch.core.model.records import Flow, Trigger

from .scenario_records import Poll


def slow_polling(flow: Flow, change: Poll, assumptions: Assumptions) -> tuple[Flow, list[Rule], bool]:
    """The flow with rarer checks, what they find, and whether there are any."""
    rules: list[Rule] = []
    triggers: list[Trigger] = []
    fits = False
    for trigger in flow.triggers:
        if (
            trigger.kind == "polling"
            and trigger.schedule is not None
            and pattern_fits(change.trigger, trigger.id, trigger.name)
        ):
            fits = True
            before = schedule_runs(trigger.schedule, (2026, 0))
            schedule = structs.replace(trigger.schedule, cron=None, rule=None, repeat=None, every=change.every)
            rarer = before / schedule_runs(schedule, (2026, 0))
            rules += _rules_of_rarer_checks(flow, trigger, change, rarer, assumptions)
            trigger = structs.replace(trigger, schedule=schedule)
        triggers.append(trigger)
    return structs.replace(flow, triggers=tuple(triggers)), rules, fits


def _rules_of_rarer_checks(
    flow: Flow, trigger: Trigger, change: Poll, rarer: float, assumptions: Assumptions
) -> list[Rule]:
    """What so many times rarer checks find, and how much at once: on all days, and on those of which something else is said."""
    names = (trigger.id, trigger.name)
    made: list[Rule] = []
    every = AssumptionLookup(assumptions, flow)
    for days in (None, *every.dated_rules("hit_rate", "items")):
        lookup = every.beside(days)
        rules = (lookup.find_rule("hit_rate", trigger=names), lookup.find_rule("items", trigger=names))
        if days is not None and not any(one is not None and one.rule is days for one in rules):
            continue
        had, each = (
            float(one.value.amount) if one is not None else default
            for one, default in zip(rules, (0.25, 1.0), strict=True)
        )
        hits = change.hit_rate if change.hit_rate is not None else 1 - (1 - had) ** rarer
        # What is found per month stays: more at once where checks are rarer.
        rule = Rule(
            flow=literal_pattern(flow.id),
            trigger=literal_pattern(trigger.id),
            hit_rate=hits,
            items=each * had * rarer / hits if hits else each,
        )
        if days is not None:
            rule = structs.replace(rule, since=days.since, until=days.until, weekdays=days.weekdays)
        made.append(rule)
    return made

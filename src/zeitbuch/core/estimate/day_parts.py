# Where a rule holds on some days only, a flow that it fits is estimated as several: one for the days on which it holds, one for the others.
# Flows that call it or are called by it are taken apart alike, so that what is called on a day is called flow and caller of that day.
"""Flows on some days of a month."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date
from typing import NamedTuple

from zeitbuch.core.assumptions.days import Days, Month, dated_rules, split_days, whole_month
from zeitbuch.core.assumptions.lookup import AssumptionLookup, InWorlds
from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.model.name_patterns import pattern_fits
from zeitbuch.core.model.records import Flow

from .related_flows import groups_of_calls


class DayPart(NamedTuple):
    """The days that figures of a flow are of. ``key`` is that of the whole flow, ``number`` counts its parts."""

    key: str
    number: int
    days: Days


class Job(NamedTuple):
    """A flow to be estimated, the one at ``place`` among ``flows``: all of it, or on the days of a part."""

    key: str
    flows: Sequence[Flow]
    place: int
    part: DayPart | None = None

    @property
    def flow(self) -> Flow:
        return self.flows[self.place]


def lookup_on(
    part: DayPart | None, assumptions: Assumptions, month: Month, flow: Flow, worlds: InWorlds | None = None
) -> AssumptionLookup:
    """What is assumed of a flow in a month, or on the days of a part of it."""
    return AssumptionLookup(assumptions, flow, worlds, part.days if part is not None else whole_month(month))


def key_of_part(key: str, number: int) -> str:
    """A key or name of a flow on the days of one part; no name of an export holds such a sign."""
    return f"{key}\x00{number}"


def called_name(name: str, part: DayPart | None, names: Mapping[str, str]) -> str:
    """What a called flow is known by on the days of its caller."""
    own = key_of_part(name, part.number) if part is not None else name
    return own if own in names else name


def change_days(assumptions: Assumptions, month: Month) -> list[date]:
    """The days of a month on which other rules begin to hold."""
    return [span.first for days in split_days(dated_rules(assumptions), month) for span in days.spans]


def jobs_of(keys: Sequence[str], flows: Sequence[Flow], assumptions: Assumptions, month: Month) -> list[Job]:
    """All flows, in their order; those that rules of some days fit, and all that they call or that call them, in parts."""
    dated = dated_rules(assumptions)
    if not dated or not split_days(dated, month):
        return [Job(key, flows, place) for place, key in enumerate(keys)]
    fitting = [[rule for rule in dated if _fits(rule, flow)] for flow in flows]
    split: dict[int, tuple[Days, ...]] = {}
    for group in groups_of_calls(flows):
        rules = {id(rule): rule for place in group for rule in fitting[place]}
        if rules:
            split.update(dict.fromkeys(group, split_days(rules.values(), month)))
    jobs: list[Job] = []
    for place, key in enumerate(keys):
        parts = [DayPart(key, number, days) for number, days in enumerate(split.get(place, ()))]
        jobs += [Job(key_of_part(key, part.number), flows, place, part) for part in parts] or [Job(key, flows, place)]
    return jobs


def _fits(rule: Rule, flow: Flow) -> bool:
    within = not rule.environment or pattern_fits(rule.environment, flow.environment)
    return within and pattern_fits(rule.flow, flow.id, flow.name)

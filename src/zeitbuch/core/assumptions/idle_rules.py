# A rule that fits nothing changes nothing, and its writer believes that it does: the name of a flow with a letter too many, a step that
# was renamed, a case that is no longer there.
"""Assumptions that fit nothing."""

from __future__ import annotations

import difflib
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import NamedTuple

from msgspec import UNSET

from zeitbuch.core.model.name_patterns import is_plain, pattern_fits
from zeitbuch.core.model.outcomes import is_case
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Flow, Origin

from .lookup import AssumptionLookup
from .rules import Assumptions, Rule


class _Head(NamedTuple):
    id: str
    name: str
    environment: str


class _Missed(NamedTuple):
    """A pattern that fits nothing: what it was to fit, and where, in words; and the names that there are."""

    what: str
    within: str
    pattern: str
    names: list[str]


def idle_problems(flows: Sequence[Flow], assumptions: Assumptions, whole: bool = True) -> list[Problem]:
    """A warning for every rule that fits no flow, or in the flows that it fits no trigger, step or case. ``whole``: the flows are all
    there are; of some alone a rule for another is no mistake."""
    if not assumptions.assume:
        return []
    found = []
    known = _Flows(flows)
    for place, rule in enumerate(assumptions.assume):
        missed = _missed_by(known, rule, whole)
        said = _said_of(missed) if missed is not None else _said_beside(known, rule, assumptions)
        if said is not None:
            found.append(Problem("assume-nothing", "warning", said[0], Origin("", f"/assume/{place}"), said[1]))
    return found


class _Flows:
    """Flows and what they are called. They are looked at one by one: those of a large estate are not all at hand at once."""

    def __init__(self, flows: Sequence[Flow]) -> None:
        self.flows = flows
        self.heads = [_Head(flow.id, flow.name, flow.environment) for flow in flows]
        self.by_name: dict[str, list[int]] = {}
        for place, head in enumerate(self.heads):
            for name in {head.id.casefold(), head.name.casefold()}:
                self.by_name.setdefault(name, []).append(place)

    def places_of(self, pattern: str) -> Sequence[int]:
        """Where the flows stand that a pattern fits."""
        if is_plain(pattern):
            return self.by_name.get(pattern.casefold(), [])
        return [place for place, head in enumerate(self.heads) if pattern_fits(pattern, head.id, head.name)]

    def at(self, places: Iterable[int]) -> Iterator[Flow]:
        return (self.flows[place] for place in places)


def _said_of(missed: _Missed) -> tuple[str, str]:
    """Message and hint."""
    near = difflib.get_close_matches(missed.pattern, missed.names, 1, 0.5)
    hint = f"did you mean '{near[0]}'?" if near else "correct it, or remove the rule: it changes nothing"
    return f"expected a {missed.what} that '{missed.pattern}' fits{missed.within}, found none", hint


def _said_beside(flows: _Flows, rule: Rule, assumptions: Assumptions) -> tuple[str, str] | None:
    flow = None if rule.events is UNSET else _with_runs_beside(flows, rule, assumptions)
    if flow is None:
        return None
    hint = "`runs` are what counts there: the events, hits and items of its trigger say nothing; remove one of the two"
    return f"expected `events` of a trigger without `runs`, found both in '{flow.title}'", hint


def _with_runs_beside(flows: _Flows, rule: Rule, assumptions: Assumptions) -> Flow | None:
    """A flow in which the events of a rule say nothing, since another rule says how often each of the triggers runs."""
    if all(other.runs is UNSET for other in assumptions.assume):
        return None
    for flow in flows.at(flows.places_of(rule.flow)):
        lookup = AssumptionLookup(assumptions, flow)
        names = [(one.id, one.name) for one in flow.triggers if pattern_fits(rule.trigger or "*", one.id, one.name)]
        if names and all(lookup.find("runs", trigger=pair) is not None for pair in names):
            return flow
    return None


def _missed_by(flows: _Flows, rule: Rule, whole: bool) -> _Missed | None:
    """What a rule was to fit and does not; None where it fits."""
    fitting = flows.places_of(rule.flow)
    if fitting and rule.environment:
        names = [flows.heads[place].environment for place in fitting if flows.heads[place].environment]
        fitting = [place for place in fitting if pattern_fits(rule.environment, flows.heads[place].environment)]
        if not fitting:
            return _Missed("flow of an environment", "", rule.environment, names)
    if not fitting:
        return _Missed("flow", "", rule.flow, [head.name or head.id for head in flows.heads]) if whole else None
    within = (
        f" in '{flows.flows[fitting[0]].title}'" if len(fitting) == 1 else f" in the {len(fitting)} flows that it names"
    )
    # Names are looked up one by one: of a large estate most rules are done with the first flows.
    wanted: tuple[tuple[str, str, Callable[[], Iterator[tuple[str, ...]]]], ...] = (
        ("trigger", rule.trigger, lambda: ((one.id, one.name) for flow in flows.at(fitting) for one in flow.triggers)),
        ("step", rule.step, lambda: ((one.id, one.name) for flow in flows.at(fitting) for one in flow.steps)),
        ("case", rule.case, lambda: _cases_of(flows.at(fitting), rule)),
    )
    for what, pattern, groups in wanted:
        if pattern not in ("", "*") and not any(pattern_fits(pattern, *names) for names in groups()):
            at = f" at '{rule.step}'" if what == "case" and rule.step else ""
            return _Missed(what, at + within, pattern, _names(groups()))
    return None


def _cases_of(flows: Iterable[Flow], rule: Rule) -> Iterator[tuple[str, ...]]:
    """What the cases of the steps that a rule is for may be called."""
    for flow in flows:
        kinds = {one.id: one.kind for one in flow.steps if not rule.step or pattern_fits(rule.step, one.id, one.name)}
        for link in flow.links if kinds else ():
            if link.source in kinds and is_case(link, kinds[link.source]):
                yield link.label, link.condition, link.target


def _names(groups: Iterable[tuple[str, ...]]) -> list[str]:
    return list(dict.fromkeys(name for group in groups for name in group if name))

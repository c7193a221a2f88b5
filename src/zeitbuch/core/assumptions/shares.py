# Of a decision that takes one case the shares of its cases are a whole: more than 1 is a mistake, and where every case has a share,
# less than 1 lets passes vanish.
"""Shares of the cases of decisions."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping

from zeitbuch.core.model.outcomes import case_name, deciding_steps, is_case
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Flow, Link, Origin, Step

from .days import days_told_apart
from .lookup import AssumptionLookup, ReadyRule, has_rules_for
from .rules import Assumptions


def share_problems(flows: Iterable[Flow], assumptions: Assumptions) -> list[Problem]:
    """Decisions that take one case and whose declared shares sum to more than 1, an error, or where every case has a share to less, a
    warning; at the place of the last rule."""
    if not has_rules_for(assumptions, "share"):
        return []
    places = {id(rule): place for place, rule in enumerate(assumptions.assume)}
    found: list[Problem] = []
    for flow in flows:
        deciding = deciding_steps(flow)
        decisions = {step.id: step for step in flow.steps if step.id in deciding and not step.inclusive}
        if not decisions:
            continue
        lookup = AssumptionLookup(assumptions, flow)
        if "share" not in lookup.by:
            continue
        dated = lookup.dated_rules("share")
        lookups = (
            [AssumptionLookup(assumptions, flow, days=day) for day in days_told_apart(dated)] if dated else [lookup]
        )
        for one in lookups:
            _share_problems_of(flow, decisions, one, places, found)
    return list(dict.fromkeys(found))


def _share_problems_of(
    flow: Flow, decisions: dict[str, Step], lookup: AssumptionLookup, places: dict[int, int], found: list[Problem]
) -> None:
    """The problems of the shares that hold at one time."""
    given = _given_shares(flow, decisions, lookup)
    cases = Counter(step_id for step_id, _ in _cases_of(flow, decisions))
    for step_id, rules in given.items():
        whole = len(rules) == cases[step_id] > 1
        _shares_beside_one(rules, places, decisions[step_id], flow, whole, found)


def is_one_but_rounded(total: float, count: int) -> bool:
    """Whether so many shares, written with six digits, sum to 1."""
    return abs(total - 1) <= 1e-6 * max(1, count)


def _cases_of(flow: Flow, decisions: Mapping[str, Step]) -> Iterator[tuple[str, Link]]:
    """The cases of decisions, each once, with a link that takes it."""
    seen: set[tuple[str, str]] = set()
    for link in flow.links:
        step = decisions.get(link.source)
        if step is not None and is_case(link, step.kind) and (step.id, case_name(link)) not in seen:
            seen.add((step.id, case_name(link)))
            yield step.id, link


def _given_shares(flow: Flow, decisions: dict[str, Step], lookup: AssumptionLookup) -> dict[str, list[ReadyRule]]:
    given: dict[str, list[ReadyRule]] = {}
    for step_id, link in _cases_of(flow, decisions):
        names = (step_id, decisions[step_id].name)
        ready = lookup.find_rule("share", names, (link.label, link.condition, link.target))
        if ready is not None:
            given.setdefault(step_id, []).append(ready)
    return given


def _shares_beside_one(
    rules: list[ReadyRule], places: dict[int, int], step: Step, flow: Flow, whole: bool, found: list[Problem]
) -> None:
    """Shares over 1, and where every case has one (``whole``) below 1."""
    total = sum(ready.value.amount for ready in rules)
    if is_one_but_rounded(total, len(rules)) or (total < 1 and not whole):
        return
    at = Origin("", f"/assume/{max(places.get(id(ready.rule), 0) for ready in rules)}/share")
    whose = f"shares of the cases of '{step.title}' in '{flow.title}'"
    if total > 1:
        message = f"expected {whose} that sum to at most 1, found {total:g}"
        hint = "one case is taken each time; a pattern may give its share to several cases"
        found.append(Problem("assume-shares", "error", message, at, hint))
    else:
        message = f"expected {whose} that sum to 1, found {total:g}"
        hint = f"{1 - total:.4g} of its passes take no case and end there; if none does, correct the shares"
        found.append(Problem("assume-shares", "warning", message, at, hint))

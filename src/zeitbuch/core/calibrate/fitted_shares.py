# Where logs know calls and not passes, the shares of cases are those that make their calls: what calibration fits.
"""Shares of cases by the calls behind them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from zeitbuch.core.actuals.step_records import CaseShare
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.name_patterns import literal_pattern
from zeitbuch.core.model.outcomes import case_name, is_case, leaves_rest_open
from zeitbuch.core.model.records import Link

from .records import Measured
from .volumes_fit import FEW

_NARROW, _NARROW_PART = 0.03, 0.5  # ranges of shares: from end to end, and as a part of the share


def fitted_shares(graph: Graph, measured: Iterable[Measured]) -> list[CaseShare]:
    """The shares of a flow's cases that its calls tell by themselves, of at least 30 runs; of two exclusive ways also that of the second."""
    told = {
        (one.step, one.case): one
        for one in measured
        if one.flow == graph.flow.id and one.quantity == "share" and _is_told(one)
    }
    found: list[CaseShare] = []
    for step in graph.in_order():
        ways = [link for link in graph.leaving.get(step.id, ()) if is_case(link, step.kind)]
        if step.id in graph.deciding and ways:
            whole = not step.inclusive and not leaves_rest_open(ways, step.kind)
            found += _of_decision(literal_pattern(step.id), ways, told, whole)
    return found


def _is_told(one: Measured) -> bool:
    """Whether the log knows a share well enough to say it as one figure."""
    return one.alone and one.cases >= FEW and one.high - one.low <= max(_NARROW, _NARROW_PART * one.value)


def _of_decision(
    step: str, ways: Sequence[Link], told: dict[tuple[str, str], Measured], whole: bool
) -> list[CaseShare]:
    known = {}
    for place, link in enumerate(ways):
        one = told.get((step, literal_pattern(link.label or link.condition or link.target)))
        if one is not None:
            known[place] = (one.value, one.cases, one.since)
    names = {case_name(link) for link in ways}
    left = [place for place in range(len(ways)) if place not in known]
    if whole and len(names) == len(ways) == 2 and len(left) == 1:
        ((share, cases, since),) = known.values()
        known[left[0]] = (1.0 - share, cases, since)
    return [
        CaseShare(link.source, link.target, link.label, known[place][0], known[place][1], False, known[place][2])
        for place, link in enumerate(ways)
        if place in known
    ]

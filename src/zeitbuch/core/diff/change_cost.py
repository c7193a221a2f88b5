# What changes do to passes, calls, tokens and cost: both versions with the same rates and assumptions, and each change by
# itself, as the difference that taking it back makes. What the changes do together beyond that is shown as such.
"""Figures of changed flows and of each change."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from decimal import Decimal

from msgspec import Struct, structs

from zeitbuch.core.assumptions.money import Money
from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.estimate.called_flows import costs_with_called
from zeitbuch.core.estimate.day_parts import Job, change_days, jobs_of
from zeitbuch.core.estimate.estate import gather_runs, keys_of, month_for, result_of
from zeitbuch.core.estimate.flow_figures import FlowFigures, one_run
from zeitbuch.core.estimate.records import EstateEstimate
from zeitbuch.core.model.canonical import map_ids
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.core.pricing.call_prices import Counter, Prices
from zeitbuch.core.pricing.rate_card import RateCard

from .change_types import CHANGE_KINDS
from .estate_changes import versions_of
from .flow_matching import FlowMatching
from .records import Change, ChangeFigures, EstateChanges, FlowChanges
from .reverting import revert_change


def subtract_money(a: Money | None, b: Money | None) -> Money | None:
    """A difference of amounts; what has no price in either stays unknown."""
    if a is None or b is None:
        return None
    unknown = tuple(dict.fromkeys((*a.unknown, *b.unknown)))
    return Money(a.amount - b.amount, unknown if a != b else ())


def subtract_figures(a: ChangeFigures, b: ChangeFigures) -> ChangeFigures:
    """a - b, figure by figure."""
    return ChangeFigures(
        a.passes - b.passes,
        a.calls - b.calls,
        a.tokens - b.tokens,
        subtract_money(a.run, b.run),
        subtract_money(a.month, b.month),
    )


def _drop_tiny(value: float, scale: float) -> float:
    return 0.0 if abs(value) <= 1e-9 * max(1.0, abs(scale)) else value


def drop_rounding(f: ChangeFigures, scale: ChangeFigures) -> ChangeFigures:
    """Figures with what is only rounding taken for 0."""

    def amount(m: Money | None) -> Money | None:
        return structs.replace(m, amount=Decimal(0)) if m is not None and abs(m.amount) < Decimal("1e-9") else m

    return ChangeFigures(
        _drop_tiny(f.passes, scale.passes), _drop_tiny(f.calls, scale.calls), _drop_tiny(f.tokens, scale.tokens), amount(f.run), amount(f.month)
    )  # fmt: skip


class Costing(Struct):
    """Flows of one version, each estimated once and only when asked for, with the flows that it calls or is called by."""

    estate: Estate
    card: RateCard | None
    assumptions: Assumptions
    prices: Prices
    month: tuple[int, int]
    names: dict[str, Flow]
    callers: dict[str, list[Flow]]
    runs: dict[str, list[FlowFigures]]  # of the flows of one id, each told by itself

    @classmethod
    def of(
        cls,
        estate: Estate,
        card: RateCard | None,
        assumptions: Assumptions,
        month: str = "",
        counters: dict[str, Counter] | None = None,
        other: Costing | None = None,
    ) -> Costing:
        """The costing of one version; flows that are the very same in the ``other`` one are estimated once for both."""
        when = month_for(assumptions, month)
        names: dict[str, Flow] = {}
        callers: dict[str, list[Flow]] = {}
        for flow in estate.flows:
            names.setdefault(flow.id, flow)
            names.setdefault(flow.name, flow)
        for flow in estate.flows:
            for step in flow.steps:
                if step.calls is not None and step.calls in names:
                    callers.setdefault(names[step.calls].id, []).append(flow)
        prices = Prices(card, when, counters, change_days(assumptions, when))
        return cls(estate, card, assumptions, prices, when, names, callers, other.runs if other is not None else {})

    def _run_of(self, job: Job) -> FlowFigures:
        made = self.runs.setdefault(job.flow.id, [])
        found = next((run for run in made if run.flow is job.flow and run.part == job.part), None)
        if found is None:
            found = one_run(job.flow, self.assumptions, self.prices, self.month, part=job.part)
            made.append(found)
        return found

    def flows_around(self, flow: Flow) -> list[Flow]:
        """The flows that a flow calls, and those that call it, near and far."""
        found: dict[str, Flow] = {flow.id: flow}
        work = [flow]
        while work:
            one = work.pop()
            near = [self.names[step.calls] for step in one.steps if step.calls is not None and step.calls in self.names]
            for other in near:
                if other.id not in found:
                    found[other.id] = other
                    work.append(other)
        work = [flow]
        while work:
            one = work.pop()
            for other in self.callers.get(one.id, ()):
                if other.id not in found:
                    found[other.id] = other
                    work.append(other)
        return list(found.values())

    def estimate(self, flows: Sequence[Flow]) -> EstateEstimate:
        """The month of some flows of this version, which hold all that they call or are called by."""
        jobs = jobs_of(keys_of(flows), flows, self.assumptions, self.month)
        mapping = {job.key: self._run_of(job) for job in jobs}
        return result_of(gather_runs(mapping, self.prices, self.month, self.assumptions))

    def figures_of(self, flow: Flow, keep: bool = True) -> ChangeFigures:
        """The figures of a flow of this version, or of a variant of one (same id; ``keep`` False)."""
        flows = [flow, *(other for other in self.flows_around(flow) if other.id != flow.id)]
        mapping = {
            job.key: one_run(flow, self.assumptions, self.prices, self.month, part=job.part)
            if job.flow is flow and not keep
            else self._run_of(job)
            for job in jobs_of([one.id for one in flows], flows, self.assumptions, self.month)
        }
        runs = gather_runs(mapping, self.prices, self.month, self.assumptions)
        costs = costs_with_called(runs.graph, runs.by)
        keys = runs.whole_flows()[flow.id]
        parts = [self._figures_of(runs.by[key], runs.volumes[key].runs, costs[key]) for key in keys]
        return parts[0] if len(parts) == 1 else _joined_figures(parts, runs.weights_in_run(keys))

    def _figures_of(self, run: FlowFigures, known: float | None, with_called: Money) -> ChangeFigures:
        priced = self.card is not None
        return ChangeFigures(
            passes=sum(step_estimate.passes for step_estimate in run.steps),
            calls=run.sums.calls,
            tokens=run.sums.input_tokens + run.sums.output_tokens,
            run=with_called if priced else None,
            month=run.cost.times(known) if priced and known is not None else None,
        )


def _joined_figures(parts: Sequence[ChangeFigures], weights: Sequence[float]) -> ChangeFigures:
    """The figures of a flow from those of its days: of a run, that of a day drawn by its runs; of the month their sum."""
    months = [part.month for part in parts if part.month is not None]
    costs = [part.run.times(weight) for part, weight in zip(parts, weights, strict=True) if part.run is not None]
    return ChangeFigures(
        passes=sum([weight * part.passes for part, weight in zip(parts, weights, strict=True)]),
        calls=sum([weight * part.calls for part, weight in zip(parts, weights, strict=True)]),
        tokens=sum([weight * part.tokens for part, weight in zip(parts, weights, strict=True)]),
        run=sum(costs, Money()) if costs else None,
        month=sum(months, Money()) if len(months) == len(parts) else None,
    )


MOST_WORK = 300_000  # steps that are estimated for the shares of one flow's changes
_NONE = ChangeFigures(0.0, 0.0, 0.0, Money(), Money())


def with_figures(
    found: EstateChanges,
    old: Costing,
    new: Costing,
    matching: FlowMatching,
    each: bool = True,
    progress: Callable[[int], None] | None = None,
) -> EstateChanges:
    """The changes with figures before and after, and with ``each`` the share of every change."""
    flows: list[FlowChanges] = []
    for place, (flow, (first, second)) in enumerate(zip(found.flows, versions_of(found, matching), strict=True)):
        flows.append(_figures_of_flow(flow, first, second, old, new, each))
        if progress is not None:
            progress(place)
    return structs.replace(found, flows=tuple(flows))


def _figures_of_flow(
    flow: FlowChanges,
    a: Flow | None,
    b: Flow | None,
    old: Costing,
    new: Costing,
    each: bool,
) -> FlowChanges:
    try:
        before = old.figures_of(a) if a is not None else None
        after = new.figures_of(b) if b is not None else None
    except ZeitbuchError:
        return flow  # what cannot be counted has no figures; `estimate` says why
    flow = structs.replace(flow, before=before, after=after)
    if not each or a is None or b is None or before is None or after is None:
        return flow
    return _with_shares(flow, a, b, new, after, before)


def shares_cost_too_much(flow: FlowChanges, new: Flow) -> bool:
    """Whether the shares of a flow's changes are left out: each is an estimate of the whole flow."""
    moving = sum([CHANGE_KINDS[change.type].cost and bool(change.edits) for change in flow.changes])
    return moving * len(new.steps) > MOST_WORK


def _with_shares(
    flow: FlowChanges, a: Flow, b: Flow, new: Costing, after: ChangeFigures, before: ChangeFigures
) -> FlowChanges:
    """The flow's changes with the share each has in its figures, and what only several together make."""
    if shares_cost_too_much(flow, b):
        return flow
    spelled = map_ids(a, flow.ids)
    shares = [_share_of_change(spelled, b, change, new, after) for change in flow.changes]
    total = subtract_figures(after, before)
    rest = total
    for share in shares:
        if share is not None:
            rest = subtract_figures(rest, share)
    changes = tuple(
        structs.replace(change, share=figures) for change, figures in zip(flow.changes, shares, strict=True)
    )
    return structs.replace(flow, changes=changes, interaction=drop_rounding(rest, total))


def _share_of_change(
    old: Flow, new: Flow, change: Change, costing: Costing, after: ChangeFigures
) -> ChangeFigures | None:
    """What one change adds; None for a change that cannot move calls or cost."""
    if not CHANGE_KINDS[change.type].cost or not change.edits:
        return None
    try:
        variant = revert_change(old, new, change)
        if variant is None:
            return None
        return drop_rounding(subtract_figures(after, costing.figures_of(variant, keep=False)), after)
    except ZeitbuchError:
        return None


def sum_figures(flows: Iterable[FlowChanges]) -> tuple[ChangeFigures, ChangeFigures, int]:
    """Before and after of all changed flows whose month is known on both sides (a flow that came or went counts as nothing
    on the other side), and how many are left out."""
    first, second, out = _NONE, _NONE, 0
    for flow_changes in flows:
        figures = flow_changes.before or _NONE
        y = flow_changes.after or _NONE
        if (flow_changes.before is None and flow_changes.after is None) or figures.month is None or y.month is None:
            out += 1
            continue
        first = ChangeFigures(
            first.passes + figures.passes,
            first.calls + figures.calls,
            first.tokens + figures.tokens,
            None,
            (first.month or Money()) + figures.month,
        )
        second = ChangeFigures(
            second.passes + y.passes,
            second.calls + y.calls,
            second.tokens + y.tokens,
            None,
            (second.month or Money()) + y.month,
        )
    return first, second, out

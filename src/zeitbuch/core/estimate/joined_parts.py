# A month is the sum of its days: what was estimated for some of them is put together here. A run of the whole is one of a day drawn by how
# many runs come on it.
"""Whole flows from the estimates of their days."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from decimal import Decimal

from msgspec import structs

from zeitbuch.core.assumptions.money import ZERO, Money, Shares, evidence_shares
from zeitbuch.core.assumptions.values import EVIDENCE, Evidence, weakest_evidence

from .records import FlowEstimate, Part, StepEstimate

Weighed = list[tuple[float, FlowEstimate]]


def weights_of_parts(runs: Sequence[float | None], shares: Sequence[float]) -> list[float]:
    """How the parts of a flow weigh in one run of it: by their runs; by their days (``shares`` of the month) where the runs of one are
    unknown, or none come. They sum to 1."""
    known = [number for number in runs if number is not None]
    by = known if len(known) == len(runs) and any(known) else list(shares)
    whole = sum(by)
    return [number / whole for number in by]


def join_estimates(parts: Sequence[FlowEstimate], shares: Sequence[float]) -> FlowEstimate:
    """A flow from the estimates of its days, without what hosts bill. ``shares``: of the days of the month."""
    if len(parts) == 1:
        return parts[0]
    runs = [part.runs for part in parts]
    weighed: Weighed = list(zip(weights_of_parts(runs, shares), parts, strict=True))
    months = [part.cost_month for part in parts if part.cost_month is not None]
    known = len(months) == len(parts)
    return structs.replace(
        parts[0],
        calls=sum(weight * part.calls for weight, part in weighed),
        input_tokens=sum(weight * part.input_tokens for weight, part in weighed),
        output_tokens=sum(weight * part.output_tokens for weight, part in weighed),
        cost=_mean_money((weight, part.cost) for weight, part in weighed),
        with_called=_mean_money((weight, part.with_called) for weight, part in weighed),
        evidence=joined_shares([(Decimal(weight) * part.cost.amount, part.evidence) for weight, part in weighed]),
        runs=sum(number or 0.0 for number in runs) if known else None,
        checks=sum(part.checks for part in parts),
        runs_evidence=weakest_evidence(*[part.runs_evidence for part in parts if part.runs != 0]),
        runs_why="; ".join(dict.fromkeys(part.runs_why for part in parts)),
        calls_month=sum(part.calls_month or 0.0 for part in parts) if known else None,
        cost_month=sum(months, Money()) if known else None,
        evidence_month=joined_shares(
            [(part.cost_month.amount, part.evidence_month) for part in parts if part.cost_month is not None]
        )
        if known
        else Shares(),
        steps=_joined_steps(weighed),
        exact=all(part.exact for part in parts),
        notes=tuple(dict.fromkeys(note for part in parts for note in part.notes)),
    )


def _mean_money(weighed: Iterable[tuple[float, Money]]) -> Money:
    return sum((money.times(weight) for weight, money in weighed), Money())


def amounts_of(shares: Shares, whole: Decimal) -> list[tuple[Decimal, Evidence]]:
    """A sum by its classes of evidence."""
    return [(whole * Decimal(getattr(shares, name)), name) for name in EVIDENCE if whole]


def joined_shares(parts: Iterable[tuple[Decimal, Shares]]) -> Shares:
    """The shares of a sum of amounts, each with its own shares."""
    return evidence_shares(amount for whole, shares in parts for amount in amounts_of(shares, whole))


def _joined_steps(weighed: Weighed) -> tuple[StepEstimate, ...]:
    """Every step of the parts once, in the order of the first: its passes are those of a run of a day drawn by runs."""
    by: dict[str, list[tuple[float, StepEstimate]]] = {}
    for weight, part in weighed:
        for step in part.steps:
            by.setdefault(step.id, []).append((weight, step))
    return tuple(_joined_step(steps) for steps in by.values())


def _joined_step(steps: list[tuple[float, StepEstimate]]) -> StepEstimate:
    first = max(steps, key=lambda pair: pair[0])[1]
    return structs.replace(
        first,
        passes=sum(weight * step.passes for weight, step in steps),
        calls=sum(weight * step.calls for weight, step in steps),
        input_tokens=sum(weight * step.input_tokens for weight, step in steps),
        output_tokens=sum(weight * step.output_tokens for weight, step in steps),
        cost=_mean_money((weight, step.cost) for weight, step in steps),
        evidence=joined_shares([(Decimal(weight) * step.cost.amount, step.evidence) for weight, step in steps]),
        parts=_joined_parts(steps),
    )


def _joined_parts(steps: list[tuple[float, StepEstimate]]) -> tuple[Part, ...]:
    """The components of a step's cost: those of the same source are one."""
    by: dict[tuple[str, Evidence, str], Part] = {}
    for weight, step in steps:
        for part in step.parts:
            key = (part.unit, part.evidence, part.why)
            had = by.get(key) or structs.replace(part, quantity=0.0, cost=ZERO)
            cost = None if part.cost is None or had.cost is None else had.cost + part.cost * Decimal(weight)
            by[key] = structs.replace(had, quantity=had.quantity + weight * part.quantity, cost=cost)
    return tuple(by.values())

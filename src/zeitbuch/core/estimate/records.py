# What an estimate says: records of steps, flows and the estate, with distributions.
"""Records of estimates."""

from __future__ import annotations

from decimal import Decimal

from msgspec import Struct

from zeitbuch.core.assumptions.money import Money, Shares
from zeitbuch.core.assumptions.values import Evidence
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.pricing.meters import HostBill, MeterLine


class Part(Struct, frozen=True, gc=False):
    """One component of a step's cost per run."""

    unit: str
    quantity: float
    cost: Decimal | None
    evidence: Evidence
    why: str


class StepEstimate(Struct, frozen=True):
    """One step in one run: expected passes and model calls, tokens, cost."""

    id: str
    number: str
    name: str
    kind: str
    passes: float
    calls: float
    model: str
    connection: str
    input_tokens: float
    output_tokens: float
    cost: Money
    evidence: Shares
    parts: tuple[Part, ...] = ()


class Spread(Struct, frozen=True, gc=False):
    """A distribution: its mean with the error that comes from drawing, and percentiles; ``runs`` were drawn."""

    mean: float
    error: float
    p10: float
    p50: float
    p90: float
    p99: float
    runs: int


class RunSpread(Spread, frozen=True, gc=False):
    """The distribution of what a run costs: with the percentiles that show where nine of ten and half of all runs lie."""

    p5: float
    p25: float
    p75: float
    p95: float


class Quantiles(Struct, frozen=True, gc=False):
    """A distribution in short: its mean and three percentiles."""

    mean: float
    p10: float
    p50: float
    p90: float


class MonthUses(Struct, frozen=True, gc=False):
    """What a month uses, over all that varies and is in doubt."""

    calls: Quantiles
    input_tokens: Quantiles
    output_tokens: Quantiles


class FlowEstimate(Struct, frozen=True):
    """One flow. ``runs`` per month and the monthly figures are None when no volume is known. ``exact`` says whether the
    means come from exact passes; ``spread`` is of the cost of a run with the flows it calls, ``month_spread`` and
    ``year_spread`` (for an average month only) of a month's and a year's bill: its own models and its part of the meters.
    ``evidence`` is that of a run's cost, ``evidence_month`` that of the month's bill, volume included."""

    id: str
    name: str
    owners: tuple[str, ...]
    environment: str
    calls: float
    input_tokens: float
    output_tokens: float
    cost: Money
    with_called: Money
    evidence: Shares
    runs: float | None
    checks: float
    runs_evidence: Evidence
    runs_why: str
    calls_month: float | None
    cost_month: Money | None
    evidence_month: Shares
    steps: tuple[StepEstimate, ...]
    host: str = ""
    meters_month: Money | None = None
    exact: bool = True
    spread: RunSpread | None = None
    calls_spread: Spread | None = None
    month_spread: Spread | None = None
    year_spread: Spread | None = None
    uses_month: MonthUses | None = None
    notes: tuple[str, ...] = ()

    @property
    def bill_month(self) -> Money | None:
        """What a month costs: models and this flow's part of the meters; None where no volume is known."""
        if self.cost_month is None:
            return None
        return self.cost_month + self.meters_month if self.meters_month is not None else self.cost_month


class Sampling(Struct, frozen=True):
    """How much to draw: ``runs`` exactly, or without it until the figures stand to ``close`` (relative standard error). ``among``: of how
    many flows those drawn are a part (0: they are all), on which hangs in how many worlds they are drawn."""

    runs: int | None = None
    close: float = 0.01
    most: int = 32_000
    among: int = 0


class Total(Struct, frozen=True):
    """The estate in a month: models, meters, fees of hosts; ``spread`` and ``year_spread`` are of all three together, and None where a
    volume or a price is unknown; ``spread_of_known`` is then that of the rest. ``unknown_volume`` names the flows that the sums leave
    out."""

    cost_month: Money
    calls_month: float
    runs: float
    evidence: Shares
    unknown_volume: tuple[str, ...]
    meters_month: Money = Money()
    fees_month: Money = Money()
    spread: Spread | None = None
    year_spread: Spread | None = None
    spread_of_known: Spread | None = None
    uses_month: MonthUses | None = None

    @property
    def bill_month(self) -> Money:
        """Models, meters and fees."""
        return self.cost_month + self.meters_month + self.fees_month


class EstateEstimate(Struct, frozen=True):
    """The result: all flows for one month (or an average month of a year), in one currency."""

    month: str
    currency: str
    flows: tuple[FlowEstimate, ...]
    total: Total
    meters: tuple[MeterLine, ...] = ()
    hosts: tuple[HostBill, ...] = ()
    problems: tuple[Problem, ...] = ()


class Driver(Struct, frozen=True):
    """One assumption: its value and ends, and the month's (or run's) bill at each end; ``swing`` is high less low. ``flow`` names the
    flow that it is used in, or the first of several: ``flows`` are their names. ``cost`` is the bill as the estimate shows it."""

    flow: str
    what: str
    quantity: str
    value: float
    low: float
    high: float
    evidence: Evidence
    cost: Decimal
    at_low: Decimal
    at_high: Decimal
    why: str
    flows: tuple[str, ...] = ()

    @property
    def swing(self) -> Decimal:
        return abs(self.at_high - self.at_low)


class DriversResult(Struct, frozen=True):
    """`estimate --drivers --format json`."""

    per: str
    currency: str
    drivers: tuple[Driver, ...]

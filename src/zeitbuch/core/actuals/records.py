# What comes of holding an estimate against a log: rows with both sides, and what explains the difference, each part with its money.
"""Records of a reconciliation."""

from __future__ import annotations

from decimal import Decimal
from typing import Literal

from msgspec import Struct

from .reasons import ReasonCode

By = Literal["flow", "day", "step", "model", "environment", "host", "feature", "meter"]
SIDES: tuple[By, ...] = ("flow", "day", "step", "model", "environment", "host", "feature", "meter")
# Whether costs are the log's, or its tokens at the prices of the rate card.
CostFrom = Literal["log", "rates", "both", "nothing"]
# Why a line of the log is not of a flow that is estimated.
Aside = Literal["", "passed", "doubled", "no-day", "outside", "not-production", "no-flow", "unknown-flow"]


class UsageRow(Struct, frozen=True):
    """One combination of flow, step, model, day, environment and host in the log, and what was estimated for it (None: the estimate says
    nothing of it). ``aside`` says why it is held against no estimate. Costs in the currency of the result."""

    flow: str
    step: str
    model: str
    day: str
    environment: str
    host: str
    feature: str
    calls: float | None
    tokens_in: float | None
    tokens_out: float | None
    cost: Decimal | None
    aside: Aside = ""
    meter: str = ""


class GroupGap(Struct, frozen=True):
    """Estimate and log of one subject (a flow, a day ...). ``ratio`` is log / estimate of the cost, None where one of them is not
    known. ``zero`` says why the log has nothing of it: the code of the reason, and from when to when."""

    subject: str
    name: str
    estimated_calls: float | None
    logged_calls: float | None
    estimated_cost: Decimal | None
    logged_cost: Decimal | None
    difference: Decimal | None
    ratio: float | None
    zero: str = ""


class Explanation(Struct, frozen=True):
    """One reason for the difference: its code, what it is about, the days it holds on, and its part of the money (log less estimate;
    None: it moves no money that is known). ``certain`` is False for what only seems so."""

    code: ReasonCode
    subject: str
    words: str
    first_day: str
    last_day: str
    days: int
    money: Decimal | None
    certain: bool = True


class Reconciled(Struct, frozen=True):
    """The result. ``logged`` is the total of all lines, to the cent that of the log; ``compared`` the part that is held against
    ``estimated``; ``unexplained`` is what of their difference no explanation takes up. ``cost_from`` says whether costs are the log's, or
    worked out from its tokens at the prices of the rate card. ``left_out`` names flows that ``estimated`` leaves out on some day, as
    nobody has said how often they run or what a model costs."""

    first_day: str
    last_day: str
    days: int
    currency: str
    cost_from: CostFrom
    lines: int
    logged: Decimal | None
    compared: Decimal | None
    estimated: Decimal | None
    difference: Decimal | None
    unexplained: Decimal | None
    groups: tuple[GroupGap, ...]
    explanations: tuple[Explanation, ...]
    rows: tuple[UsageRow, ...]
    by: By = "flow"
    notes: tuple[str, ...] = ()
    left_out: tuple[str, ...] = ()

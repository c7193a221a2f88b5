# What a log tells of assumptions: each quantity with its value, between what its mean lies, on how many cases and days it rests, and whether it
# is written.
"""Records of a calibration."""

from __future__ import annotations

from msgspec import Struct

from zeitbuch.core.assumptions.values import Evidence


class Measured(Struct, frozen=True):
    """One quantity as the log has it. ``step``, ``case`` and ``trigger`` are patterns of an assumption (empty: not for one), ``subject`` says in
    words what it is of. ``low`` and ``high`` are the ends between which its mean lies; ``cases`` is on how many of ``cases_of`` it rests, from
    ``first_day`` to ``last_day``. ``before`` is what held without it (None: nobody had said). ``since``: it holds from that day on only. ``written`` says whether it
    goes into the file, ``why`` what there is to say of it, ``alone`` whether the log tells it by itself, and not only together with others."""

    flow: str
    flow_name: str
    subject: str
    quantity: str
    value: float
    low: float
    high: float
    cases: float
    cases_of: str
    first_day: str
    last_day: str
    before: float | None
    before_evidence: Evidence | None
    written: bool = True
    step: str = ""
    case: str = ""
    trigger: str = ""
    weekdays: tuple[str, ...] = ()
    since: str = ""
    why: str = ""
    alone: bool = True


class SeasonMeasured(Struct, frozen=True):
    """How the volume of a flow goes over the year: twelve ``factors``, January first, around 1, with the runs and days that they rest on, and
    those that were declared ``before`` (empty: none). ``written`` says whether it goes into the file, ``why`` what there is to say of it."""

    flow: str
    flow_name: str
    factors: tuple[float, ...]
    runs: float
    first_day: str
    last_day: str
    before: tuple[float, ...] = ()
    written: bool = True
    why: str = ""


class Remark(Struct, frozen=True):
    """What there is to say of a flow, and of which of its parts."""

    flow_name: str
    words: str


class Source(Struct, frozen=True):
    """A file or table that was measured, and the file's SHA-256 (hexadecimal)."""

    file: str
    sha256: str


class Calibrated(Struct, frozen=True):
    """What a log tells of assumptions, flow by flow in the order of the estate."""

    first_day: str
    last_day: str
    days: int
    measured: tuple[Measured, ...]
    remarks: tuple[Remark, ...] = ()
    sources: tuple[Source, ...] = ()
    seasons: tuple[SeasonMeasured, ...] = ()


class FlowCheck(Struct, frozen=True):
    """A flow in the days that were left out of the fit: what was predicted for them, and what the log has. ``low`` and ``high`` are the P10
    and P90 of the cost; ``changed`` says since when it is otherwise than in the days that were fitted (empty: it is not)."""

    flow: str
    name: str
    predicted_calls: float | None
    logged_calls: float | None
    predicted_cost: float | None
    logged_cost: float
    low: float | None
    high: float | None
    changed: str = ""


class CalibrationCheck(Struct, frozen=True):
    """Fitted on ``first_day`` to ``fit_until``, held against the days behind, to ``last_day``."""

    first_day: str
    fit_until: str
    last_day: str
    days: int
    currency: str
    flows: tuple[FlowCheck, ...]

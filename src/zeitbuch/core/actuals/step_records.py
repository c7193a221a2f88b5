# What logs have of steps, as maps and documents show it. Only what a log tells is here; what it does not is None, and not nothing. This stands
# apart from how it is worked out, so that a map without figures of logs loads none of that.
"""Records of steps in logs."""

from __future__ import annotations

from decimal import Decimal
from typing import Literal, get_args

from msgspec import Struct

from .step_times import StepTimes

UsageShow = Literal["runs", "duration", "failures", "actual-cost"]
USAGE_SHOWS: tuple[UsageShow, ...] = get_args(UsageShow)  # overlays of maps
LinkKey = tuple[str, str, str]  # source, target, label


class StepActual(Struct, frozen=True):
    """A step in the logs. ``passes`` are lines of logs that have one for each time a step ran, ``calls`` model calls of the others; ``ended``
    are the lines that say how they ended, ``failed`` those of them that failed. ``times_of`` says what took so long."""

    id: str
    passes: float | None = None
    calls: float | None = None
    ended: int = 0
    failed: int = 0
    cost: Decimal | None = None
    unpriced: int = 0
    times: StepTimes | None = None
    times_of: Literal["pass", "call"] = "call"
    limit: float | None = None

    @property
    def count(self) -> float | None:
        """How often it ran, as near as the logs tell."""
        return self.passes if self.passes is not None else self.calls

    @property
    def mean(self) -> float | None:
        """Seconds that it took in the mean."""
        return self.times.mean if self.times is not None else None

    @property
    def p90(self) -> float | None:
        """Seconds within which nine of ten were done."""
        return self.times.p90 if self.times is not None else None


class CaseShare(Struct, frozen=True):
    """The part of runs through a decision that took one of its ways, and of how many runs through it that is said. ``counted`` is False where
    it was fitted to the calls behind it, ``since`` is the day from which on it holds (empty: all days)."""

    step: str
    target: str
    label: str
    share: float
    cases: float
    counted: bool
    since: str = ""


class FlowActuals(Struct, frozen=True):
    """A flow in the logs, from day to day; ``days`` are those with lines of it. Costs in ``currency``. ``runs`` is None where no log tells
    them; ``unplaced`` are lines whose step nobody knows. ``same_days`` is False where logs of passes and of calls are of different days, so that
    nothing of them goes by the run."""

    id: str
    name: str
    first_day: str
    last_day: str
    days: int
    currency: str
    runs: float | None
    steps: tuple[StepActual, ...]
    shares: tuple[CaseShare, ...] = ()
    unplaced: int = 0
    tells_status: bool = False
    tells_durations: bool = False
    same_days: bool = True

    def step(self, key: str) -> StepActual | None:
        """What the logs have of a step."""
        return next((one for one in self.steps if one.id == key), None)

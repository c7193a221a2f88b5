# Which assumption moves the figure most: each is set to the low and the high end of what its mean may be, all others stay, and the bill is
# worked out anew; all of them at once, each in two worlds of its own. What has no range is moved as far as its evidence leaves it in doubt.
"""Sensitivity of an estimate to its assumptions."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Sequence
from decimal import Decimal
from typing import Literal

import numpy as np
from msgspec import Struct, field, structs

from zeitbuch.core.assumptions.beta_quantiles import beta_quantiles
from zeitbuch.core.assumptions.days import Month
from zeitbuch.core.assumptions.quantities import DEFAULT_HIGH, DEFAULT_LOW, QUANTITIES
from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.assumptions.uncertain import draws_of
from zeitbuch.core.assumptions.values import Evidence, Value
from zeitbuch.core.assumptions.worlds import Floats, Worlds, doubt_of, pert_shape
from zeitbuch.core.model.records import Flow
from zeitbuch.core.pricing.call_prices import Prices

from .called_flows import spent_with_called
from .day_parts import jobs_of
from .estate import EstateFigures, bill_runs, gather_runs, keys_of
from .flow_figures import lightened, one_run
from .records import Driver

# How far the mean of a value without a range is moved, as factors.
WITHOUT_RANGE: dict[Evidence, tuple[float, float]] = {"declared": (0.75, 1.25), "measured": (0.9, 1.1)}
_MOST, _FEW_WORLDS = 300, 200  # assumptions moved one by one; worlds in which the most telling of more are found
# Assumptions moved within drawn worlds, the worlds of each end, and up to how many flows there are as many.
_MOST_IN_WORLDS, _EACH, _FEW_FLOWS = 20, 512, 200
Per = Literal["run", "month"]


class _Assumed(Struct):
    """One assumption as it was asked for: what it is, between what its mean may be, and the flows that it is used in."""

    what: str
    quantity: str
    value: Value
    low: float
    high: float
    flows: dict[str, str] = field(default_factory=dict)
    weighs: bool = False  # whether what is drawn is its weight beside others

    def drawn_from(self) -> tuple[float, float, float] | None:
        """Low end, mean and high end of what is drawn; None where nothing is."""
        if self.weighs:
            return DEFAULT_LOW, 1.0, DEFAULT_HIGH
        return (self.low, float(self.value.amount), self.high) if self.low < self.value.amount < self.high else None


class _Moving(Worlds):
    """Worlds in which values without a range are in doubt too. Notes what is asked for, by key; ``flow`` is the one at work (id and
    title), without one nothing is noted."""

    def __init__(self, count: int) -> None:
        super().__init__(count)
        self.asked: dict[str, _Assumed] = {}
        self.flow: tuple[str, str] | None = None

    def doubt_of(self, quantity: str, value: Value) -> tuple[float, float]:
        low, high = doubt_of(quantity, value)
        if low < value.amount < high:
            return low, high
        down, up = WITHOUT_RANGE.get(value.evidence, (1.0, 1.0))
        least, top, _ = QUANTITIES[quantity]
        return max(least, value.amount * down), min(top, value.amount * up)

    def in_worlds(self, key: str, quantity: str, value: Value) -> Value:
        low, high = self.doubt_of(quantity, value)
        what = f"{_words_of(quantity)}{_place_of(key, value)}"
        # A probability of 1 or a number at its bound can be moved one way only.
        if low < high and (value.amount or value.ranged):
            self._note(key, _Assumed(what, quantity, value, low, high))
        return super().in_worlds(key, quantity, value)

    def in_equal_parts(self, key: str, what: Sequence[str], whole: float) -> list[float]:
        others = len(what) - 1
        low, mean, high = (float(whole) * w / (w + others) for w in (DEFAULT_LOW, 1.0, DEFAULT_HIGH))
        value = Value(mean, "default", "what the other cases leave, in equal parts: each may weigh half or double")
        # Of two parts the second is what the first leaves.
        for place, name in enumerate(what[:1] if len(what) == 2 else what):
            self._note(f"{key} {place}", _Assumed(name, "share", value, low, high, weighs=True))
        return super().in_equal_parts(key, what, whole)

    def _note(self, key: str, assumed: _Assumed) -> None:
        if self.flow is not None:
            self.asked.setdefault(key, assumed).flows[self.flow[0]] = self.flow[1]


def _latin_points(count: int, each: int) -> Floats:
    """``count`` rows of ``each`` shares: every row has one in each of as many equal parts, in an order of its own (M. D. McKay, R. J. Beckman,
    W. J. Conover, Technometrics 21 (1979))."""
    drawn = np.random.default_rng(1)
    return (drawn.permuted(np.tile(np.arange(each), (count, 1)), axis=1) + drawn.random((count, each))) / each


class _EndsInWorlds(_Moving):
    """Worlds in blocks of ``each``: in the first all is drawn as an estimate draws it; each of some assumptions has two more, like the first
    but that it is at its low end, and at its high one."""

    def __init__(self, keys: Sequence[str], each: int) -> None:
        super().__init__((1 + 2 * len(keys)) * each)
        self.each, self.drawn = each, Worlds(each)
        self.places = {key: (1 + 2 * place) * each for place, key in enumerate(keys)}
        # What counts most is drawn evenly over all of them together: chance among so few worlds would be seen.
        self.points = dict(zip(keys, _latin_points(len(keys), each), strict=True))

    def draw_value(self, key: str, quantity: str, value: Value, low: float, high: float) -> Floats:
        mean = float(value.amount)
        told = doubt_of(quantity, value)
        first = self._first(key, told[0], mean, told[1], True) if told[0] < mean < told[1] else np.full(self.each, mean)
        return self._in_blocks(key, low, high, first)

    def draw_between(self, key: str, low: float, mean: float, high: float, keep: bool = True) -> Floats:
        return self._in_blocks(key, low, high, self._first(key, low, mean, high, keep))

    def _first(self, key: str, low: float, mean: float, high: float, keep: bool) -> Floats:
        points = self.points.get(key)
        if points is None:
            return self.drawn.draw_between(key, low, mean, high, keep)
        shape = pert_shape(low, mean, high)
        return low + (high - low) * beta_quantiles(shape, points)

    def _in_blocks(self, key: str, low: float, high: float, first: Floats) -> Floats:
        drawn = np.tile(first, self.count // self.each)
        place = self.places.get(key)
        if place is not None:
            drawn[place : place + self.each] = low
            drawn[place + self.each : place + 2 * self.each] = high
        return drawn


class _OneByOne(_Moving):
    """Two worlds for each of some assumptions: in the first it is at its low end, in the second at its high one; all others stay."""

    def __init__(self, keys: Sequence[str]) -> None:
        super().__init__(2 * len(keys))
        self.places = {key: 2 * place for place, key in enumerate(keys)}

    def draw_between(self, key: str, low: float, mean: float, high: float, keep: bool = True) -> Floats:
        drawn = np.full(self.count, mean)
        place = self.places.get(key)
        if place is not None:
            drawn[place : place + 2] = low, high
        return drawn


def rank_drivers(
    flows: Sequence[Flow],
    prices: Prices,
    month: Month,
    assumptions: Assumptions,
    per: Per = "month",
    wanted: frozenset[str] = frozenset(),
    progress: Callable[[int], None] | None = None,
    on_average: Callable[[], Decimal] | None = None,
) -> list[Driver]:
    """All drivers of an estate, or of the flows with the ids ``wanted``; largest swing first. Flows of unknown volume are left out of
    monthly figures. Of more assumptions than can be moved one by one, the most telling are found first. ``on_average``: gives the bill of
    the month on average, and is asked for where an allowance or a stair makes that another than the bill of the average month."""
    work = _Walk(flows, prices, month, assumptions, wanted, progress)
    worlds = _Moving(_FEW_WORLDS)
    bills = work.bills_in(worlds, per)
    chosen = _most_telling(worlds, bills.values())
    one_by_one = _OneByOne(chosen)
    found: dict[tuple[str, str], Driver] = {}
    for flow_id, bill in work.bills_in(one_by_one, per).items():
        found.update(_drivers_of(worlds, one_by_one, bill, flow_id))
    if per == "month" and on_average is not None and work.bent and found:
        found = _moved_on_average(work, found, on_average())
    return sorted(found.values(), key=lambda d: (-d.swing, d.flow, d.what))


def _moved_on_average(
    work: _Walk, found: dict[tuple[str, str], Driver], shown: Decimal
) -> dict[tuple[str, str], Driver]:
    """Drivers that start from the bill on average: those that move it most go to what it is on average at their ends, in the same worlds;
    of the others the little that they move it is kept."""
    most = sorted(found, key=lambda key: -found[key].swing)[:_MOST_IN_WORLDS]
    worlds = _EndsInWorlds([key for _, key in most], _EACH if len(work.flows) <= _FEW_FLOWS else _EACH // 4)
    bill = work.bills_in(worlds, "month")[""]
    means = np.broadcast_to(draws_of(bill), worlds.count).reshape(-1, worlds.each).mean(axis=1)
    moved = {key: means[1 + 2 * place : 3 + 2 * place] - means[0] for place, key in enumerate(most)}
    anew = {}
    for key, driver in found.items():
        low, high = (driver.at_low - driver.cost, driver.at_high - driver.cost)
        if key in moved:
            low, high = (Decimal(float(off)) for off in moved[key])
        anew[key] = structs.replace(driver, cost=shown, at_low=shown + low, at_high=shown + high)
    return anew


def _drivers_of(
    worlds: _Moving, one_by_one: _OneByOne, bill: float, flow_id: str
) -> Iterable[tuple[tuple[str, str], Driver]]:
    """The drivers of one bill, by flow and key: of the month of all flows, or of a run of one."""
    at, base = np.broadcast_to(draws_of(bill), one_by_one.count), Decimal(float(bill))
    for key, place in one_by_one.places.items():
        one = worlds.asked[key]
        low, high = float(at[place]), float(at[place + 1])
        if not np.isfinite([low, high]).all() or abs(high - low) <= 1e-9 * float(base):
            continue
        names = tuple(dict.fromkeys(one.flows.values() if not flow_id else [one.flows.get(flow_id, "")]))
        yield (
            (flow_id, key),
            Driver(
                names[0] if len(names) == 1 else f"{names[0]} and {len(names) - 1} more",
                one.what,
                one.quantity,
                float(one.value.amount),
                one.low,
                one.high,
                one.value.evidence,
                base,
                Decimal(low),
                Decimal(high),
                one.value.why,
                names,
            ),
        )


class _Walk(Struct):
    """An estate that is worked out again and again."""

    flows: Sequence[Flow]
    prices: Prices
    month: Month
    assumptions: Assumptions
    wanted: frozenset[str]
    progress: Callable[[int], None] | None
    done: int = 0
    bent: bool = False  # whether an allowance or a stair is passed in some of the worlds only

    def bills_in(self, worlds: _Moving, per: Per) -> dict[str, float]:
        """The bill of the month of all flows that are wanted (under ""), or of a run of each (under its id)."""
        by = {}
        with np.errstate(all="ignore"):
            jobs = jobs_of(keys_of(self.flows), self.flows, self.assumptions, self.month)
            for job in jobs:
                worlds.flow = (job.flow.id, job.flow.title)
                run = one_run(job.flow, self.assumptions, self.prices, self.month, False, worlds, job.part)
                by[job.key] = lightened(run, self.prices)
                self.done += 1
                if self.progress is not None:
                    self.progress(self.done * len(self.flows) // (2 * len(jobs)))
            worlds.flow = None
            runs = gather_runs(by, self.prices, self.month, self.assumptions, worlds)
            if per == "month":
                return {"": self._month_of(runs)}
            return self._runs_of(runs)

    def _wants(self, flow: Flow) -> bool:
        return not self.wanted or flow.id in self.wanted

    def _runs_of(self, runs: EstateFigures) -> dict[str, float]:
        """What a run of every flow costs with all that it calls; of one estimated in parts, that of a day drawn by its runs."""
        spent = spent_with_called(runs.graph, runs.by)
        found: dict[str, float] = {}
        for keys in runs.whole_flows().values():
            flow = runs.by[keys[0]].flow
            weights = runs.weights_in_run(keys)
            if self._wants(flow):
                parts = [weight * spent[key] for weight, key in zip(weights, keys, strict=True)]
                found[flow.id] = sum(parts[1:], parts[0])
        return found

    def _month_of(self, runs: EstateFigures) -> float:
        _, bills = bill_runs(runs)
        self.bent = self.bent or bills.bent
        total = 0.0 if self.wanted else float(bills.fees.amount)
        for key, run in runs.by.items():
            if self._wants(run.flow):
                total = total + run.sums.spent * (runs.volumes[key].runs or 0.0)
        for key, keys in runs.whole_flows().items():
            if self._wants(runs.by[keys[0]].flow):
                total = total + bills.spent.get(key, 0.0)
        return total


def _most_telling(worlds: _Moving, bills: Collection[float]) -> list[str]:
    """The keys of the assumptions that move the bills most, one after the other: the one with the steepest slope, then the steepest
    over what that leaves unexplained, and so on (matching pursuit, Mallat and Zhang 1993)."""
    keys = [key for key, one in worlds.asked.items() if one.drawn_from() is not None]
    if len(keys) <= _MOST:
        return keys
    rows = np.array([worlds.draw_between(key, *_ends(worlds.asked[key]), False) for key in keys], np.float32)
    spans = np.array([high - low for low, _, high in (_ends(worlds.asked[key]) for key in keys)])
    rows -= rows.mean(axis=1, keepdims=True)
    power = (rows * rows).sum(axis=1)
    chosen: dict[str, None] = {}
    for bill in bills:
        left = np.broadcast_to(draws_of(bill), worlds.count)
        left = left - left.mean()
        picked = np.zeros(len(keys), bool)
        for _ in range(max(5, _MOST // len(bills))):
            slopes = rows @ left / power
            best = int(np.argmax(np.where(picked, 0.0, np.abs(slopes) * spans)))
            picked[best] = True
            chosen[keys[best]] = None
            left = left - slopes[best] * rows[best]
    return list(chosen)


def _ends(assumed: _Assumed) -> tuple[float, float, float]:
    found = assumed.drawn_from()
    assert found is not None
    return found


_WORDS = {
    "accept_rate": "share let through",
    "batch_size": "pieces per call",
    "message_size": "tokens of a message",
    "page_size": "tokens of a page",
}


def _words_of(quantity: str) -> str:
    return _WORDS.get(quantity, quantity.replace("_", " "))


def _place_of(key: str, value: Value) -> str:
    """Where a value is declared, or which default it is."""
    if value.evidence == "default":
        return f" ({value.why})"
    _, _, *places, days = key.split("|")
    named = [f"‘{name}’" for name in places if name not in ("", "*")]
    return (f" of {' / '.join(named)}" if named else "") + (f", {days}" if days else "")

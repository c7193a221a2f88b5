# Shares, failures, items, rounds and turns hang together: a log has calls of steps, and several of these numbers make them. All of a flow are
# fitted at once, each drawn towards what was assumed as strongly as a handful of cases would: what the log does not tell stays what it was.
"""Fitting what makes the calls of a flow."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

import numpy as np
from msgspec import Struct

from zeitbuch.core.estimate.knobs import Knob

from .observed import Floats

Expected = Callable[[Sequence[float]], dict[str, float]]  # calls of each group in one run, for values of the knobs
_PASSES = frozenset({"share", "failure", "timeout", "items", "rounds", "turns"})
_LEAST = {"items": 0.0, "rounds": 1.0, "turns": 1.0}
_NEAR_BOUND = 0.02  # how near to nothing a count may come
# Standard deviations, in the scale of the fit, of what was assumed: about as much as five cases say.
_DOUBT_OF_SHARE, _DOUBT_OF_COUNT, _DOUBT_OF_RUNS = 1.0, 0.8, 3.0
_TOLD, _MOVED, _TOGETHER = 0.8, 0.5, 0.8


class Seen(NamedTuple):
    """Calls of a group: how many, and how many times as much as chance they vary."""

    calls: float
    dispersion: float


class Firm(NamedTuple):
    """What is known of a knob besides calls: where it lies and its standard deviation, both in the scale of the fit; ``counted``: the log
    itself says so."""

    at: float
    doubt: float
    counted: bool = False


class KnobFit(Struct):
    """A number as fitted: its value, the ends between which it lies, whether the log tells it, and the names of others that it is told
    together with."""

    knob: Knob
    value: float
    low: float
    high: float
    told: bool
    together: tuple[str, ...] = ()


class PassesFit(NamedTuple):
    """All numbers of a flow, the runs that they are for, and the calls that they make of each group."""

    knobs: list[KnobFit]
    runs: float
    calls: dict[str, float]


def odds_of(failed: float, tries: float) -> Firm:
    """What is known of a share from counts (half a case more of each, Haldane 1956)."""
    share = (failed + 0.5) / (tries + 1.0)
    return Firm(math.log(share / (1 - share)), 1 / math.sqrt(tries * share * (1 - share) + 0.5), True)


def fits_passes(knob: Knob) -> bool:
    """Whether a number makes passes."""
    return knob.quantity in _PASSES


class _Dial(NamedTuple):
    """One direction in which knobs are moved: a share by the logarithm of its odds, a count by its own, one of several shares of a whole by that of
    its ratio to the last of them."""

    places: tuple[int, ...]  # of the knobs: one; of shares of a whole this one, then all of them
    start: float
    doubt: float


class _Dials:
    """All directions in which the knobs of a flow are moved."""

    def __init__(self, knobs: Sequence[Knob], choices: Sequence[Sequence[int]], firm: dict[int, Firm]) -> None:
        self.knobs, self.choices, self.firm = knobs, choices, firm
        self.amounts = [float(knob.value.amount) for knob in knobs]
        self.dials: list[_Dial] = []
        chosen = {place for choice in choices for place in choice}
        for place, knob in enumerate(knobs):
            if place in firm:
                self.dials.append(_Dial((place,), firm[place].at, firm[place].doubt))
            elif place not in chosen:
                counts = knob.quantity in _LEAST
                start = _log(self.amounts[place]) if counts else _odds(self.amounts[place])
                self.dials.append(_Dial((place,), start, _DOUBT_OF_COUNT if counts else _DOUBT_OF_SHARE))
        for choice in choices:
            last = _log(self.amounts[choice[-1]])
            self.dials += [
                _Dial((place, *choice), _log(self.amounts[place]) - last, _DOUBT_OF_SHARE * math.sqrt(2))
                for place in choice[:-1]
            ]

    def values_of(self, at: Floats) -> list[float]:
        """The values of the knobs."""
        values = list(self.amounts)
        ratios: dict[int, float] = {}
        for dial, moved in zip(self.dials, at.tolist(), strict=False):
            place = dial.places[0]
            if len(dial.places) > 1:
                ratios[place] = math.exp(min(max(moved, -30.0), 30.0))
            elif self.knobs[place].quantity in _LEAST:
                values[place] = max(_LEAST[self.knobs[place].quantity], math.exp(min(moved, 20.0)))
            else:
                values[place] = 1 / (1 + math.exp(-min(max(moved, -30.0), 30.0)))
        for choice in self.choices:
            whole, parts = sum(self.amounts[place] for place in choice), [ratios.get(place, 1.0) for place in choice]
            for place, part in zip(choice, parts, strict=True):
                values[place] = whole * part / sum(parts)
        return values

    def spread_of(self, at: Floats, covered: Any) -> tuple[Floats, Any]:
        """Standard deviations of the values, and how they hang together (correlations), from the covariance of the directions."""
        many = len(self.dials)
        slopes = np.zeros((len(self.knobs), many))
        here = np.array(self.values_of(at))
        for place in range(many):
            moved = np.array(at, float)
            moved[place] += 1e-4
            slopes[:, place] = (np.array(self.values_of(moved)) - here) / 1e-4
        of_values = slopes @ covered[:many, :many] @ slopes.T
        spread = np.sqrt(np.maximum(np.diag(of_values), 1e-18))
        return spread, of_values / np.outer(spread, spread)


def _log(value: float) -> float:
    return math.log(max(value, _NEAR_BOUND))


def _odds(value: float) -> float:
    inside = min(max(value, 0.002), 0.998)
    return math.log(inside / (1 - inside))


def fit_passes(
    knobs: Sequence[Knob], choices: Sequence[Sequence[int]], seen: dict[str, Seen], runs: float | None, expected: Expected, firm: dict[int, Firm]
) -> PassesFit:  # fmt: skip
    """Fits the knobs to the calls that were seen in so many ``runs`` (None: nobody knows, they are fitted too). ``choices``: places of knobs that are
    shares of one whole; ``firm``: by place what is known of a knob besides."""
    dials = _Dials(knobs, choices, firm)
    start, doubts = np.array([dial.start for dial in dials.dials]), np.array([dial.doubt for dial in dials.dials])
    known, many = list(seen.items()), len(start)
    guess = runs if runs is not None else _runs_seen(seen, expected(dials.values_of(start)))

    def residuals(at: Floats) -> Floats:
        calls = expected(dials.values_of(at))
        count = guess * math.exp(float(at[-1])) if runs is None else guess
        off = [
            (one.calls - count * calls.get(key, 0.0)) / math.sqrt(one.dispersion * max(one.calls, 1.0) + 1.0)
            for key, one in known
        ]
        return np.concatenate([off, (at[:many] - start) / doubts, [at[-1] / _DOUBT_OF_RUNS] if runs is None else []])

    first = np.concatenate([start, [0.0]]) if runs is None else start
    if not len(first):
        return PassesFit([], guess, expected([]))
    from scipy.optimize import least_squares  # of the extra for usage

    found = least_squares(residuals, first, method="trf", diff_step=1e-3, max_nfev=100)
    covered = np.linalg.pinv(found.jac.T @ found.jac)
    count = guess * math.exp(float(found.x[-1])) if runs is None else guess
    return PassesFit(_fits(dials, found.x, start, doubts, covered), count, expected(dials.values_of(found.x)))


def _runs_seen(seen: dict[str, Seen], calls: dict[str, float]) -> float:
    made = sum(calls.get(key, 0.0) for key in seen)
    return sum(one.calls for one in seen.values()) / made if made else 1.0


def _fits(dials: _Dials, at: Floats, start: Floats, doubts: Floats, covered: Any) -> list[KnobFit]:
    """Each number with its ends, and whether the log tells it: it is known better than before, or elsewhere."""
    values, before = dials.values_of(at), dials.values_of(start)
    spread, related = dials.spread_of(at, covered)
    # Of numbers that are told only together one is known as well as this, the others being what they are.
    alone, _ = dials.spread_of(at, np.diag(1 / np.maximum(np.diag(np.linalg.pinv(covered)), 1e-18)))
    doubted, _ = dials.spread_of(at, np.diag(doubts**2))
    made = []
    for place, (knob, value) in enumerate(zip(dials.knobs, values, strict=True)):
        counted = place in dials.firm and dials.firm[place].counted
        moved = abs(value - before[place]) > _MOVED * doubted[place]
        told = bool(counted or moved or spread[place] < _TOLD * doubted[place])
        choice = next((set(one) for one in dials.choices if place in one), set())
        others = tuple(
            dials.knobs[other].what
            for other in range(len(values))
            if other != place and other not in choice and abs(related[place, other]) > _TOGETHER
        )
        low, high = _ends(knob, value, float((alone if others else spread)[place]))
        made.append(KnobFit(knob, value, low, high, told, others))
    return made


def _ends(knob: Knob, value: float, deviation: float) -> tuple[float, float]:
    """The ends between which a number lies: as far either way as a PERT distribution of that deviation, in the scale in which it is fitted."""
    reach = math.sqrt(7.0)
    if knob.quantity in _LEAST:
        relative = reach * deviation / max(value, _NEAR_BOUND)
        return max(_LEAST[knob.quantity], value * math.exp(-relative)), value * math.exp(min(relative, 5.0))
    odds, scale = _odds(value), max(value * (1 - value), 1e-4)
    ends = (odds - reach * deviation / scale, odds + reach * deviation / scale)
    low, high = (1 / (1 + math.exp(-min(max(end, -30.0), 30.0))) for end in ends)
    return min(low, value), max(high, value)

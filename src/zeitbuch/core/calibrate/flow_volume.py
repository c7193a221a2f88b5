# How often a flow runs.
"""The volume of a flow."""

from __future__ import annotations

from calendar import monthrange

import numpy as np

from zeitbuch.core.assumptions.quantities import MONTHS, QUANTITIES
from zeitbuch.core.assumptions.values import Value

from .flow_passes import PassesMeasuring
from .flow_subject import FlowSubject
from .observed import Floats
from .passes_fit import PassesFit
from .records import SeasonMeasured
from .season_fit import factors_words, fit_season
from .volumes_fit import (
    FEW,
    Place,
    Rate,
    checks_by_day,
    drawn_to,
    ends_of,
    fit_volume,
    is_declared,
    places_of_volume,
)

_FACTOR_DIGITS = 3
_OFF = 0.1  # runs beside those that follow from something else, as a part of them, from which on they are told
_LEAST_OWN = 0.02  # of runs that others cause, too: the least part that is its own


class VolumeMeasuring:
    """Measures the volume; what makes calls is measured before."""

    def __init__(self, flow: FlowSubject, passes: PassesMeasuring) -> None:
        self.flow, self.passes = flow, passes

    def measure(self, fit: PassesFit) -> None:
        """Adds the rates."""
        runs = self._runs_by_day(fit)
        if runs is None:
            return
        checks = checks_by_day(self.flow.base, self.flow.seen.days)
        places = places_of_volume(self.flow.base, float(checks.mean()), self._called_a_day())
        if isinstance(places, str):
            self._tell_schedule(runs, places)
            return
        # A share of checks is higher on no day for there being more of them; what is declared goes with the season.
        level = checks / checks.mean() if places[0].quantity == "hit_rate" else self._measured_seasons(runs)
        found = fit_volume(self.flow.seen.days, runs, self.flow.ask.horizon, level)
        if not any(rate.runs for rate in found.rates):
            since = self.flow.seen.days[found.first]
            self.flow.say(
                f"no run since {since}: switched off, renamed or no longer exported; its volume is left as it was"
            )
            return
        for place in places:
            kept = is_declared(self.flow.base, place) and not self.flow.ask.over_declared
            before = self._volume_before(place)
            for rate in found.rates:
                self._add_rate(rate, place, found.first, before, kept, level)

    def _measured_seasons(self, runs: Floats) -> Floats:
        """What the volume of an average month is multiplied by on each day: as declared, else as the log has it."""
        season, days = fit_season(self.flow.seen.days, runs), self.flow.seen.days
        declared = self.flow.base.lookup.season
        if season is None:
            return self._seasons()
        if not season.certain:
            if declared is None:
                words = "a season, or what happened once or stayed; a second year tells"
                self.flow.say(f"its runs differ by months ({factors_words(season.factors)}): {words}")
            return self._seasons()
        kept = declared is not None and not self.flow.ask.over_declared
        factors = tuple(round(factor, _FACTOR_DIGITS) for factor in season.factors)
        before = declared.factors if declared is not None else ()
        flow, name = self.flow.model.flow.id, self.flow.case.name
        why = "declared, and kept" if kept else ""
        self.flow.seasons.append(
            SeasonMeasured(flow, name, factors, season.runs, str(days[0]), str(days[-1]), before, not kept, why)
        )
        return self._seasons() if kept else np.array([season.factors[day.month - 1] for day in days])

    def _called_a_day(self) -> float:
        """Runs that other flows cause on the last day, as estimated."""
        expected = self.flow.case.expected
        awaited = expected.runs.get(self.flow.seen.days[-1]) if expected is not None else None
        own = self.flow.base.volume.runs
        return max(0.0, awaited - float(own)) if awaited is not None and own is not None else 0.0

    def _seasons(self) -> Floats:
        """What the volume of an average month is multiplied by on each day."""
        season, days = self.flow.base.lookup.season, self.flow.seen.days
        if season is None:
            return np.ones(len(days))
        return np.array([season.factors[day.month - 1] * MONTHS / sum(season.factors) for day in days])

    def _add_rate(self, rate: Rate, place: Place, first: int, before: Value | None, kept: bool, level: Floats) -> None:
        days = self.flow.seen.days
        of_it = [at for at in range(first, len(days)) if not rate.weekdays or f"{days[at]:%A}".lower() in rate.weekdays]
        expected = self.flow.case.expected
        awaited = [expected.runs.get(days[at]) for at in of_it] if expected is not None else [None]
        known = [one for one in awaited if one is not None]
        drawn, few = drawn_to(rate, float(level[of_it].sum()), sum(known) if len(known) == len(awaited) else None)
        words = ["declared, and kept"] if kept else []
        words += [f"fewer than {FEW} runs: drawn towards what was assumed"] if few else []
        mean = max(drawn.mean - place.others, _LEAST_OWN * drawn.mean)
        value = mean * place.part * place.times
        deviation = drawn.deviation * drawn.mean / mean if mean else drawn.deviation
        most = QUANTITIES[place.quantity][1]
        self.flow.found.append(
            self.flow.measured(
                place.words, place.quantity, min(value, most), ends_of(value, deviation, most=most), (rate.runs, "runs"), first,
                before, not kept, "; ".join(words), {"trigger": place.trigger}, rate.weekdays,
            )
        )  # fmt: skip

    def _runs_by_day(self, fit: PassesFit) -> Floats | None:
        """Runs by day: as counted, or as many as the calls are worth."""
        if self.flow.seen.runs is not None and self.passes.runs_known(0) is not None:
            return self.flow.seen.runs
        each = sum(fit.calls.get(key, 0.0) for key in self.flow.seen.groups)
        if not each:
            return None
        if self.flow.seen.runs is None:
            self.flow.say("the log does not tell runs: its calls are taken for as many runs as would make them")
        else:
            self.flow.say(
                "the log has only runs that call a model: how many others there are is worked out from the cases"
            )
        return self.flow.seen.calls / each

    def _volume_before(self, place: Place) -> Value | None:
        """What was assumed for an average month, as it would be declared."""
        volume, last, season = self.flow.base.volume, self.flow.seen.days[-1], float(self._seasons()[-1])
        if place.quantity == "hit_rate" or volume.runs is None or not season:
            return None
        month = float(volume.runs) * monthrange(last.year, last.month)[1] / season
        return Value(month * place.own, volume.evidence)

    def _tell_schedule(self, runs: Floats, why: str) -> None:
        """Runs of a flow whose volume follows from something else, where the log has others."""
        expected = self.flow.case.expected
        awaited = [expected.runs.get(day) for day in self.flow.seen.days] if expected is not None else [None]
        known = [one for one in awaited if one is not None]
        if len(known) < len(awaited):
            return
        counted, told = float(runs.sum()), sum(known)
        if abs(counted - told) > max(_OFF * told, 3 * told**0.5):
            self.flow.say(
                f"{why}: the estimate has {told:,.0f} runs, the log {counted:,.0f}; nothing is written over it"
            )

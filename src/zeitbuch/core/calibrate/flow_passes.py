# What makes the calls of a flow, fitted to the calls of all its steps.
"""Shares, failures, items, rounds and turns of a flow."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

import numpy as np

from zeitbuch.core.assumptions.values import Value
from zeitbuch.core.estimate.knobs import Knob
from zeitbuch.core.model.name_patterns import literal_pattern
from zeitbuch.core.model.records import Step

from .changes import dispersion_of_counts, last_change_of_counts
from .flow_model import Calls
from .flow_subject import FlowSubject
from .passes_fit import Firm, KnobFit, PassesFit, Seen, fit_passes, fits_passes, odds_of
from .records import Measured
from .volumes_fit import FEW

# Calls that no assumption makes: as a part of those seen, and in standard deviations, from which on they are told.
_OFF, _SURE = 0.1, 4.0
# Of steps that are tried again: two failures in a hundred, or ten times as many, in the scale of the fit.
_A_FEW_FAILURES = Firm(-4.0, 2.0)
_LEAST_FAILURE = 0.01  # that is told where the log says of no line that it failed
_NEARLY_ALL = 0.998
_SHARE_DIGITS = 5
_FAULTS = ("failure", "timeout")


class PassesMeasuring:
    """Measures what makes calls."""

    def __init__(self, flow: FlowSubject) -> None:
        self.flow = flow
        self._counted: set[tuple[str, str]] = set()  # faults that the log itself counts: quantity and step

    def _name_swapped(self, used: Calls) -> None:
        """Where the log names models alone and one that the flow has was swapped for another: it is the same calls."""
        gone, new = (
            [key for key in used if key not in self.flow.seen.groups],
            [key for key in self.flow.seen.groups if key not in used],
        )
        if not self.flow.seen.by_step and len(gone) == len(new) == 1:
            self.flow.seen.groups[gone[0]] = self.flow.seen.groups.pop(new[0])
            self.flow.say(f"the log has ‘{new[0]}’ in place of ‘{gone[0]}’")

    def measure(self) -> PassesFit:
        """Adds the numbers; returns the fit."""
        self._name_swapped(self.flow.model.calls_of())
        knobs = [knob for knob in self.flow.knobs if fits_passes(knob)]
        firm: dict[int, Firm] = {}
        first = self._first_of_passes()
        if self.flow.seen.by_step:
            for quantity in sorted(self.flow.ask.tells):
                self._add_faults(quantity, knobs, firm, first)
            self._add_retries(knobs, firm)
        if not self.flow.seen.by_pass:
            self._add_turns(knobs)
        kept = [place for place, knob in enumerate(knobs) if self.flow.is_kept(knob.value)]
        fit = self._fit_some(knobs, firm, first, kept)
        if not kept:
            self._add_knobs(fit, first, True)
        else:
            # What the log has in place of what was declared is told, and nothing rests on it.
            whole = self._fit(knobs, firm, first)
            contradicted = {place for place in kept if whole.knobs[place].told and not whole.knobs[place].together}
            # Other numbers are not bent to make up for a declared one that the log contradicts.
            held = [place for place in kept if place not in contradicted]
            beside = self._fit_some(knobs, firm, first, held) if contradicted else fit
            names = {knobs[place].what for place in kept}
            self._add_knobs(
                beside._replace(knobs=[one for one in beside.knobs if one.knob.what not in names]), first, True
            )
            self._add_knobs(whole._replace(knobs=[whole.knobs[place] for place in kept]), first, False)
        self._tell_rest(fit, first)
        return fit

    def _fit_some(self, knobs: Sequence[Knob], firm: dict[int, Firm], first: int, held: Sequence[int]) -> PassesFit:
        """The fit of all numbers but those that are held where they are."""
        free = [place for place in range(len(knobs)) if place not in held]
        known = {free.index(place): at for place, at in firm.items() if place in free}
        return self._fit([knobs[place] for place in free], known, first)

    def _first_of_passes(self) -> int:
        """The day from which on calls of all groups are in one proportion to runs."""
        exposures = self.flow.seen.runs if self.flow.seen.runs is not None else self.flow.seen.calls
        return max(
            (last_change_of_counts(group.by_day["calls"], exposures) for group in self.flow.seen.groups.values()),
            default=0,
        )

    def _counts_tries(self, step: Step) -> bool:
        """Whether each line of a step is one try, of which the log says whether it failed."""
        return "failure" in self.flow.ask.tells and (self.flow.ask.by_try or not _is_retried(step))

    def _add_faults(self, quantity: str, knobs: list[Knob], firm: dict[int, Firm], first: int) -> None:
        """Failures, or limits of time that passed, as the log counts them: they are known by themselves."""
        for key, group in self.flow.seen.groups.items():
            step = self.flow.steps.get(key)
            by_day = group.failed if quantity == "failure" else group.timed_out
            counted, lines = float(by_day[first:].sum()), float(group.lines[first:].sum())
            single = step is not None and (self.flow.ask.by_try or not _is_retried(step))
            if step is None or not single or lines < FEW or not counted:
                continue
            place = {"step": literal_pattern(key)}
            at = next((n for n, knob in enumerate(knobs) if knob.quantity == quantity and knob.rule == place), None)
            if at is None:
                knobs.append(Knob(f"{quantity} of ‘{step.title}’", quantity, Value(0.0, "default", "default"), place))
                at = len(knobs) - 1
            firm[at] = odds_of(counted, lines)
            self._counted.add((quantity, literal_pattern(key)))

    def _add_retries(self, knobs: list[Knob], firm: dict[int, Firm]) -> None:
        """Of steps that are tried again more calls than passes are failures, though the log does not say how any ended."""
        there = {knob.rule["step"] for knob in knobs if knob.quantity == "failure"}
        for key in self.flow.seen.groups:
            step, pattern = self.flow.steps.get(key), literal_pattern(key)
            if step is not None and _is_retried(step) and not self._counts_tries(step) and pattern not in there:
                knobs.append(
                    Knob(f"failure of ‘{step.title}’", "failure", Value(0.0, "default", "default"), {"step": pattern})
                )
                firm[len(knobs) - 1] = _A_FEW_FAILURES

    def _add_turns(self, knobs: list[Knob]) -> None:
        """An agent without tools is taken to answer at once; the log may know better."""
        there = {knob.rule["step"] for knob in knobs if knob.quantity == "turns"}
        for step in self.flow.steps.values():
            pattern = literal_pattern(step.id)
            if step.kind == "agent" and pattern not in there:
                knobs.append(
                    Knob(f"turns of ‘{step.title}’", "turns", Value(1.0, "export", "without tools"), {"step": pattern})
                )

    def runs_known(self, first: int) -> float | None:
        """Runs that the log counts, where all leave a line."""
        if self.flow.seen.runs is None or not (self.flow.seen.all_runs or self._always_calls):
            return None
        return float(self.flow.seen.runs[first:].sum())

    @cached_property
    def _always_calls(self) -> bool:
        """Whether each run makes a model call, whatever its cases, and with nothing to loop over."""
        loops = [knob for knob in self.flow.knobs if knob.quantity == "items"]
        shares = [knob for knob in self.flow.knobs if knob.quantity == "share"]
        amounts = [float(knob.value.amount) for knob in shares]
        by_step: dict[str, list[int]] = {}
        for place, knob in enumerate(shares):
            by_step.setdefault(knob.rule["step"], []).append(place)
        moved = [amounts]
        for places in by_step.values():
            # All runs go one way; a single share stands for two ways.
            for chosen in [*places, None] if len(places) == 1 else places:
                one = list(amounts)
                for place in places:
                    one[place] = _NEARLY_ALL if place == chosen else (1 - _NEARLY_ALL) / len(places)
                moved.append(one)
        ways = [self.flow.model.with_values([*loops, *shares], [*([0.0] * len(loops)), *one]) for one in moved]
        return all(sum(way.values()) >= _NEARLY_ALL - 0.01 for way in ways)

    def _fit(self, knobs: Sequence[Knob], firm: dict[int, Firm], first: int) -> PassesFit:
        runs = self.runs_known(first)
        exposures = self.flow.seen.runs if self.flow.seen.runs is not None else np.ones(len(self.flow.seen.days))
        seen = {
            key: Seen(
                float(group.by_day["calls"][first:].sum()),
                dispersion_of_counts(group.by_day["calls"][first:], exposures[first:]),
            )
            for key, group in self.flow.seen.groups.items()
        }
        known = set(self.flow.model.calls_of())
        seen = {key: one for key, one in seen.items() if key in known} | {
            key: Seen(0.0, 1.0) for key in known - set(seen)
        }

        def expected(values: Sequence[float]) -> dict[str, float]:
            return self.flow.model.with_values(knobs, values)

        found = fit_passes(knobs, self._choices(knobs), seen, runs, expected, firm)
        self._round_shares(found.knobs, self._choices(knobs))
        return found

    @staticmethod
    def _round_shares(fits: Sequence[KnobFit], choices: Sequence[Sequence[int]]) -> None:
        """Shares of one whole stay its parts when they are written with few digits."""
        for choice in choices:
            whole = sum(fits[place].value for place in choice)
            for place in choice[:-1]:
                fits[place].value = round(fits[place].value, _SHARE_DIGITS)
            rest = whole - sum(fits[place].value for place in choice[:-1])
            fits[choice[-1]].value = max(0.0, round(rest, _SHARE_DIGITS))

    def _choices(self, knobs: Sequence[Knob]) -> list[list[int]]:
        """Places of the shares of one whole."""
        by_step: dict[str, list[int]] = {}
        for place, knob in enumerate(knobs):
            if knob.quantity == "share":
                by_step.setdefault(knob.rule["step"], []).append(place)
        inclusive = {literal_pattern(step.id) for step in self.flow.steps.values() if step.inclusive}
        return [places for step, places in by_step.items() if len(places) > 1 and step not in inclusive]

    def _add_knobs(self, fit: PassesFit, first: int, written: bool) -> None:
        for one in fit.knobs:
            is_fault = one.knob.quantity in _FAULTS and (one.knob.quantity, one.knob.rule["step"]) not in self._counted
            seen = not is_fault or one.value >= _LEAST_FAILURE
            if one.told and seen:
                self.flow.found.append(self._measured_knob(one, fit, first, written))

    def _measured_knob(self, one: KnobFit, fit: PassesFit, first: int, written: bool) -> Measured:
        knob, words = one.knob, []
        if not written:
            words.append("declared, and kept")
        if one.together:
            words.append(f"told only together with {', '.join(one.together[:3])}: its range is for these as they are")
        if fit.runs < FEW:
            words.append(f"fewer than {FEW} runs: drawn towards what was assumed")
        return self.flow.measured(
            knob.what,
            knob.quantity,
            one.value,
            (one.low, one.high),
            (fit.runs, "runs"),
            first,
            knob.value,
            written,
            "; ".join(words),
            knob.rule,
            alone=not one.together,
        )

    def _tell_rest(self, fit: PassesFit, first: int) -> None:
        """Calls that no assumption makes, and steps that the definition does not have."""
        unknown = [
            key
            for key in self.flow.seen.groups
            if key not in fit.calls and self.flow.seen.groups[key].total("calls", first)
        ]
        if unknown:
            self.flow.say(f"the log has steps or models that the definition does not: {', '.join(unknown[:5])}")
        for key, each in fit.calls.items():
            made = each * fit.runs
            calls = self.flow.seen.groups[key].total("calls", first) if key in self.flow.seen.groups else 0.0
            if abs(calls - made) > _OFF * max(calls, made) and abs(calls - made) > _SURE * max(made, calls) ** 0.5:
                name = self.flow.steps[key].title if key in self.flow.steps else key
                self.flow.say(
                    f"‘{name}’ {'ran' if self.flow.seen.by_pass else 'was called'} {calls / fit.runs if fit.runs else 0:.3g} times a run, the estimate makes {each:.3g} of it, "
                    "and no assumption that may be set moves it there"
                )


def _is_retried(step: Step) -> bool:
    return step.retry is not None and bool(step.retry.attempts)

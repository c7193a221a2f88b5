# What the calls of a flow take in and give out.
"""Sizes of the calls of a flow."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np

from zeitbuch.core.assumptions.values import Evidence, Value
from zeitbuch.core.model.name_patterns import literal_pattern
from zeitbuch.core.model.records import Step

from .flow_subject import FlowSubject
from .observed import GroupSeen
from .sizes_fit import SIZES, MeanSeen, mean_per_call, share_per_call, solve_size
from .volumes_fit import ENDS, FEW, ends_of

# How much sizes vary from call to call, as a part of the mean, and how far from it what was assumed may be (its logarithm).
_USUAL_SPREAD, _DOUBT_OF_DEFAULT, _DOUBT_OF_DECLARED = 0.5, 1.5, 0.35
_KNOWN = ("export", "measured")


class SizesMeasuring:
    """Measures sizes."""

    def __init__(self, flow: FlowSubject) -> None:
        self.flow = flow

    def measure(self) -> None:
        """Adds the sizes of all steps, under what was measured before."""
        run = self.flow.model.run()
        for key, group in self.flow.seen.groups.items():
            steps = [one for one in run.steps if one.calls and (one.id if self.flow.seen.by_step else one.model) == key]
            if not steps:
                continue
            self._measure_parts(steps, group)
            self.flow.settle()  # answers are set under what of them nobody reads
            for column, quantity, unit in SIZES:
                seen = mean_per_call(group, column, self.flow.ask.horizon)
                whole = sum(_of_unit(one, unit) for one in steps) / sum(one.calls for one in steps)
                if seen is None or not whole:
                    continue
                for one in steps:
                    wanted = seen.mean * _of_unit(one, unit) / one.calls / whole
                    self._measure_size(self.flow.steps[one.id], quantity, unit, wanted, seen, len(steps) > 1)

    def _measure_parts(self, steps: Sequence[Any], group: GroupSeen) -> None:
        """What of the tokens is cached, and what nobody reads, over the whole log."""
        cached = share_per_call(group, "tokens_cached", "tokens_in")
        hidden = share_per_call(group, "tokens_reasoning", "tokens_out")
        pairs = (
            ("cached_input", cached),
            ("reasoning", hidden / (1 - hidden) if hidden is not None and hidden < 1 else None),
        )
        for one in steps:
            step = self.flow.steps[one.id]
            for quantity, value in pairs:
                before = self._value_of(quantity, step)
                if value is None or (not value and not (before is not None and before.amount)):
                    continue
                kept = before is not None and self.flow.is_kept(before)
                deviation = 0.5 / max(group.total("calls"), 1.0) ** 0.5
                self._add_size(
                    step, quantity, value, ends_of(value, deviation), group.total("calls"), 0, before, kept, False
                )

    def _measure_size(self, step: Step, quantity: str, unit: str, wanted: float, seen: MeanSeen, several: bool) -> None:
        kept = any(self.flow.is_kept(value) for value in self._values_behind(quantity, step))
        rules = {"step": literal_pattern(step.id)}

        def estimated(value: float) -> float:
            run = self.flow.model.run([self.flow.model.rule_for(quantity, value, **rules)])
            return next((_of_unit(one, unit) / one.calls for one in run.steps if one.id == step.id and one.calls), 0.0)

        before = self._estimated_size(step, quantity, unit)
        if (
            before is not None
            and before.evidence in _KNOWN
            and abs(before.amount - wanted) <= ENDS * seen.deviation * wanted
        ):
            return  # the export's own text says as much, and goes on saying it when it is changed
        value = solve_size(wanted, estimated)
        # What was assumed is told as the quantity, too: of an agent's calls most are no answer.
        before = next((one.value for one in self.flow.knobs if one.quantity == quantity and one.rule == rules), before)
        if value is None:
            self.flow.say(
                f"{quantity} of ‘{step.title}’: the log has {wanted:,.0f} a call, and nothing that may be declared makes that"
            )
            return
        self._add_size(
            step, quantity, value, ends_of(value, seen.deviation), seen.calls, seen.first, before, kept, several
        )

    def _add_size(
        self, step: Step, quantity: str, value: float, ends: tuple[float, float], calls: float, first: int, before: Value | None, kept: bool, several: bool
    ) -> None:  # fmt: skip
        words = ["declared, and kept"] if kept else []
        if several:
            words.append("the log names no steps: in proportion to what was estimated for each")
        if calls < FEW:
            words.append(f"fewer than {FEW} calls: drawn towards what was assumed")
            if before is not None and before.amount and value:
                value, ends = _drawn_size(value, ends, calls, before)
        self.flow.found.append(
            self.flow.measured(
                f"{quantity} of ‘{step.title}’", quantity, value, ends, (calls, "calls"), first, before, not kept, "; ".join(words),
                {"step": literal_pattern(step.id)},
            )
        )  # fmt: skip

    def _value_of(self, quantity: str, step: Step) -> Value | None:
        found: Value | None = self.flow.base.lookup.find(quantity, step=(step.id, step.name))
        return found

    def _values_behind(self, quantity: str, step: Step) -> Iterator[Value]:
        """What somebody may have declared of a size: itself, or what fills the prompt."""
        own = self._value_of(quantity, step)
        if own is not None:
            yield own
        if quantity != "input" or step.model is None:
            return
        sources = {literal_pattern(ref.step) for prompt in step.model.prompts for ref in prompt.refs if ref.step}
        for knob in self.flow.knobs:
            if knob.quantity == "size" and {knob.rule.get("step"), knob.rule.get("trigger")} & sources:
                yield knob.value

    def _estimated_size(self, step: Step, quantity: str, unit: str) -> Value | None:
        """What the estimate has for a call now, with its evidence."""
        for one in self.flow.base.steps:
            if one.id == step.id and one.calls:
                evidence: Evidence = next((part.evidence for part in one.parts if part.unit == unit), "default")
                return Value(_of_unit(one, unit) / one.calls, evidence)
        return None


def _drawn_size(
    value: float, ends: tuple[float, float], calls: float, before: Value
) -> tuple[float, tuple[float, float]]:
    """A mean of few calls drawn towards what was assumed, as surely as either is known (both by their logarithms)."""
    seen = max((ends[1] - ends[0]) / (2 * ENDS * value), _USUAL_SPREAD / calls**0.5)
    doubt = _DOUBT_OF_DEFAULT if before.evidence == "default" else _DOUBT_OF_DECLARED
    weight = doubt**2 / (doubt**2 + seen**2)
    mean = float(np.exp(weight * np.log(value) + (1 - weight) * np.log(before.amount)))
    return mean, ends_of(mean, seen * weight**0.5)


def _of_unit(step: Any, unit: str) -> float:
    units = ("input", "cached") if unit == "input" else (unit,)
    return float(sum(part.quantity for part in step.parts if part.unit in units))

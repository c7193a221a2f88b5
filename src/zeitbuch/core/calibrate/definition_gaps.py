# A definition says what may happen, a log what did. Where they part for good, the definition is to be looked at.
"""What of a definition the log does not bear out."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import date

from msgspec import Struct

from zeitbuch.core.actuals.flow_cases import FlowCase
from zeitbuch.core.actuals.reconcile import Asked, Basis, Log, gather_sides
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.records import Step

from .calibrate import ask_of, measure_sides
from .records import Calibrated

_AWAITED = 12.0  # passes: where none of so many happened, that is no chance (one in 160,000)
_NO_CHANGE = ("runs", "hit_rate", "seconds")  # quantities that go up and down without anybody changing a definition


class DefinitionGap(Struct, frozen=True):
    """One place where definition and log part: the code of the check that tells it, the flow, the step (empty: the whole flow), and what to say."""

    code: str
    flow: str
    step: str
    message: str


def definition_gaps(logs: Sequence[Log], basis: Basis) -> list[DefinitionGap]:
    """All such places. Raises ZeitbuchError where no line has a day."""
    sides = gather_sides(logs, basis, Asked())
    days = sorted(sides.covered & set(sides.days))
    measured = measure_sides(sides, days, basis, ask_of(logs, over_declared=False))
    found: list[DefinitionGap] = []
    for case in sides.cases:
        if any(case.lines.get(day) for day in days):
            found += [*_never_run(case, days), *_foreign_models(case, days), *_newer(case, measured)]
    return found


def _never_run(case: FlowCase, days: Sequence[date]) -> Iterator[DefinitionGap]:
    """Steps that call models, and were to be reached often, without any line; of those behind a case the case is told."""
    lines = [one for day in days for one in case.lines.get(day, ())]
    if case.expected is None or not any(one.step for one in lines):
        return
    seen = {one.step for one in lines}
    awaited: dict[str, float] = {}
    for day in days:
        runs = case.runs_on(day) or 0.0
        for step in case.expected.steps_on(day):
            awaited[step.id] = awaited.get(step.id, 0.0) + runs * step.calls
    steps = {step.id: step for step in case.flow.steps}
    for key, passes in awaited.items():
        if key in seen or key not in steps or passes < _AWAITED:
            continue
        words = f"in {len(days):,} days, where {passes:,.0f} calls were estimated"
        label, chooser = _case_of(case, key, steps)
        if chooser is not None:
            yield DefinitionGap(
                "case-never-taken",
                case.id,
                chooser.id,
                f"{quote_name(chooser.title)} never took the case {quote_name(label)} {words}",
            )
        else:
            yield DefinitionGap(
                "step-never-run", case.id, key, f"the log has no call of {quote_name(steps[key].title)} {words}"
            )


def _case_of(case: FlowCase, key: str, steps: dict[str, Step]) -> tuple[str, Step | None]:
    """The case that alone leads to a step, and the step that chooses it."""
    leading = [link for link in case.flow.links if link.target == key]
    if len(leading) == 1 and leading[0].role == "case" and leading[0].source in steps:
        return leading[0].label or leading[0].condition or key, steps[leading[0].source]
    return "", None


def _foreign_models(case: FlowCase, days: Sequence[date]) -> Iterator[DefinitionGap]:
    """Models in the log that no step of the flow names."""
    if case.expected is None:
        return
    named = {step.model for day in days for step in case.expected.steps_on(day)}
    named |= {step.model.name for step in case.flow.steps if step.model is not None and step.model.name}
    if not named or "" in named:
        return  # some step may call whatever it is given
    calls: dict[str, list[tuple[date, float]]] = {}
    for day in days:
        for one in case.lines.get(day, ()):
            if one.model and one.model not in named:
                calls.setdefault(one.model, []).append((day, one.sum.calls or float(one.sum.lines)))
    for model, made in calls.items():
        total, first, last = sum(number for _, number in made), made[0][0], made[-1][0]
        yield DefinitionGap(
            "model-not-named",
            case.id,
            "",
            f"{quote_name(model)} answered {total:,.0f} calls from {first} to {last}, and no step of the flow names it",
        )


def _newer(case: FlowCase, measured: Calibrated) -> Iterator[DefinitionGap]:
    """A flow that behaves otherwise since a day, with a definition that was last changed before."""
    changed = case.flow.changed[:10]
    since = [one for one in measured.measured if one.flow == case.id and one.since and one.quantity not in _NO_CHANGE]
    if changed and since and changed < min(one.since for one in since):
        first = min(since, key=lambda one: one.since)
        yield DefinitionGap(
            "log-newer",
            case.id,
            "",
            f"{first.subject} is otherwise since {first.since}, and the definition was last changed on {changed}",
        )

# How long the steps of a flow take. Work is written, as meters of time count it; waiting for a person or another flow is told, and not written.
"""Durations of the steps of a flow."""

from __future__ import annotations

from collections.abc import Iterable

from zeitbuch.core.assumptions.quantities import DEFAULTS
from zeitbuch.core.assumptions.values import Value
from zeitbuch.core.estimate.records import StepEstimate
from zeitbuch.core.model.kinds import IDLE_KINDS, SCOPE_KINDS
from zeitbuch.core.model.name_patterns import literal_pattern
from zeitbuch.core.model.records import Step

from .flow_subject import FlowSubject
from .observed import GroupSeen
from .sizes_fit import MeanSeen, mean_of
from .volumes_fit import FEW, ends_of

_WAITING = frozenset({"wait", "approve", "subflow"})
_FAR_MORE = 1.5  # lines than passes
_NO_WORK = SCOPE_KINDS | IDLE_KINDS  # what they take is that of the steps within


class TimesMeasuring:
    """Measures durations, after what makes calls."""

    def __init__(self, flow: FlowSubject) -> None:
        self.flow = flow

    def measure(self) -> None:
        """Adds the seconds of each step that the log tells them of."""
        run = self.flow.model.run()
        made = {one.id: one for one in run.steps}
        for key, group in self.flow.seen.groups.items():
            step = self._step_of(key, made.values())
            if step is None or step.kind in _NO_WORK:
                continue
            seen = mean_of(group.took, group.timed, self.flow.ask.horizon)
            if seen is not None and seen.mean > 0:
                reached = run.passes.of[step.id].arrivals if step.id in run.passes.of else 0.0
                self._add(step, seen, self._lines_of_pass(group, made.get(step.id)), self._doubts(step, group, reached))

    def _step_of(self, key: str, made: Iterable[StepEstimate]) -> Step | None:
        """The step of a group; of a model the one step that asks it."""
        if self.flow.seen.by_step:
            return self.flow.steps.get(key)
        asking = [one.id for one in made if one.model == key and one.calls]
        return self.flow.steps[asking[0]] if len(asking) == 1 else None

    def _holds_tools(self, step: Step) -> bool:
        """Whether tools of an agent have durations of their own, which may be within the agent's."""
        attached = [
            link
            for link in self.flow.model.flow.links
            if link.role == "attach" and step.id in (link.source, link.target)
        ]
        tools = {end for link in attached for end in (link.source, link.target)} - {step.id}
        return step.kind == "agent" and any(
            self.flow.seen.groups[key].timed.any() for key in tools if key in self.flow.seen.groups
        )

    def _doubts(self, step: Step, group: GroupSeen, reached: float) -> list[str]:
        """Why the lines of a step may not say how long one pass takes. ``reached``: passes of one run, as estimated with what was measured."""
        words = []
        runs = float(self.flow.seen.runs.sum()) if self.flow.seen.runs is not None else 0.0
        if not self.flow.ask.by_try and runs * reached and float(group.lines.sum()) > _FAR_MORE * runs * reached:
            words.append("its lines are not one a pass, not written")
        if self._holds_tools(step):
            words.append("may hold the time of its tools, which the log tells too: not written")
        return words

    def _lines_of_pass(self, group: GroupSeen, made: StepEstimate | None) -> float:
        """Lines of one pass: as many as it makes calls, where lines are calls; else one."""
        are_calls = self.flow.ask.by_try and group.total("calls") >= group.lines.sum()
        return made.calls / made.passes if are_calls and made is not None and made.passes and made.calls else 1.0

    def _add(self, step: Step, seen: MeanSeen, lines_of_pass: float, doubts: Iterable[str]) -> None:
        before = self.flow.base.lookup.find("seconds", step=(step.id, step.name))
        before = before or Value(DEFAULTS["seconds"], "default", "default")
        kept = self.flow.is_kept(before)
        words = ["declared, and kept"] if kept else []
        if step.kind in _WAITING:
            words.append("waiting, not written: meters of time count work")
        elif seen.calls < FEW:
            words.append(f"fewer than {FEW} lines, not written")
        words += doubts
        value = seen.mean * lines_of_pass
        self.flow.found.append(
            self.flow.measured(
                f"seconds of ‘{step.title}’", "seconds", value, ends_of(value, seen.deviation), (seen.calls, "lines"), seen.first,
                before, not words, "; ".join(words), {"step": literal_pattern(step.id)},
            )
        )  # fmt: skip

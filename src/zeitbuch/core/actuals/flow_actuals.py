# What logs have of the steps of a flow: how often, how they ended, how long they took, what they cost. Only what the log tells is here; what
# it does not is None, and not nothing.
"""Flows as logs have them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import date
from decimal import Decimal

from msgspec import structs

from zeitbuch.core.graph.topology import Graph, model_of
from zeitbuch.core.model.records import Flow, Step

from .flow_cases import ZERO
from .placing import Placed
from .reconcile import Log, Sides, runs_by_flow
from .step_records import FlowActuals, StepActual
from .step_times import StepPlace, StepTimes


def only_step_of(graph: Graph, model: str) -> str:
    """The step that a line without one must be of: the only step of the flow that calls its model, or any model; empty where there are
    several."""
    users = [(step, use) for step in graph.flow.steps if step.enabled and (use := _calls_model(graph, step.id))]
    same = [key for key, name in users if name == model]
    if len(same) == 1:
        return same[0].id
    return users[0][0].id if len(users) == 1 else ""


def _calls_model(graph: Graph, key: str) -> str | None:
    """The model that a step calls itself; a model that is attached to an agent is called by the agent."""
    step = graph.steps[key]
    if step.kind not in ("model", "agent", "embed") or (step.kind == "model" and key in graph.host):
        return None
    use = model_of(graph, step)
    return (use.name or "?") if use is not None else None


class StepIndex:
    """Which step lines of logs are of."""

    def __init__(self, flows: Iterable[Flow]) -> None:
        self.graphs = {flow.id: Graph(flow) for flow in flows}

    def step_of(self, one: Placed) -> str:
        """The step of the estate; empty where nobody knows, or the line is of no flow of the estate."""
        graph = self.graphs.get(one.flow)
        if graph is None or one.aside:
            return ""
        if one.step:
            return one.step if one.step in graph.steps else ""
        return "" if one.is_run else only_step_of(graph, one.model)

    def places(self, placed: Iterable[Placed]) -> list[StepPlace]:
        """The names of the log for the steps of the estate."""
        found: dict[tuple[str, str, str], StepPlace] = {}
        for one in placed:
            if key := self.step_of(one):
                names = one.sum.flow, one.sum.step, one.sum.model
                limit = self.graphs[one.flow].steps[key].timeout
                found[names] = StepPlace(*names, one.flow, key, limit)
        return list(found.values())


def flow_actuals(
    sides: Sides, logs: Sequence[Log], times: Sequence[Sequence[StepTimes]], flows: Sequence[Flow]
) -> list[FlowActuals]:
    """What logs have of some flows; ``times`` are the durations of each log. Flows without a line are left out."""
    index = StepIndex(flows)
    runs = [
        runs_by_flow([log], [placing], [one for one in sides.placed if one.log == number]) if log.tells_runs else None
        for number, (log, placing) in enumerate(zip(logs, sides.placings, strict=True))
    ]
    by_flow: dict[str, list[Placed]] = {}
    for one in sides.placed:
        if not one.aside:
            by_flow.setdefault(one.flow, []).append(one)
    return [
        _of_flow(flow, by_flow[flow.id], index, logs, times, runs, sides.placings[0].currency)
        for flow in flows
        if flow.id in by_flow
    ]


def _of_flow(
    flow: Flow, lines: Sequence[Placed], index: StepIndex, logs: Sequence[Log], times: Sequence[Sequence[StepTimes]],
    runs: Sequence[Mapping[tuple[str, date], float] | None], currency: str,
) -> FlowActuals:  # fmt: skip
    days = sorted({one.day for one in lines if one.day is not None})
    by_step: dict[str, list[Placed]] = {}
    for one in lines:
        by_step.setdefault(index.step_of(one), []).append(one)
    own = sorted({one.log for one in lines})
    unknown = sum(one.sum.lines for one in by_step.pop("", []) if not one.is_run)
    graph = index.graphs[flow.id]
    steps = [_of_step(step, by_step[step.id], logs, times, flow.id) for step in graph.in_order() if step.id in by_step]
    return FlowActuals(
        flow.id, flow.title, str(days[0]), str(days[-1]), len(days), currency,
        _runs_of(flow.id, lines, runs),
        tuple(steps),
        unplaced=unknown,
        tells_status=any(_tells_status(logs[log]) for log in own),
        tells_durations=any("duration" in logs[log].mapping.column for log in own),
        same_days=_same_days(lines, logs),
    )  # fmt: skip


def _runs_of(
    key: str, lines: Iterable[Placed], runs: Sequence[Mapping[tuple[str, date], float] | None]
) -> float | None:
    """Runs on all days, where on each a log tells them; two logs of one day are of the same runs, or of some of them."""
    logs: dict[date, set[int]] = {}
    for one in lines:
        if one.day is not None:
            logs.setdefault(one.day, set()).add(one.log)
    total = 0.0
    for day, own in logs.items():
        known = [found.get((key, day), 0.0) for log in own if (found := runs[log]) is not None]
        if not known:
            return None
        total += max(known)
    return total


def _same_days(lines: Iterable[Placed], logs: Sequence[Log]) -> bool:
    """Whether passes and calls are of the same days; a flow that moves from one log of calls to another has all its calls."""
    days: dict[bool, set[date | None]] = {}
    for one in lines:
        days.setdefault(logs[one.log].mapping.stands_for == "step", set()).add(one.day)
    return len(days) < 2 or days[True] == days[False]


def _tells_status(log: Log) -> bool:
    return bool(log.mapping.tells_faults) and log.mapping.stands_for in ("call", "step")


class _StepLines:
    """The lines of one step: those that are passes, and those that are calls or sums of them."""

    def __init__(self, lines: Sequence[Placed], logs: Sequence[Log]) -> None:
        self.lines = lines
        self.passes = [one for one in lines if logs[one.log].mapping.stands_for == "step"]
        self.calls = [one for one in lines if logs[one.log].mapping.stands_for in ("call", "sum")]
        self.ended = [one for one in lines if _tells_status(logs[one.log])]
        self.sums = [
            one for one in self.calls
            if logs[one.log].mapping.stands_for == "sum" and one.sum.duration is not None and one.sum.calls
        ]  # fmt: skip

    @property
    def number_of_calls(self) -> float | None:
        """Model calls; None where some line does not tell them."""
        known = [one.sum.calls for one in self.calls if one.sum.calls is not None]
        return sum(known) if known and len(known) == len(self.calls) else None

    @property
    def cost(self) -> Decimal | None:
        """The cost of the lines that have one."""
        known = [one.cost for one in self.lines if one.cost is not None]
        return sum(known, ZERO) if known else None


def _of_step(
    step: Step, lines: Sequence[Placed], logs: Sequence[Log], times: Sequence[Sequence[StepTimes]], flow: str
) -> StepActual:
    own = _StepLines(lines, logs)
    took, are_passes = _times_of(flow, step.id, times, logs)
    # Of an agent a call is only a part of what its time limit is for.
    limited = are_passes or step.kind != "agent"
    joined = _joined_times(took or _mean_of_sums(flow, step.id, own.sums))
    return StepActual(
        step.id,
        _number_of_lines(own.passes) if own.passes else None,
        own.number_of_calls,
        _number_of_lines(own.ended),
        sum(one.sum.failed + one.sum.timed_out for one in own.ended),
        own.cost,
        _number_of_lines([one for one in own.calls if one.cost is None]),
        joined if joined is None or limited else structs.replace(joined, at_limit=None),
        "pass" if are_passes else "call",
        step.timeout if limited else None,
    )


def _number_of_lines(lines: Iterable[Placed]) -> int:
    return sum(one.sum.lines for one in lines)


def _times_of(
    flow: str, key: str, times: Sequence[Sequence[StepTimes]], logs: Sequence[Log]
) -> tuple[list[StepTimes], bool]:
    """The durations of a step, of its passes where a log tells these, else of its calls; and which they are."""
    found = [(log, one) for log, of_log in enumerate(times) for one in of_log if (one.flow, one.step) == (flow, key)]
    passes = [one for log, one in found if logs[log].mapping.stands_for == "step"]
    return passes or [one for _, one in found], bool(passes)


def _mean_of_sums(flow: str, key: str, sums: Sequence[Placed]) -> list[StepTimes]:
    """The mean of lines that are sums: of these nobody knows the slow ones."""
    number = sum(one.sum.calls or 0.0 for one in sums)
    if not number:
        return []
    mean = sum(one.sum.duration or 0.0 for one in sums) / number
    return [StepTimes(flow, key, round(number), mean, None)]


def _joined_times(found: Sequence[StepTimes]) -> StepTimes | None:
    """Durations of several logs as one; within what time nine of ten of all were done nobody knows."""
    if len(found) < 2:
        return found[0] if found else None
    lines = sum(one.lines for one in found)
    mean = sum(one.mean * one.lines for one in found) / lines
    limits = [one.at_limit for one in found if one.at_limit is not None]
    return StepTimes(found[0].flow, found[0].step, lines, mean, None, sum(limits) if limits else None)

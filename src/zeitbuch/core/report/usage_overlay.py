# What really happened, on the cards of a map: one row of the table for each overlay. What a log does not tell is not shown as nothing.
"""Overlays of maps from usage logs."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from msgspec import Struct, structs

from zeitbuch.core.actuals.busiest_way import busiest_way
from zeitbuch.core.actuals.step_records import CaseShare, FlowActuals, LinkKey, StepActual, UsageShow
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.sheet import money_text, number_text, percent_text
from zeitbuch.core.model.words import took_words


class UsageMarks(Struct, frozen=True):
    """What a map shows of a log: step -> (words, length of its bar), what the bars mean, steps drawn heavier, other words on cards, words on the
    links of cases, and links drawn heavier."""

    meters: dict[str, tuple[str, float]] = {}
    scale: str = ""
    marked: frozenset[str] = frozenset()
    remarks: dict[str, tuple[str, ...]] = {}
    link_words: dict[LinkKey, str] = {}
    heavy: frozenset[LinkKey] = frozenset()


class _Row(NamedTuple):
    """An overlay: what it shows in words, the length of a step's bar (None: the log does not tell it), its words, what the largest is called, and
    how large it is in words."""

    title: str
    value: Callable[[StepActual], float | None]
    words: Callable[[StepActual, FlowActuals], str]
    most: str
    size: Callable[[float, FlowActuals], str]


def count_of(step: StepActual) -> str:
    """'326 passes', '5,422 calls'."""
    number = step.count
    if number is None:
        return ""
    one, more = ("pass", "passes") if step.passes is not None else ("call", "calls")
    return f"{number:,.0f} {one if round(number) == 1 else more}"


def count_each(step: StepActual, flow: FlowActuals) -> float | None:
    """How often it ran in one run of the flow; None where the logs do not tell."""
    return step.count / flow.runs if flow.runs and flow.same_days and step.count is not None else None


def count_words_of(step: StepActual, flow: FlowActuals) -> str:
    """'330 passes, 0.62 a run'."""
    each = count_each(step, flow)
    return count_of(step) + (f", {number_text(each)} a run" if each is not None else "")


def mean_words(step: StepActual) -> str:
    """'4.5 h' of a pass, '7.9 s a call' of a call."""
    return f"{took_words(step.mean)}{' a call' if step.times_of == 'call' else ''}" if step.mean is not None else ""


def duration_words(step: StepActual) -> str:
    """'mean 4.5 h, P90 10.7 h of 12 h'."""
    if step.mean is None:
        return ""
    if step.p90 is None:
        return f"mean {mean_words(step)}"
    limit = f" of {took_words(step.limit)}" if step.limit else ""
    return f"mean {mean_words(step)}, P90 {took_words(step.p90)}{limit}"


def _failed(step: StepActual) -> float | None:
    return step.failed / step.ended if step.ended else None


def failure_words(step: StepActual) -> str:
    """'20 of 326 failed (6 %)'."""
    if not step.ended:
        return ""
    return f"{step.failed:,} of {step.ended:,} failed ({percent_text(step.failed / step.ended)})"


def cost_words(step: StepActual, flow: FlowActuals) -> str:
    """'44.95 EUR, 0.071 a run'."""
    if step.cost is None:
        return ""
    least = "at least " if step.unpriced else ""
    each = f", {money_text(float(step.cost) / flow.runs)} a run" if flow.runs and flow.same_days else ""
    return f"{least}{money_text(step.cost)} {flow.currency}{each}"


_ROWS: dict[UsageShow, _Row] = {
    "runs": _Row(
        "passes",
        lambda s: s.count,
        count_words_of,
        "",
        lambda most, f: number_text(most),
    ),
    "duration": _Row(
        "durations",
        lambda s: s.p90 if s.p90 is not None else s.mean,
        lambda s, f: duration_words(s),
        "slowest",
        lambda most, f: took_words(most),
    ),
    "failures": _Row(
        "failures", _failed, lambda s, f: failure_words(s), "fails most", lambda most, f: percent_text(most)
    ),
    "actual-cost": _Row(
        "cost",
        lambda s: float(s.cost) if s.cost is not None else None,
        cost_words,
        "dearest",
        lambda most, f: f"{money_text(most)} {f.currency}",
    ),
}


def marks_of_usage(graph: Graph, found: FlowActuals | None, show: UsageShow) -> UsageMarks:
    """What the map of a flow shows of a log; ``scale`` says so where the log has nothing of it."""
    row = _ROWS[show]
    if found is None:
        return UsageMarks(scale="the log has no line of this flow")
    drawn = [one for one in found.steps if one.id in graph.steps and one.id not in graph.host]  # tools have no card
    values = {one.id: value for one in drawn if (value := row.value(one)) is not None}
    if not values:
        return UsageMarks(scale=f"the log has no {row.title} of this flow's steps")
    most = max(values.values())
    steps = [one for one in found.steps if one.id in values]
    top = {key for key, value in values.items() if value == most > 0} if row.most and len(values) > 1 else set()
    marks = UsageMarks(
        {one.id: (row.words(one, found), values[one.id] / most if most else 0.0) for one in steps},
        _scale_words(found, show, row.size(most, found)),
        frozenset(top),
        {one.id: words for one in steps if (words := _remarks(one, show, one.id in top))},
    )
    return _with_ways(marks, graph, found) if show == "runs" else marks


def _with_ways(marks: UsageMarks, graph: Graph, found: FlowActuals) -> UsageMarks:
    words = {(one.step, one.target, one.label): share_words(one) for one in found.shares}
    return structs.replace(marks, link_words=words, heavy=busiest_way(graph, found.shares))


def _scale_words(found: FlowActuals, show: UsageShow, longest: str) -> str:
    """What the bars mean: 'passes in the log, 2026-10-01 to 2026-11-30, longest bar 530'."""
    only_calls = show == "runs" and all(step.passes is None for step in found.steps)
    title = "model calls" if only_calls else _ROWS[show].title
    return f"{title} in the log, {found.first_day} to {found.last_day}, longest bar {longest}"


def _remarks(step: StepActual, show: UsageShow, on_top: bool) -> tuple[str, ...]:
    """'slowest · 26 of 330 reached the time limit'."""
    parts = (_ROWS[show].most if on_top else "", limit_words(step) if show == "duration" else "")
    return (" · ".join(part for part in parts if part),) if any(parts) else ()


def limit_words(step: StepActual) -> str:
    """'26 of 330 reached the time limit'."""
    times = step.times
    if times is None or not times.at_limit:
        return ""
    return f"{times.at_limit:,} of {times.lines:,} reached the time limit"


def share_words(one: CaseShare) -> str:
    """'62 %' where it was counted, 'about 62 %' where it was fitted."""
    since = f" since {one.since}" if one.since else ""
    return percent_text(one.share) if one.counted else f"about {percent_text(one.share)}{since}"

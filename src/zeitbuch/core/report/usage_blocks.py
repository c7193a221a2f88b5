# What really happened, for people: a section of a document or an explanation. It says from when to when, and what the log does not tell.
"""Sections on what usage logs have of a flow."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from zeitbuch.core.actuals.step_records import CaseShare, FlowActuals, StepActual
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Step
from zeitbuch.core.model.sheet import Column, Sheet, money_text
from zeitbuch.core.model.words import count_words, took_words

from .blocks import Block, Bullets, Facts, Heading, Paragraph, Table
from .usage_overlay import (
    cost_words,
    count_each,
    count_of,
    count_words_of,
    duration_words,
    failure_words,
    limit_words,
    mean_words,
    share_words,
)

TITLE = "In the usage logs"


def usage_section(graph: Graph, found: FlowActuals | None, step: Step | None = None) -> list[Block]:
    """The section on a flow, or on one of its steps; it says so where the logs have no line of the flow."""
    if found is None:
        return [Heading(2, TITLE, "usage"), Paragraph("The logs have no line of this flow.")]
    return usage_blocks(graph, found) if step is None else step_usage_blocks(graph, step.id, found)


def usage_lines(graph: Graph, found: FlowActuals | None) -> tuple[str, ...]:
    """The same in sentences alone, for a first sheet."""
    if found is None:
        return ("The logs have no line of this flow.",)
    ways = [f"{words[:1].upper()}{words[1:]}." for words in _ways_words(graph, found)]
    return (_head_words(found), *ways, *_standing_out(graph, found), *_not_told(found))


def usage_blocks(graph: Graph, found: FlowActuals) -> list[Block]:
    """The section on a flow: runs, each step of the log, the ways that runs took, and what stands out."""
    blocks: list[Block] = [Heading(2, TITLE, "usage"), Paragraph(_head_words(found))]
    if found.steps:
        blocks.append(Table(_steps_sheet(graph, found)))
    ways = list(_ways_words(graph, found))
    if ways:
        blocks += [Paragraph("Which way runs went:"), Bullets(tuple(ways))]
    lines = [*_standing_out(graph, found), *_not_told(found)]
    return [*blocks, Bullets(tuple(lines))] if lines else blocks


def step_pairs(step: StepActual, flow: FlowActuals) -> tuple[tuple[str, str], ...]:
    """What logs have of a step, as pairs of a word and a figure."""
    took = [duration_words(step), limit_words(step)]
    pairs = [
        ("In the logs", f"{flow.first_day} to {flow.last_day}"),
        ("How often", count_words_of(step, flow)),
        ("Took", "; ".join(part for part in took if part)),
        ("Failures", failure_words(step)),
        ("Cost in the logs", cost_words(step, flow)),
    ]
    return tuple((key, value) for key, value in pairs if value)


def step_usage_blocks(graph: Graph, key: str, found: FlowActuals) -> list[Block]:
    """The section on a step."""
    step = found.step(key)
    if step is None:
        return [Heading(3, TITLE), Paragraph(f"No line of the logs names it ({found.first_day} to {found.last_day}).")]
    ways = list(_ways_words(graph, found, key))
    return [Heading(3, TITLE), Facts(step_pairs(step, found)), *([Bullets(tuple(ways))] if ways else [])]


def _head_words(found: FlowActuals) -> str:
    runs = (
        f"{found.runs:,.0f} runs" if found.runs is not None else "How often it ran the logs do not say; they have lines"
    )
    return f"{runs} on {count_words(found.days, 'day')} from {found.first_day} to {found.last_day}."


def _steps_sheet(graph: Graph, found: FlowActuals) -> Sheet:
    """One row a step; columns of which the logs tell nothing are left out."""
    columns: list[tuple[Column, Callable[[StepActual], object]]] = [
        (Column("step", "step"), lambda s: f"{graph.numbers.get(s.id, '')} {graph.names[s.id]}".strip()),
        (Column("count", "how often"), count_of),
        (Column("each", "a run", "number"), lambda s: count_each(s, found)),
        (Column("failed", "failed"), lambda s: f"{s.failed:,} of {s.ended:,}" if s.ended else ""),
        (Column("mean", "mean time"), mean_words),
        (Column("p90", "P90"), lambda s: took_words(s.p90)),
        (Column("limit", "time limit"), lambda s: took_words(s.limit)),
        (Column("cost", found.currency or "cost", "money"), lambda s: s.cost),
    ]
    cells = [[make(step) for _, make in columns] for step in found.steps]
    kept = [place for place in range(len(columns)) if any(row[place] not in (None, "") for row in cells)]
    rows = tuple(tuple(row[place] for place in kept) for row in cells)
    return Sheet(tuple(columns[place][0] for place in kept), rows)


def _ways_words(graph: Graph, found: FlowActuals, only: str = "") -> Iterator[str]:
    """‘Allowed?’: allowed 62 %, not allowed 38 % (of 530 passes)."""
    by_step: dict[str, list[CaseShare]] = {}
    for one in sorted(found.shares, key=lambda one: -one.share):
        by_step.setdefault(one.step, []).append(one)
    for key in [one.step for one in found.shares if not only or one.step == only]:
        if shares := by_step.pop(key, []):
            said = dict.fromkeys(f"{_way_name(graph, one)} {share_words(one)}" for one in shares)
            yield f"{quote_name(graph.names[key])}: {', '.join(said)} ({_base_words(shares[0])})"


def _way_name(graph: Graph, one: CaseShare) -> str:
    return one.label or f"to {graph.names.get(one.target, one.target)}"


def _base_words(one: CaseShare) -> str:
    """On what a share rests: 'of 530 passes', 'as the calls of 978 runs say'."""
    if one.counted:
        return f"of {one.cases:,.0f} passes"
    return f"as the calls of {one.cases:,.0f} runs say"


def _standing_out(graph: Graph, found: FlowActuals) -> Iterator[str]:
    """The slowest step, the dearest, and what takes as long as it may."""
    timed = [(step.times.p90, step) for step in found.steps if step.times is not None and step.times.p90 is not None]
    if len(timed) > 1:
        _, slow = max(timed, key=lambda pair: pair[0])
        yield f"Slowest: {quote_name(graph.names[slow.id])}, {duration_words(slow)}."
    paid = [(step.cost, step) for step in found.steps if step.cost]
    if len(paid) > 1:
        most, dear = max(paid, key=lambda pair: pair[0])
        part = f"{money_text(most)} of {money_text(sum(cost for cost, _ in paid))} {found.currency}"
        yield f"Dearest: {quote_name(graph.names[dear.id])}, {part}."
    late = [(step, words) for step in found.steps if (words := limit_words(step))]
    for step, words in late:
        yield f"{quote_name(graph.names[step.id])}: {words} of {took_words(step.limit or 0.0)}."


def _not_told(found: FlowActuals) -> Iterator[str]:
    """What the logs do not say, so that nobody takes silence for none."""
    if found.unplaced:
        yield f"{count_words(found.unplaced, 'line')} of this flow name no step that it has."
    if not found.same_days:
        yield "Its logs of passes and of calls are of different days: nothing of them is told by the run."
    silent = [
        word
        for word, told in (("how steps ended", found.tells_status), ("how long they took", found.tells_durations))
        if not told
    ]
    if silent:
        yield f"The logs do not say {' or '.join(silent)}."

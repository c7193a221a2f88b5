# What moves along the edges of a level in the exact walk, what leaves a step, and the arithmetic of one step: attempts,
# losses, what goes on.
"""Passes that move, expected."""

from __future__ import annotations

import math
from collections.abc import Collection

from msgspec import Struct

from zeitbuch.core.assumptions.uncertain import least, most
from zeitbuch.core.assumptions.values import EVIDENCE, Evidence

from .brought_items import (
    Brought,
    Moving,
    Reasons,
    are_same,
    brought_by,
    items_each,
    left_with_items,
    part_of,
    several_of_each,
    unevenly_brought,
)
from .carried_items import any_inside, items_through, makes_none, varies_items
from .plan import Node, ends_run, gathers_items
from .ranged import tries_of

STRONGEST = EVIDENCE.index("export")
RANK_OF_EVIDENCE = {name: index for index, name in enumerate(EVIDENCE)}
NEVER = math.inf


class Pass(Struct, frozen=True, gc=False):
    """``arrivals``: times the step is reached; ``runs``: times it is executed, repetitions after failures
    included; ``turns`` and ``turns2``: mean of K and of K squared for agents."""

    arrivals: float
    runs: float
    evidence: Evidence
    turns: float = 1.0
    turns2: float = 1.0


class StepOutcome(Struct, gc=False):
    """What leaves a step; ``ended``: passes that end the run, ``ended_items``: items of which that comes. ``brought``: of a step that runs once
    for each item, what the passes brought that come to its end, and ``going`` how many items of theirs succeed."""

    success: Moving
    failed: float
    late: float
    skipped: float = 0.0
    failed_evidence: int = STRONGEST
    ended: float = 0.0
    ended_items: float = 0.0
    brought: Brought | None = None
    going: float = 0.0


def make_pass(node: Node, arrivals: float, attempts: float, evidence: int) -> Pass:
    """The passes of a step, with the turns of an agent."""
    value = node.turns
    if value is None:
        return Pass(arrivals, attempts, EVIDENCE[evidence])
    return Pass(arrivals, attempts, EVIDENCE[evidence], value.amount, value.amount**2 + value.variance)


NOTHING = Moving(0.0, 0.0, 0.0, STRONGEST)


class LostPart(Struct, gc=False):
    """What a connected part of a level loses: passes, those of them that run out of time, those that end the run, the weakest evidence,
    whether one pass of the level may lose several of them (items, or passes that it has become), and the product over its steps of what each
    lets through of what comes to it."""

    amount: float = 0.0
    late: float = 0.0
    over: float = 0.0
    evidence: int = STRONGEST
    several: bool = False
    kept: float = 1.0


Lost = dict[int, LostPart]  # by the number of the part


# Of each step so far the triggers that begin what is before it, and the most passes that a run can bring there.
Turns = dict[str, tuple[Collection[str], float]]


class Sweep(Struct):
    """A level that is being gone over. ``starts``: what begins at its steps, by place; ``began``: what each trigger starts;
    ``starting``: the triggers that begin at a step; ``bound``: the most passes that begin at once; ``edges``: what moves along each;
    ``reached``: what goes on from each step, and what of it succeeded; ``bounds``: the most passes that come to each at once; ``lost``:
    what each connected part loses."""

    starts: dict[int, Moving]
    began: dict[str, Moving]
    starting: dict[int, set[str]]
    bound: float
    edges: list[Moving | None]
    reached: list[tuple[Moving, Moving]]
    bounds: list[float]
    turns: Turns
    lost: Lost


def expected_tries(node: Node, evidence: int, turns: float) -> tuple[int, float, float, float]:
    evidence = min(evidence, RANK_OF_EVIDENCE[node.failure.evidence] if node.failure.amount else STRONGEST)
    evidence = min(evidence, RANK_OF_EVIDENCE[node.timeout.evidence] if node.timeout.amount else STRONGEST)
    attempts, lost, late = tries_of(node.failure, node.timeout, node.tries)
    return evidence, turns * attempts, turns * lost, turns * late


def passes_left(node: Node, arriving: Moving, done: StepOutcome, evidence: int, inexact: Reasons) -> Moving:
    """What goes on from a step of what succeeds."""
    if node.step.per_item:
        _note_items(arriving, done)
        left = items_left(node, arriving, done, 0.0, inexact)
        return Moving(left.passes, left.items, left.most, evidence, left.brought)
    through = most(0.0, arriving.passes - done.failed - done.late - done.ended)
    kept = arriving.items * (through / arriving.passes if arriving.passes else 0.0)
    brought = part_of(arriving.brought, through, arriving.passes)
    left = Moving(through, kept, arriving.most, min(arriving.evidence, done.failed_evidence), brought)
    return _made_of_each(node, left, inexact)


def _note_items(arriving: Moving, done: StepOutcome) -> None:
    """One item that is lost does not hold up the others, but one that ends the run does."""
    through = most(0.0, arriving.passes - done.ended)
    going = most(0.0, arriving.items - done.failed - done.late - done.ended_items)
    brought = brought_by(arriving)
    if done.ended_items and arriving.passes:
        others = most(1e-12, 1 - done.ended_items / arriving.items)  # the part of the items that do not end it
        going *= (through / arriving.passes) / others
    done.brought, done.going = part_of(brought, through, arriving.passes) if done.ended else brought, going


def items_left(
    node: Node, arriving: Moving, done: StepOutcome, more: float, inexact: Reasons, share: float = 1.0
) -> Moving:
    """What goes on from a step that runs once for each item: passes that have any item left, of those that succeed and ``more`` that do not,
    each of them with a chance of ``share``."""
    brought, going = done.brought, done.going * share if share != 1 else done.going
    assert brought is not None
    raw = going + more
    if more and makes_none(node):
        inexact.add_once("items that fail beside those that become none")
    passes = left_with_items(brought, raw, arriving.most, arriving.brought is not None, inexact)
    certain = brought.even and brought.varied is None
    whole = (certain and are_same(brought.each, 1.0)) or (
        arriving.brought is None and raw == arriving.items and not done.ended
    )
    left = Moving(passes, going, arriving.most, arriving.evidence, None if whole else brought)
    if node.step.yields == "one":
        return Moving(passes, passes, left.most, left.evidence)
    if node.inner is not None or node.step.yields == "many":
        left = _made_of_each(node, left, inexact)
        if more and makes_none(node) and node.items is not None:  # what has failed stays, whatever the others become
            some = going * least(1.0, node.items.amount) + more
            some = left_with_items(brought, some, arriving.most, arriving.brought is not None, inexact)
            left.passes = least(passes, some)
        left.brought = unevenly_brought(passes, left.items + more) if more else left.brought
    left.items = left.items + more
    return left


def _made_of_each(node: Node, left: Moving, inexact: Reasons) -> Moving:
    """Passes with the items that a step makes of those they have."""
    step = node.step
    if node.inner is not None and node.inner.last is not None and left.passes and not node.repeats:
        each = 1.0 if step.per_item else items_each(left)
        through = items_through(node.inner, each)
        if through is not each:
            items = left.items * through if step.per_item else left.passes * through
            certain = left.brought is None and not any_inside(node.inner, varies_items)
            brought = None if certain or are_same(through, 1.0) else unevenly_brought(left.passes, items)
            left = Moving(left.passes, items, left.most, left.evidence, brought)
            if any_inside(node.inner, makes_none):
                left.passes = least(left.passes, items)
                if items:
                    inexact.add_once("a block that makes no items of some")
    if step.yields == "one":
        return Moving(left.passes, left.passes, left.most, left.evidence)
    if step.yields == "many" and node.items is not None:
        had = left
        left = several_of_each(left, node.items)
        if left.brought is not None and left.brought.fewest < 1:  # some have none
            some = left_with_items(left.brought, left.items, left.most, had.brought is not None, inexact)
            left.passes = least(had.passes, some)  # where each makes more than one, those without any stay without
        left.evidence = min(left.evidence, RANK_OF_EVIDENCE[node.items.evidence])
    return left


def add_loss(node: Node, done: StepOutcome, lost: Lost, arriving: Moving, several: bool) -> None:
    """Adds to what each part of a level loses what a step does."""
    gone = 0.0 if node.keeps_failures else done.failed
    late = 0.0 if node.keeps_timeouts else done.late
    over = done.ended
    if ends_run(node.step):
        over += done.success.passes
        if node.step.per_item and done.failed + done.late:  # any item that is left ends it
            share = most(0.0, arriving.passes - over) / (done.failed + done.late)
            gone, late = gone * share, late * share
    all_gone = gone + late + over
    if all_gone:
        part = lost.setdefault(node.part, LostPart())
        part.amount, part.late, part.over = part.amount + all_gone, part.late + late, part.over + over
        weak = done.failed_evidence if gone + late else STRONGEST
        part.evidence = min(part.evidence, weak, arriving.evidence if over else STRONGEST)
        part.several = part.several or several
        part.kept *= 1 - (least(1.0, all_gone / arriving.passes) if arriving.passes else 0.0)


def sum_losses(arriving: Moving, lost: Lost, sure: list[int]) -> tuple[float, float, float, int]:
    """Of the passes of a level: the share that survives, those that end the run, of the other losses the share that ran out of time,
    evidence. Parts that do not touch each other lose passes without regard to each other, and so do the steps of a ``sure`` part; a run that
    has ended fails no more."""
    survives, spared, late, over, total, evidence = 1.0, 1.0, 0.0, 0.0, 0.0, STRONGEST
    for place, part in lost.items():
        if arriving.passes:
            survives *= part.kept if place in sure else 1 - least(1.0, part.amount / arriving.passes)
            spared *= 1 - least(1.0, part.over / arriving.passes)
        total, late, over = total + part.amount, late + part.late, over + part.over
        evidence = min(evidence, part.evidence)
    return survives, arriving.passes * (1 - spared), late / (total - over) if total - over else 0.0, evidence


def are_mixed(lost: Lost, sure: list[int]) -> bool:
    """Whether one pass may be hit by losses of several sorts side by side (a failure and a time-out, or either and the end of the run in
    a ``sure`` part): which of them counts is open."""
    failing = {place: part for place, part in lost.items() if part.amount - part.over > 0}
    sorts = {(part.amount - part.late - part.over > 0, part.late > 0) for part in failing.values()}
    mixed = sorts not in ({(True, False)}, {(False, True)})
    ends = any(lost[place].over > 0 for place in sure if place in lost)
    return ends or (mixed and (len(failing) > 1 or any(place in failing for place in sure)))


def with_failed(
    node: Node, arriving: Moving, done: StepOutcome, gone: float, evidence: int, inexact: Reasons
) -> Moving:
    """What goes on where failures go on as if nothing had happened: of a step that runs once for each item they are items that stay with
    their pass."""
    if node.step.per_item:
        left = items_left(node, arriving, done, gone, inexact)
    else:
        moving = done.success
        items = moving.items + items_with(node, arriving, gone)
        left = Moving(moving.passes + gone, items, moving.most, evidence, _with_gone(node, arriving, moving, gone))
    left.evidence = evidence
    return left


def _with_gone(node: Node, arriving: Moving, moving: Moving, gone: float) -> Brought | None:
    """What passes brought of which some failed."""
    if node.step.yields == "same" and (node.inner is None or node.repeats or node.inner.last is None):
        return part_of(arriving.brought, moving.passes + gone, arriving.passes)
    if node.step.yields == "one":
        return None
    return unevenly_brought(moving.passes + gone, moving.items + items_with(node, arriving, gone))


def items_with(node: Node, arriving: Moving, gone: float) -> float:
    """The items that go on with what failed: those of the pass, the item itself, or none where they are gathered."""
    if node.step.per_item:
        return 0.0 if gathers_items(node.step) else gone
    return gone if node.step.yields == "one" else gone * items_each(arriving)

# What moves along the edges of a level in the exact walk, what leaves a step, and the arithmetic of one step: attempts,
# losses, what goes on.
"""Passes that move, expected."""

from __future__ import annotations

import math

from msgspec import Struct

from zeitbuch.core.assumptions.uncertain import least, most
from zeitbuch.core.assumptions.values import EVIDENCE, Evidence
from zeitbuch.core.model.records import Step

from .plan import Node
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


class Moving(Struct, gc=False):
    """What moves along an edge: expected passes, expected items with them, the most passes that a run can bring, and
    the weakest evidence (index into EVIDENCE)."""

    passes: float
    items: float
    most: float
    evidence: int


class StepOutcome(Struct, gc=False):
    """What leaves a step."""

    success: Moving
    failed: float
    late: float
    skipped: float = 0.0
    failed_evidence: int = STRONGEST
    ended: float = 0.0


NOTHING = Moving(0.0, 0.0, 0.0, STRONGEST)
# Part of a level -> passes it loses, those of them that run out of time, those that end the run, evidence, and whether one pass of the level
# may lose several of them (items, or passes that it has become).
Lost = dict[int, tuple[float, float, float, int, bool]]


def expected_tries(node: Node, evidence: int, turns: float) -> tuple[int, float, float, float]:
    evidence = min(evidence, RANK_OF_EVIDENCE[node.failure.evidence] if node.failure.amount else STRONGEST)
    evidence = min(evidence, RANK_OF_EVIDENCE[node.timeout.evidence] if node.timeout.amount else STRONGEST)
    attempts, lost, late = tries_of(node.failure, node.timeout, node.tries)
    return evidence, turns * attempts, turns * lost, turns * late


def passes_left(node: Node, arriving: Moving, step: Step, done: StepOutcome, evidence: int) -> Moving:
    if step.per_item:
        # One item that is lost does not hold up the others, but one that ends the run does.
        through = most(0.0, arriving.passes - done.ended)
        kept = through / arriving.passes if done.ended and arriving.passes else 1.0
        left = Moving(through, most(0.0, arriving.items - done.failed - done.late) * kept, arriving.most, evidence)
    else:
        through = most(0.0, arriving.passes - done.failed - done.late - done.ended)
        kept = arriving.items * (through / arriving.passes if arriving.passes else 0.0)
        left = Moving(through, kept, arriving.most, min(arriving.evidence, done.failed_evidence))
    if step.yields == "one":
        left = Moving(left.passes, left.passes, left.most, left.evidence)
    elif step.yields == "many" and node.items is not None:
        weak = min(left.evidence, RANK_OF_EVIDENCE[node.items.evidence])
        left = Moving(left.passes, left.items * node.items.amount, left.most, weak)
    return left


def add_loss(node: Node, done: StepOutcome, lost: Lost, arriving: Moving, several: bool) -> None:
    gone = 0.0 if node.keeps_failures else done.failed
    late = 0.0 if node.keeps_timeouts else done.late
    over = done.ended
    if node.step.kind == "end" and node.step.ends == "run" and node.enabled:
        over += done.success.passes
    if gone + late + over > 0:
        had = lost.get(node.part, (0.0, 0.0, 0.0, STRONGEST, False))
        weak = min(had[3], done.failed_evidence if gone + late else STRONGEST, arriving.evidence if over else STRONGEST)
        lost[node.part] = (had[0] + gone + late + over, had[1] + late, had[2] + over, weak, had[4] or several)


def sum_losses(arriving: Moving, lost: Lost) -> tuple[float, float, float, int]:
    """Of the passes of a level: the share that survives, those that end the run, of the other losses the share that ran out of time,
    evidence. Parts that do not touch each other lose passes without regard to each other; a run that has ended fails no more."""
    survives, spared, late, over, total, evidence = 1.0, 1.0, 0.0, 0.0, 0.0, STRONGEST
    for amount, late_amount, over_amount, weak, _ in lost.values():
        if arriving.passes:
            survives *= 1 - least(1.0, amount / arriving.passes)
            spared *= 1 - least(1.0, over_amount / arriving.passes)
        total, late, over = total + amount, late + late_amount, over + over_amount
        evidence = min(evidence, weak)
    return survives, arriving.passes * (1 - spared), late / (total - over) if total - over else 0.0, evidence


def are_mixed(lost: Lost) -> bool:
    """Whether one pass may fail in one part of a level and run out of time in another: which of both counts is open."""
    sorts = {(amount - late - over > 0, late > 0) for amount, late, over, *_ in lost.values() if amount - over > 0}
    return len([part for part in lost.values() if part[0] - part[2] > 0]) > 1 and sorts not in (
        {(True, False)},
        {(False, True)},
    )

# A block fails when something in it does, and a block that is tried again is tried again as a whole: what is in it runs in every attempt.
"""Blocks that are tried again."""

from __future__ import annotations

from zeitbuch.core.assumptions.uncertain import most
from zeitbuch.core.assumptions.values import Value

from .brought_items import Moving, Reasons, part_of
from .carried_items import any_inside, varies_items
from .moving import StepOutcome
from .plan import Node
from .ranged import tries_of


def try_again(
    node: Node, reached: float, arriving: Moving, done: StepOutcome, inside: StepOutcome, inexact: Reasons
) -> Moving:
    """What goes into a block that is ``reached`` so often, in all its attempts together, and in ``done`` what comes of it. ``inside`` is what becomes of
    ``arriving`` in one attempt each. An attempt fails by the block's own rate, or by what it loses inside."""
    if _may_fail_otherwise(node, arriving):
        inexact.add_once("a block that is tried again and fails now more often, now less")
    sound = most(0.0, 1 - node.failure.amount - node.timeout.amount)
    failed, late, ended = [sound * part / arriving.passes for part in (inside.failed, inside.late, inside.ended)]
    failure, timeout = Value(node.failure.amount + failed, "export"), Value(node.timeout.amount + late, "export")
    attempts, gone, slow = tries_of(failure, timeout, node.tries)
    whole = reached * attempts
    done.failed, done.late, done.ended = reached * most(0.0, gone - slow), reached * slow, whole * ended
    done.failed_evidence = min(done.failed_evidence, inside.failed_evidence)
    brought = part_of(arriving.brought, whole, arriving.passes)
    weak = min(arriving.evidence, inside.failed_evidence)  # how often it is tried rests on how often it fails
    return Moving(whole, arriving.items * (whole / arriving.passes), arriving.most, weak, brought)


def _may_fail_otherwise(node: Node, arriving: Moving) -> bool:
    """Whether an attempt may fail with another chance than the one before it, or than that of another pass: chances are ranges, or depend on
    how many items a pass brings."""
    assert node.inner is not None
    had = arriving.brought
    uneven = had is not None and not (had.even and had.varied is None) and not node.step.per_item
    return uneven or fails_in_ranges(node) or any_inside(node.inner, fails_in_ranges)


def fails_in_ranges(node: Node) -> bool:
    """Whether a step fails now more often, now less."""
    return node.failure.ranged or node.timeout.ranged or varies_items(node)

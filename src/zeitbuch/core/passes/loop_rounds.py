# A loop goes round for each of its items, or until its condition holds; one that ends at an item that fails goes round less often, and fails
# itself with it.
"""Expected rounds of loops."""

from __future__ import annotations

import math

from zeitbuch.core.assumptions.quantities import CYCLE_ROUNDS
from zeitbuch.core.assumptions.uncertain import least, most

from .brought_items import Moving, Reasons, none_left
from .carried_items import any_inside
from .moving import NEVER, RANK_OF_EVIDENCE, StepOutcome
from .plan import Node
from .ranged import mean_over
from .tried_blocks import fails_in_ranges

_HARDLY = 1e-9  # chance that a round is lost, below which it makes no difference to how many there are


def geometric_rounds(ends: float, cap: int | None) -> float:
    """Expected rounds of a loop that ends after each round with a chance of ``ends``, at most ``cap`` rounds: the first terms of a geometric
    series."""
    limit = CYCLE_ROUNDS if cap is None else cap
    return (1 - (1 - ends) ** limit) / ends


def loop_rounds(node: Node) -> tuple[float, float]:
    """Expected rounds of a loop for each arrival where none ends it, and the most of them."""
    items = node.items
    assert items is not None
    if node.repeats == "until":
        return mean_over(items, lambda rounds: geometric_rounds(1 / rounds, node.cap)), NEVER
    return items.amount, float(math.ceil(float(items.high if items.ranged else items.amount)))


def started_rounds(each: float, gone: float, beside: int) -> float:
    """Expected rounds that are begun of so many, when the first that is lost ends the loop: round k begins where none of the first k -
    ``beside`` is lost (those that run beside it are not waited for). ``gone`` is the chance that a round is lost."""
    wide = float(beside - 1)
    share = most(gone, _HARDLY)
    begun = least(each, wide) + (1 - none_left(1 - share, most(each - wide, 0.0))) / share
    return least(begun, each)


def end_at_loss(node: Node, arriving: Moving, one: StepOutcome, inexact: Reasons) -> tuple[float, StepOutcome]:
    """Rounds for each of the passes that come to a loop that ends at the first round that is lost, and what becomes of these passes; ``one`` is
    what becomes of as many single rounds."""
    value = node.items
    assert value is not None and node.inner is not None
    lost = one.failed + one.late + one.ended
    if not arriving.passes or not lost:
        return loop_rounds(node)[0], StepOutcome(arriving, 0.0, 0.0, 0.0, arriving.evidence)
    gone = least(1.0, lost / arriving.passes)
    if any_inside(node.inner, fails_in_ranges):
        inexact.add_once("a loop that ends at a round that fails now more often, now less")
    if node.repeats == "until":
        rounds = mean_over(value, lambda amount: geometric_rounds(1 - (1 - 1 / amount) * (1 - gone), node.cap))
        ends = rounds * gone
    else:
        rounds = mean_over(value, lambda amount: started_rounds(amount, gone, node.beside))
        ends = 1 - mean_over(value, lambda amount: none_left(1 - gone, amount))
    whole = arriving.passes * least(1.0, ends)
    failed, late, ended = [whole * (part / lost) for part in (one.failed, one.late, one.ended)]
    weak = min(arriving.evidence, one.failed_evidence, RANK_OF_EVIDENCE[value.evidence])
    return rounds, StepOutcome(arriving, failed, late, 0.0, weak, ended)

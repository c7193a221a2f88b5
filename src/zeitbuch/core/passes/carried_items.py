# A block hands on the items that come out of it, not those that went in, where its steps make more or fewer of them.
"""Items that passes carry into blocks and out of them."""

from __future__ import annotations

from collections.abc import Callable

from .brought_items import least_of
from .plan import Node, Stage, loses_passes


def last_in_line(nodes: list[Node], entries: list[int], cyclic: bool) -> int | None:
    """The place of the last step where all steps of a level stand in one line; None where they do not, or where what fails goes on with other
    items than what succeeds."""
    begun = [place for place in entries if nodes[place].step.kind != "note"]
    if cyclic or len(begun) != 1:
        return None
    places = {node.step.id: place for place, node in enumerate(nodes)}
    place = begun[0]
    while True:
        node = nodes[place]
        fails_otherwise = (
            node.step.yields == "many" and node.keeps_failures and node.failure.amount + node.timeout.amount
        )
        if node.enabled and (fails_otherwise or hides_items(node)):
            return None
        if not node.ways:
            return place
        if len(node.ways) > 1 or not node.ways[0].plain or node.ways[0].share is not None:
            return None
        place = places[node.ways[0].target]


def changes_items(node: Node) -> bool:
    """Whether a pass may leave a step with more or fewer items than it came with."""
    if not node.enabled:
        return False
    inner = node.inner.nodes if node.inner is not None and not node.repeats else []
    return node.step.yields != "same" or any([changes_items(one) for one in inner])


def hides_items(node: Node) -> bool:
    """Whether it is not known how many items leave a block."""
    if node.inner is None or node.repeats or node.inner.last is not None:
        return False
    return any([changes_items(one) for one in node.inner.nodes])


def makes_none(node: Node) -> bool:
    """Whether a step that makes many items of one may make none."""
    value = node.items if node.step.yields == "many" else None
    return value is not None and least_of(value.low if value.ranged else value.amount) < 1


def any_inside(stage: Stage, is_wanted: Callable[[Node], bool]) -> bool:
    """Whether something holds of any step of a level, or of the blocks within it."""
    inner = [node.inner for node in stage.nodes if node.inner is not None and not node.repeats]
    return any([is_wanted(node) for node in stage.nodes]) or any([any_inside(one, is_wanted) for one in inner])


def varies_items(node: Node) -> bool:
    """Whether a step makes now more, now fewer items."""
    return node.step.yields == "many" and node.items is not None and node.items.ranged


def loses_by_item(node: Node) -> bool:
    """Whether a block loses items one by one: all that is in it runs once for each item, so that it does, too."""
    if node.inner is None or not node.enabled or node.step.per_item or node.step.yields != "same":
        return False
    inside = [one for one in node.inner.nodes if one.step.kind != "note"]
    single = all([one.step.per_item and one.step.yields == "same" and one.step.kind != "end" for one in inside])
    return single and any([loses_passes(one) for one in inside])


def items_through(stage: Stage, each: float) -> float:
    """How many items a pass leaves a level with that comes with ``each`` and is not lost."""
    if stage.last is None:
        return each
    places = {node.step.id: place for place, node in enumerate(stage.nodes)}
    place = next(place for place in stage.entries if stage.nodes[place].step.kind != "note")
    while True:
        node = stage.nodes[place]
        each = _items_after(node, each)
        if place == stage.last:
            return each
        place = places[node.ways[0].target]


def _items_after(node: Node, each: float) -> float:
    if not node.enabled:
        return each
    if node.inner is not None and not node.repeats:
        each = each * items_through(node.inner, 1.0) if node.step.per_item else items_through(node.inner, each)
    if node.step.yields == "one":
        return 1.0 if each else 0.0
    return each * node.items.amount if node.step.yields == "many" and node.items is not None else each

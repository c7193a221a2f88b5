# A flow made ready for counting: levels in order, what each outgoing way carries, how incoming ways meet, and every
# assumed number looked up once. The exact and the sampled passes both walk this plan, each with arithmetic of its own.
"""The plan that passes are counted from."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal, TypeVar

from msgspec import Struct

from zeitbuch.core.assumptions.values import Value
from zeitbuch.core.graph.topology import Edge
from zeitbuch.core.model.records import JoinMode, Step

JoinRelation = Literal["side", "instead", "shared", "mixed"]


class Way(Struct, gc=False):
    """One way out of a step: its edge, what it carries, and for a decision the share of its case."""

    edge: int
    target: str
    back: bool
    success: bool
    failure: bool
    timeout: bool
    skip: bool
    plain: bool
    share: Value | None = None
    rest: bool = False  # whether the share is what the other cases leave
    case: int = -1  # ways of one case are taken together


class JoinTree(Struct, gc=False):
    """Two groups of incoming edges that meet: side by side, one instead of the other, shared (side by side in the runs of some triggers,
    one instead of the other in those of others), or mixed (no rule says how their counts go together); ``split`` is where they parted
    (an index into the nodes of the level, -1 when nowhere), ``begun`` the triggers that begin both where they parted at the start ("" for
    what begins with its level), ``alone`` those that begin only the first or only the second."""

    mode: JoinMode
    how: JoinRelation
    split: int
    left: JoinTree | int
    right: JoinTree | int
    plain: bool = True  # whether the ways from the split carry all that goes on, or successes only
    begun: tuple[str, ...] = ()
    alone: tuple[tuple[str, ...], tuple[str, ...]] = ((), ())
    within: int = -1  # the edge of the one case within which the ways parted, -1 where they parted behind the step
    items: JoinRelation = "mixed"  # how the items of their passes go together


class Node(Struct):
    """A step of a level with everything that counting needs."""

    step: Step
    enabled: bool
    failure: Value
    timeout: Value
    tries: int
    decides: bool
    ways: list[Way]
    incoming: JoinTree | int | None
    backs: list[int]
    start_mode: JoinMode
    keeps_failures: bool
    keeps_timeouts: bool
    part: int
    repeats: Literal["", "items", "until"] = ""
    items: Value | None = None
    cap: int | None = None
    stops: bool = False  # a loop that ends, and fails, at the first round that gets lost
    beside: int = 1  # rounds of it that run at a time
    inner: Stage | None = None
    turns: Value | None = None
    tools: list[Node] = []
    tool_shares: list[Value] = []  # of the tool calls, one for each of the tools
    idle: list[Step] = []
    memories: list[Step] = []
    each_time: list[Node] = []  # attached calls of a model that each execution makes once
    simple: bool = False  # one pass is one execution: nothing inside, no turns, no items
    single: bool = False  # one way out, for what succeeds


class Stage(Struct):
    """One level: its nodes in order, and the sources of its edges."""

    nodes: list[Node]
    edges: list[Edge]
    parts: int
    cyclic: bool
    skips: bool
    entries: list[int]
    risky: list[int] = []  # parts in which two losses may hit one pass
    sure: list[int] = []  # those of them of which a pass reaches every step, unless it gets lost
    circles: list[tuple[int, int]] = []  # first and last place of steps that back edges go round, apart from each other
    apart: bool = False  # whether counts say too little of it: its passes are sampled one by one
    last: int | None = (
        None  # where its steps change how many items a pass has: the last of them, if they stand in one line
    )


class Plan(Struct):
    """A whole flow. ``starts`` gives for each active trigger that leads somewhere its first steps (node indexes), ``frames`` what groups
    hold that are no blocks."""

    top: Stage
    starts: list[tuple[str, list[int]]]
    itemised: bool
    notes: list[str]
    frames: dict[str, list[str]] = {}


def gathers_items(step: Step) -> bool:
    """Whether a step runs once for each item and makes one of all that a pass brings, those that failed and go on among them."""
    return step.per_item and step.yields == "one"


def ends_run(step: Step) -> bool:
    """Whether a pass that comes to a step ends the whole run."""
    return step.enabled and step.kind == "end" and step.ends == "run"


def may_end_run(node: Node) -> bool:
    """Whether a step, or one within it, may end the whole run: nothing takes that as it takes failures."""
    inside = node.inner.nodes if node.enabled and node.inner is not None else []
    return ends_run(node.step) or any(may_end_run(inner) for inner in inside)


def loses_passes(node: Node) -> bool:
    """Whether passes can get lost in a step without anything that takes them."""
    if may_end_run(node):
        return True
    if not node.enabled:
        return False
    if (node.failure.amount and not node.keeps_failures) or (node.timeout.amount and not node.keeps_timeouts):
        return True
    return (
        node.inner is not None
        and (node.repeats == "" or node.stops)
        and not (node.keeps_failures and node.keeps_timeouts)
        and any(loses_passes(n) for n in node.inner.nodes)
    )


def _with_helpers(node: Node) -> list[Node]:
    return [node, *[inner for helper in (*node.tools, *node.each_time) for inner in _with_helpers(helper)]]


def nodes_of(stage: Stage) -> list[Node]:
    """All nodes of a level, with tools and the levels inside."""
    found: list[Node] = []
    for node in stage.nodes:
        found += _with_helpers(node)
        if node.inner is not None:
            found += nodes_of(node.inner)
    return found


def first_ways(node: Node) -> list[Way]:
    """The first way of every case of a step with outcomes: the ways of one case have one share."""
    first: dict[int, Way] = {}
    for way in node.ways:
        if way.share is not None:
            first.setdefault(way.case, way)
    return list(first.values())


Folded = TypeVar("Folded")


def fold_tie(
    tie: JoinTree | int, of_edge: Callable[[int], Folded], of_meeting: Callable[[JoinTree, Folded, Folded], Folded]
) -> Folded:
    """What a join comes to, worked out from its edges to its root, left before right. Without recursion: where each of a thousand steps leads to
    the one that takes failures, meetings stand a thousand deep."""
    if isinstance(tie, int):
        return of_edge(tie)
    work: list[JoinTree | int] = [tie]
    parts: list[JoinTree | int] = []
    while work:
        part = work.pop()
        parts.append(part)
        if not isinstance(part, int):
            work += (part.left, part.right)
    found: list[Folded] = []
    for part in reversed(parts):
        if isinstance(part, int):
            found.append(of_edge(part))
        else:
            second = found.pop()
            found.append(of_meeting(part, found.pop(), second))
    return found[0]


def edges_of_tie(tie: JoinTree | int | None) -> list[int]:
    """All edges that meet, in the order of the tree."""
    edges: list[int] = []
    if tie is not None:
        fold_tie(tie, edges.append, lambda *_: None)
    return edges


def ties_of(tie: JoinTree | int | None) -> list[JoinTree]:
    """All meetings on the way into a step."""
    ties: list[JoinTree] = []
    if tie is not None:
        fold_tie(tie, lambda _: None, lambda meeting, *_: ties.append(meeting))
    return ties


def needs_telling_apart(nodes: list[Node], cyclic: bool, risky: bool, itemised: bool) -> bool:
    """Whether counts say too little of a level: more than one loss may hit a pass, its run may end beside another loss, or branches meet of
    which no rule says how, or, where passes may bring several items, which of them come with which pass."""
    ties = [tie for node in nodes for tie in ties_of(node.incoming)]
    waiting = [tie for tie in ties if tie.mode != "each"]
    if risky or any(tie.how == "mixed" or (itemised and tie.how != "instead") for tie in waiting):
        return True
    several = cyclic or any(
        node.step.yields == "many"
        or node.step.inclusive
        or (node.step.per_item and loses_passes(node))  # items that came with one pass
        or (node.step.join == "each" and len(edges_of_tie(node.incoming)) > 1)
        for node in nodes
    )
    several = several or any(tie.mode == "each" and tie.how != "instead" for tie in ties)
    losing = [node for node in nodes if loses_passes(node)]
    beside = len({node.part for node in losing}) > 1 and any(may_end_run(node) for node in losing)
    return beside or (several and bool(losing))

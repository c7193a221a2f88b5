# How the ways into a step meet: branches of one split wait for each other, alternatives add up, and what is neither is said
# to be mixed, so that nobody takes a product for a sum.
"""Join analysis: how the incoming edges of a step go together."""

from __future__ import annotations

from collections.abc import Container

from msgspec import Struct

from zeitbuch.core.graph.topology import Edge, Level
from zeitbuch.core.model.records import JoinMode

from .carried_items import changes_items
from .plan import JoinRelation, JoinTree, Node, Way

Edges = list[tuple[int, Edge]]


class Branch:
    """Incoming edges that have met already, the steps that lead to all of them, those that lead to any, and those that all of them have come
    through (bits by place in the order)."""

    def __init__(self, met: JoinTree | int, before: int, reached: int, through: int, edges: Edges) -> None:
        self.met, self.before, self.reached, self.through, self.edges = met, before, reached, through, edges
        self.taken: dict[int, set[int]] = {}  # split -> places of its ways that lead here


class Exits(Struct):
    """The ways out of a step that go forward: their places by edge and by target, and all targets as bits."""

    by_edge: dict[int, int]
    by_target: dict[int, list[int]]
    targets: int


class JoinAnalysis:
    """How incoming edges of a level meet. Sets of steps are bits by their place in the order."""

    def __init__(
        self,
        nodes: list[Node],
        position: dict[str, int],
        ins: list[int],
        triggers: Container[str],
        level: Level,
        skips: bool,
    ) -> None:
        self.nodes, self.position, self.ins, self.skips = nodes, position, ins, skips
        self.level = level
        self.led: dict[str, set[str]] = {}  # the triggers that lead to a step directly
        # The steps with which the level begins, and those to which each trigger leads directly.
        self.begins = {"": sum([1 << place for place, came in enumerate(ins) if not came])}
        for edge in level.edges:
            if edge.source in triggers:
                self.led.setdefault(edge.target, set()).add(edge.source)
                self.begins[edge.source] = self.begins.get(edge.source, 0) | 1 << position[edge.target]
        self.changing = sum([1 << place for place, node in enumerate(nodes) if changes_items(node)])
        self._before: list[int] = []
        self._exits: dict[int, Exits] = {}
        self._through: list[int] = []

    @property
    def before(self) -> list[int]:
        """Every step with all that lead to it, itself included."""
        if not self._before:
            inner = (1 << len(self.nodes)) - 1
            for place, mask in enumerate(self.ins):
                reached, rest = 1 << place, mask & inner
                while rest:
                    low = rest & -rest
                    reached |= self._before[low.bit_length() - 1]
                    rest ^= low
                self._before.append(reached)
        return self._before

    @property
    def through(self) -> list[int]:
        """Every step with all that whatever reaches it has come through: its dominators."""
        if not self._through:
            inner = (1 << len(self.nodes)) - 1
            for place, mask in enumerate(self.ins):
                shared = 0 if not mask or mask & ~inner else inner  # something begins here
                rest = mask & shared
                while rest:
                    low = rest & -rest
                    shared &= self._through[low.bit_length() - 1]
                    rest ^= low
                self._through.append(shared | 1 << place)
        return self._through

    def meeting_of(self, mode: JoinMode | None, forward: Edges) -> JoinTree | int | None:
        """How the incoming edges meet: the pair that parted last first, so that the splits of ``JoinTree.split`` fall from the
        leaves to the root. None without edges, the edge itself where there is only one."""
        before, position = self.before, self.position
        branches = []
        for index, edge in forward:
            source = position[edge.source]
            branches.append(Branch(index, before[source], before[source], self.through[source], [(index, edge)]))
        while len(branches) > 1:
            split = _last_shared([branch.before for branch in branches])
            sharing = [second for second in branches if split < 0 or second.before >> split & 1]
            apart = [second for second in branches if split >= 0 and not second.before >> split & 1]
            while len(sharing) > 1:
                sharing.append(self._tie_branches(mode, split, sharing[0], sharing[1]))
                del sharing[:2]
            branches = [*apart, *sharing]
        return branches[0].met if branches else None

    def _tie_branches(self, mode: JoinMode | None, split: int, first: Branch, second: Branch) -> Branch:
        """Two branches that parted at a step, met."""
        if split < 0:
            tie = self._tie_begun(mode, first, second)
        else:
            how, waits, plain, of_items = self._judge_meeting(split, first, second)
            natural: JoinMode = "all" if waits else "each"
            tie = JoinTree(mode or natural, how, split, first.met, second.met, plain)
            tie.items = of_items
            if how == "side":
                tie.within = self._shared_case(split, first, second)
        met = Branch(
            tie, first.before & second.before, first.reached | second.reached, first.through & second.through,
            first.edges + second.edges,
        )  # fmt: skip
        if split >= 0:
            met.taken[split] = first.taken[split] | second.taken[split]
        return met

    def _judge_meeting(
        self, split: int, first: Branch, second: Branch
    ) -> tuple[JoinRelation, bool, bool, JoinRelation]:
        """How two branches that parted at a step go together, whether they wait for each other, whether they take all that goes on, and how
        their items go together."""
        node = self.nodes[split]
        taken = [self._ways_to(split, branch) for branch in (first, second)]
        ways = [[node.ways[place] for place in places] for places in taken]
        waits = all([way.success for way in ways[0] + ways[1]]) and _are_beside(node, ways)
        edges = first.edges + second.edges
        clean = not taken[0] & taken[1] and (first.through & second.through) >> split & 1
        if not clean or (self.skips and self._carries_skipped(split, edges)):
            return "mixed", waits, True, "mixed"
        how, waits, plain = _judge_clean(waits, ways, node)
        of_items: JoinRelation = "mixed" if self._changes_items(split, edges) else how
        if node.step.per_item:  # a pass may go on by both, each of its items by one of them
            return "mixed", waits, True, of_items if plain else "mixed"
        return how, waits, plain, of_items

    def _changes_items(self, split: int, edges: Edges) -> bool:
        """Whether items become more or fewer on the way from a step."""
        if not self.changing:
            return False
        region = 0
        for _, edge in edges:
            source = self.position[edge.source]
            region |= (self.before[source] & ~self.before[split] | 1 << source) & ~(1 << split)
        return bool(region & self.changing)

    def _shared_case(self, split: int, first: Branch, second: Branch) -> int:
        """The edge of the case within which two branches parted, -1 where they did not."""
        node = self.nodes[split]
        ways = [node.ways[place] for branch in (first, second) for place in self._ways_to(split, branch)]
        cases = {way.case for way in ways}
        return ways[0].edge if len(cases) == 1 and ways[0].share is not None and not node.step.inclusive else -1

    def _ways_to(self, split: int, branch: Branch) -> set[int]:
        """The places of the ways out of a step that lead to a branch."""
        known = branch.taken.get(split)
        if known is not None:
            return known
        exits = self._exits_of(split)
        places = {exits.by_edge[index] for index, _ in branch.edges if index in exits.by_edge}
        rest = branch.reached & exits.targets
        while rest:
            low = rest & -rest
            places.update(exits.by_target[low.bit_length() - 1])
            rest ^= low
        branch.taken[split] = places
        return places

    def _exits_of(self, split: int) -> Exits:
        known = self._exits.get(split)
        if known is None:
            known = self._exits[split] = Exits({}, {}, 0)
            for place, way in enumerate(self.nodes[split].ways):
                if not way.back:
                    target = self.position[way.target]
                    known.by_edge[way.edge] = place
                    known.by_target.setdefault(target, []).append(place)
                    known.targets |= 1 << target
        return known

    def _carries_skipped(self, split: int, edges: Edges) -> bool:
        """Whether what was skipped comes along some edges: that never came through the split."""
        region = 0
        for index, edge in edges:
            source = self.position[edge.source]
            region |= self.before[source] & ~self.before[split] | 1 << source
            if any([way.skip for way in self.nodes[source].ways if way.edge == index]):
                return True
        places = [place for place in range(len(self.nodes)) if region >> place & 1 or place == split]
        ways = [way for place in places for way in self.nodes[place].ways if way.skip and not way.back]
        return any([region >> self.position[way.target] & 1 for way in ways])

    def _tie_begun(self, mode: JoinMode | None, first: Branch, second: Branch) -> JoinTree:
        """Branches that parted at the start: those of one trigger wait for each other, those of different triggers never come in one
        run. Where only some triggers begin both, they wait in the runs of these, and others go on with what they begin."""
        begun = [self._begun_in(branch.reached) for branch in (first, second)]
        shared = begun[0] & begun[1]
        if not shared:
            return JoinTree(mode or "each", "instead", -1, first.met, second.met)
        if begun[0] == begun[1]:
            tie = JoinTree(mode or "all", "side", -1, first.met, second.met, begun=tuple(sorted(shared)))
            tie.items = "mixed" if (first.before | second.before) & self.changing else "side"
            return tie
        alone = (tuple(sorted(begun[0] - shared)), tuple(sorted(begun[1] - shared)))
        return JoinTree(mode or "all", "shared", -1, first.met, second.met, begun=tuple(sorted(shared)), alone=alone)

    def begun_by(self, edges: Edges) -> set[str]:
        """The triggers that begin what leads to some edges; "" for what begins with its level."""
        reached = 0
        for _, edge in edges:
            reached |= self.before[self.position[edge.source]]
        return self._begun_in(reached)

    def _begun_in(self, reached: int) -> set[str]:
        return {name for name, places in self.begins.items() if reached & places}


def _judge_clean(waits: bool, ways: list[list[Way]], node: Node) -> tuple[JoinRelation, bool, bool]:
    if waits:
        same = all([way.plain for way in ways[0] + ways[1]])
        only = all([not way.plain and not way.failure and not way.timeout for way in ways[0] + ways[1]])
        return ("side" if same or only else "mixed"), True, same
    cases = [{way.case for way in group if way.share is not None} for group in ways]
    apart = all([way.share is not None for way in ways[0] + ways[1]]) and not cases[0] & cases[1]
    exclusive = apart and not node.step.inclusive and all([way.success and way.plain for way in ways[0] + ways[1]])
    return ("instead" if exclusive or not _may_coincide(ways[0], ways[1]) else "mixed"), False, True


def _are_beside(node: Node, ways: list[list[Way]]) -> bool:
    """Whether one pass takes ways of both groups: those of one case, and those that are no cases with any."""
    if node.step.inclusive or not node.decides:
        return True
    shared = [_share_words(group) for group in ways]
    if shared == ["cases", "cases"] or "both" in shared:
        return len({way.case for way in ways[0] + ways[1]}) == 1
    return True


def _share_words(ways: list[Way]) -> str:
    """Whether ways are cases, or none of them is, or both."""
    cases = sum([way.share is not None for way in ways])
    return "cases" if cases == len(ways) else "both" if cases else "none"


def _last_shared(masks: list[int]) -> int:
    """The highest place that stands in more than one of the masks, -1 where there is none."""
    once = twice = 0
    for mask in masks:
        twice |= once & mask
        once |= mask
    return twice.bit_length() - 1


def _may_coincide(first: list[Way], second: list[Way]) -> bool:
    """Whether one outcome of a step may take ways of both groups."""
    kinds = [{(way.success, way.failure, way.timeout, way.skip) for way in group} for group in (first, second)]
    return any(
        any(first and second for first, second in zip(entry, pair, strict=True))
        for entry in kinds[0]
        for pair in kinds[1]
    )

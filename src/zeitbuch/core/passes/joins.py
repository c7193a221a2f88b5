# How the ways into a step meet: branches of one split wait for each other, alternatives add up, and what is neither is said
# to be mixed, so that nobody takes a product for a sum.
"""Meeting of branches."""

from __future__ import annotations

from collections.abc import Container

from zeitbuch.core.graph.topology import Edge, Level
from zeitbuch.core.model.records import JoinMode

from .plan import Meeting, Node, Tie, Way

Group = tuple[Tie | int, int, list[tuple[int, Edge]]]


class Meets:
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
        self.triggers, self.level = triggers, level
        self._before: list[int] = []

    @property
    def before(self) -> list[int]:
        """Every step with all that lead to it, itself included."""
        if not self._before:
            inner = (1 << len(self.nodes)) - 1
            for at, mask in enumerate(self.ins):
                found, rest = 1 << at, mask & inner
                while rest:
                    low = rest & -rest
                    found |= self._before[low.bit_length() - 1]
                    rest ^= low
                self._before.append(found)
        return self._before

    def of(self, mode: JoinMode | None, forward: list[tuple[int, Edge]]) -> Tie | int | None:
        """How the incoming edges meet: the pair that parted last first."""
        if not forward:
            return None
        if len(forward) == 1:
            return forward[0][0]
        before, position = self.before, self.position
        groups: list[Group] = [(i, before[position[e.source]], [(i, e)]) for i, e in forward]
        while len(groups) > 1:
            best: tuple[int, int, int] | None = None
            for a in range(len(groups)):
                for b in range(a + 1, len(groups)):
                    at = (groups[a][1] & groups[b][1]).bit_length() - 1
                    if best is None or at > best[0]:
                        best = (at, a, b)
            assert best is not None
            split, a, b = best
            first, second = groups[a], groups[b]
            how, waits, plain = self._how(split, first[2], second[2])
            natural: JoinMode = "all" if waits else "each"
            tie = Tie(mode or natural, how, split, first[0], second[0], plain)
            groups = [g for i, g in enumerate(groups) if i not in (a, b)]
            groups.append((tie, first[1] & second[1], first[2] + second[2]))
        return groups[0][0]

    def _how(
        self, split: int, first: list[tuple[int, Edge]], second: list[tuple[int, Edge]]
    ) -> tuple[Meeting, bool, bool]:
        """How two groups of edges that parted at a step go together, whether they wait for each other, and whether they
        take all that goes on."""
        if split < 0:
            return ("instead" if self._only_triggers(first, second) else "mixed"), False, True
        node = self.nodes[split]
        ways = [self._taken(node, group) for group in (first, second)]
        parted = not {w.edge for w in ways[0]} & {w.edge for w in ways[1]}
        waits = all(w.success for w in ways[0] + ways[1]) and (node.step.inclusive or not node.decides)
        clean = parted and all([self._through(split, self.position[e.source]) for _, e in first + second])
        if not clean or self.skips or node.step.per_item:
            return "mixed", waits, True
        if waits:
            same = all(w.plain for w in ways[0] + ways[1])
            only = all(not w.plain and not w.failure and not w.timeout for w in ways[0] + ways[1])
            return ("side" if same or only else "mixed"), True, same
        apart = node.decides and not node.step.inclusive and all(w.success and w.plain for w in ways[0] + ways[1])
        kinds = [{(w.success, w.failure, w.timeout, w.skip) for w in group} for group in ways]
        clash = any(any(a and b for a, b in zip(x, y, strict=True)) for x in kinds[0] for y in kinds[1])
        return ("instead" if apart or not clash else "mixed"), False, True

    def _taken(self, node: Node, group: list[tuple[int, Edge]]) -> list[Way]:
        """The ways out of a step that lead to a group of edges."""
        before, position = self.before, self.position
        return [
            w for w in node.ways
            if not w.back and any([w.edge == i or before[position[e.source]] >> position[w.target] & 1 for i, e in group])
        ]  # fmt: skip

    def _through(self, split: int, step: int) -> bool:
        """Whether everything that reaches a step has come through the split."""
        region = self.before[step] & ~self.before[split]
        allowed = region | 1 << split
        rest = region
        while rest:
            low = rest & -rest
            mask = self.ins[low.bit_length() - 1]
            if not mask or mask & ~allowed:
                return False
            rest ^= low
        return True

    def _only_triggers(self, first: list[tuple[int, Edge]], second: list[tuple[int, Edge]]) -> bool:
        """Whether two groups are begun by different triggers: one run has only one of them."""
        begun: list[set[str]] = []
        for group in (first, second):
            mask = 0
            for _, e in group:
                mask |= self.before[self.position[e.source]]
            if any([mask >> at & 1 and not came for at, came in enumerate(self.ins)]):
                return False
            begun.append(
                {
                    e.source
                    for e in self.level.edges
                    if e.source in self.triggers and mask >> self.position[e.target] & 1
                }
            )
        return not begun[0] & begun[1]

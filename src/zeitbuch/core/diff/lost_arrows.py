# Whether the arrows of a flow are still there after it was written in other words: steps that were added on the way (forks,
# guarded blocks, decisions) are walked through, steps of the flow are not.
"""Arrows that a rewritten flow has lost."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from zeitbuch.core.model.records import Flow, Link, Step

Node = tuple[str, bool]  # a step, and whether it is left (True) or entered (False)


def lost_arrows(flow: Flow, back: Flow, names: Mapping[str, str]) -> list[Link]:
    """The arrows of a flow for which the flow read ``back`` has no way; ``names`` are the ids that its steps have there. Arrows at
    steps that are not there any more are left out."""
    ways = _Ways(back, set(names.values()))
    starts = {one.id: back.triggers[place].id for place, one in enumerate(flow.triggers[: len(back.triggers)])}
    known = {**names, **starts}
    lost = []
    for link in flow.links:
        source, target = known.get(link.source), known.get(link.target)
        if link.role == "attach" or source not in ways.nodes or target not in ways.nodes:
            continue
        inward = ways.scopes.get(target) == source and source is not None
        if not ways.leads((source, not inward), target):
            lost.append(link)
    return lost


class _Ways:
    """Where the steps of a flow lead, added ones walked through."""

    def __init__(self, back: Flow, kept: set[str]) -> None:
        self.kept = kept | {trigger.id for trigger in back.triggers}
        self.nodes = {step.id for step in back.steps} | {trigger.id for trigger in back.triggers}
        self.scopes = {step.id: step.scope for step in back.steps if step.scope in self.nodes}
        self.holding = set(self.scopes.values())
        self.next: dict[Node, list[Node]] = {}
        reached = {link.target for link in back.links if link.source != self.scopes.get(link.target)}
        for link in back.links:
            if link.role != "attach":
                inward = self.scopes.get(link.target) == link.source
                self.next.setdefault((link.source, not inward), []).append((link.target, False))
        self._add_inside(back.steps, reached)

    def _add_inside(self, steps: Iterable[Step], reached: set[str]) -> None:
        """Into a scope one comes to what nothing in it leads to, out of it from anything in it."""
        for step in steps:
            scope = self.scopes.get(step.id)
            if step.id not in self.holding:
                self.next.setdefault((step.id, False), []).append((step.id, True))
            if scope is not None:
                self.next.setdefault((step.id, True), []).append((scope, True))
                if step.id not in reached:
                    self.next.setdefault((scope, False), []).append((step.id, False))

    def leads(self, start: Node, target: str) -> bool:
        """Whether a way leads from where a step is left to where another is entered."""
        seen: set[Node] = set()
        stack = list(self.next.get(start, ()))
        while stack:
            node = stack.pop()
            if node == (target, False):
                return True
            if node in seen:
                continue
            seen.add(node)
            key, _ = node
            if key not in self.kept:
                stack += self.next.get(node, ())
        return False

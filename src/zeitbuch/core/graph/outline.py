# A flow as an outline: what follows what, branches below their split, what several ways lead to behind all of them. The
# terminal map draws it, the page's list nests by it.
"""The outline of a flow."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from zeitbuch.core.model.outcomes import takes_faults
from zeitbuch.core.model.records import Link, Step
from zeitbuch.core.model.words import span_words

from .open_frames import numbers_within
from .topology import Edge, Graph, Level

DEEPEST = 100  # branches within branches; deeper nobody reads on, and what follows stands at the end
Part = Literal["trigger", "step", "branch", "goto", "inside"]


class Item(Struct):
    """One line of the outline. ``words`` is the label of a branch; ``below`` what hangs from it.

    A ``goto`` names where a way leads that the outline shows elsewhere; ``back`` says that it stands above.
    """

    part: Part
    id: str = ""
    words: str = ""
    error: bool = False
    back: bool = False
    below: list[Item] = []


def outline_flow(graph: Graph) -> list[Item]:
    """Triggers first, then the steps of the top level with everything below them."""
    items = [Item("trigger", trigger.id) for trigger in graph.flow.triggers]
    for item in items:
        item.below = [
            Item("goto", edge.target, edge.link.label)
            for edge in graph.levels[None].edges
            if edge.source == item.id and len(graph.levels[None].steps)
        ]
    return items + _Level(graph, graph.levels[None]).items()


class _Level:
    def __init__(self, graph: Graph, level: Level) -> None:
        self.graph, self.level = graph, level
        self.steps = [step.id for step in level.steps if step.kind != "note"]
        known = set(self.steps)
        self.out: dict[str, list[Edge]] = {}
        self.into: dict[str, list[str]] = {}
        for edge in level.edges:
            if edge.target in known and edge.source in known:
                self.out.setdefault(edge.source, []).append(edge)
                if not edge.back:
                    self.into.setdefault(edge.target, []).append(edge.source)
        self.depth = 0
        self.put_off: list[str] = []  # where branches lead that are too deep to be shown there
        self._immediate_dominators()

    def _immediate_dominators(self) -> None:
        """Immediate dominators in the order of the level (Cooper, Harvey and Kennedy 2001; one pass suffices without cycles)."""
        self.idom: dict[str, str | None] = {}
        depth: dict[str | None, int] = {None: 0}
        for step in self.steps:
            place: str | None = None
            for number, source in enumerate(self.into.get(step, [])):
                if number == 0:
                    place = source
                    continue
                other: str | None = source
                while place != other:
                    if depth[place] >= depth[other]:
                        place = self.idom[place] if place is not None else None
                    else:
                        other = self.idom[other] if other is not None else None
            self.idom[step] = place
            depth[step] = depth[place] + 1
        self.under: dict[str | None, list[str]] = {}
        for step, owner in self.idom.items():
            self.under.setdefault(owner, []).append(step)

    def items(self) -> list[Item]:
        found: list[Item] = []
        for root in self.under.get(None, []):
            found += self._follow_chain(root)
        return found + self.rest()

    def rest(self) -> list[Item]:
        """What has not been shown where it belongs."""
        found: list[Item] = []
        while self.put_off:
            found += self._follow_chain(self.put_off.pop(0))
        return found

    def _follow_chain(self, first: str) -> list[Item]:
        """A step and what follows it one after the other; a loop instead of recursion, so that long chains are no matter."""
        found: list[Item] = []
        work = [first]
        while work:
            step = work.pop(0)
            item = Item("step", step)
            found.append(item)
            level = self.graph.levels.get(step)
            if level is not None:
                self._add_inside(level, item)
            ways = self.out.get(step, [])
            later = [name for name in self.under.get(step, []) if len(self.into[name]) > 1]
            if len(ways) == 1 and not ways[0].back and not self._words_of(ways)[0]:
                target = ways[0].target
                if self.idom.get(target) == step:
                    work = [target, *work]
                else:
                    item.below.append(Item("goto", target))
                continue
            self._add_branches(ways, step, later, item)
            work = [*later, *work]
        return found

    def _add_inside(self, level: Level, item: Item) -> None:
        names = {key: [link.label or link.condition for link in links] for key, links in level.labels.items()}
        inner = _Level(self.graph, level)
        for root in inner.under.get(None, []):
            words = ", ".join(name for name in names.get(root, []) if name)
            item.below += [Item("inside", words=words, below=inner._follow_chain(root) + inner.rest())]

    def _add_branches(self, ways: list[Edge], step: str, later: list[str], item: Item) -> None:
        own: set[str] = set()
        for edge, words in zip(ways, self._words_of(ways), strict=True):
            branch = Item("branch", words=words, error=takes_faults(edge.link))
            if edge.back:
                branch.below = [Item("goto", edge.target, back=True)]
            elif self.idom.get(edge.target) == step and edge.target not in own and edge.target not in later:
                own.add(edge.target)
                branch.below = self._branch_of(edge.target)
            else:
                branch.below = [Item("goto", edge.target)]
            item.below.append(branch)

    def _branch_of(self, first: str) -> list[Item]:
        if self.depth == DEEPEST:
            self.put_off.append(first)
            return [Item("goto", first)]
        self.depth += 1
        found = self._follow_chain(first)
        self.depth -= 1
        return found

    def _words_of(self, ways: list[Edge]) -> list[str]:
        """What each way out of a step is taken for, and which step within a block it leaves."""
        words = [self._edge_words(way) for way in ways]
        numbers = numbers_within(self.graph, ways)
        return [f"{said or 'then'} (from {n})" if n else said for said, n in zip(words, numbers, strict=True)]

    def _edge_words(self, edge: Edge) -> str:
        """What a way is taken for: its label or condition, or that something failed or nobody answered."""
        link = edge.link
        plain = " or ".join(
            f"on {way}" for way in link.after
        )  # a label that a reader made of the outcomes says no more than they do
        if link.condition or (link.label and link.label.casefold() != plain):
            return link.label or link.condition
        return outcome_words(self.graph, link)


def outcome_words(graph: Graph, link: Link) -> str:
    """After what a link is taken that is not taken after success: 'on error', 'skipped', 'no answer within 2 days'; empty for others."""
    if link.after and "success" not in link.after:
        step = graph.steps.get(link.source)
        return " or ".join(_late_words(step) if way == "timeout" else _OUTCOME_WORDS[way] for way in link.after)
    return "on error" if takes_faults(link) else ""


def way_words(graph: Graph, link: Link) -> str:
    """What a way says of itself: its label or condition, else after what it is taken; 'on error' where failures are among that."""
    said = link.label or link.condition
    failing = takes_faults(link) and (not link.after or "failure" in link.after)
    return said or ("on error" if failing else outcome_words(graph, link))


_OUTCOME_WORDS = {"failure": "on error", "skip": "skipped"}


def _late_words(step: Step | None) -> str:
    """'no answer within 2 days', 'not done within 30 seconds'."""
    head = "no answer" if step is not None and step.kind == "approve" else "not done"
    if step is None or step.timeout is None:
        return head if head == "no answer" else "not done in time"
    return f"{head} within {span_words(step.timeout)}"

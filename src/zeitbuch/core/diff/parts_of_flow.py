# What is held against each other when copies are looked for: flows, what a case leads to, what a scope holds, single steps.
"""Parts of flows as flows of their own."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator
from operator import itemgetter
from typing import Literal

from msgspec import Struct, field, structs

from zeitbuch.core.graph.components import group_items
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Flow, Link, Origin

from .similarity import Features, features_of

Sort = Literal["flow", "branch", "step", "prompt"]


class Place(Struct, frozen=True):
    """One of two copies."""

    flow: str
    flow_name: str
    title: str
    steps: tuple[str, ...] = ()
    origin: Origin | None = None


class Unit(Struct):
    """A part that can be a copy: steps of a flow with the links among them, as a flow of its own."""

    sort: Sort
    flow: Flow
    part: Flow
    title: str
    # Of its steps, worked out once: a flow of thousands of steps has thousands of pairs of parts.
    ids: frozenset[str] = frozenset()
    sorts: Counter[str] = field(default_factory=Counter)
    said: Features | None = None

    def __post_init__(self) -> None:
        self.ids = frozenset(step.id for step in self.part.steps)
        self.sorts = Counter(f"{step.kind}/{step.operation}" for step in self.part.steps)

    @property
    def features(self) -> Features:
        """What its steps say of themselves."""
        if self.said is None:
            self.said = features_of(self.part.steps, self.ids)
        return self.said

    @property
    def place(self) -> Place:
        first = self.part.steps[0].origin if self.part.steps and self.sort != "flow" else self.flow.origin
        steps = () if self.sort == "flow" else tuple(step.title for step in self.part.steps)
        return Place(self.flow.id, self.flow.title, self.title, steps, first)


class PartsOfFlow:
    """A flow of which parts are taken."""

    def __init__(self, flow: Flow) -> None:
        self.flow = flow
        self.places = {step.id: place for place, step in enumerate(flow.steps)}
        self.leaving = group_items(enumerate(flow.links), lambda numbered: numbered[1].source)

    def part(self, sort: Sort, ids: Iterable[str], title: str) -> Unit:
        """Steps of the flow as a flow: links among them, ends that stand outside left out."""
        inside = set(ids)
        places = sorted([self.places[name] for name in inside if name in self.places])
        taken = [self.flow.steps[place] for place in places]
        steps = tuple([structs.replace(step, scope=step.scope if step.scope in inside else None) for step in taken])
        leaving = [numbered for name in inside for numbered in self.leaving.get(name, ())]
        links = sorted([numbered for numbered in leaving if numbered[1].target in inside], key=itemgetter(0))
        made = Flow(id="part", steps=steps, links=tuple([link for _, link in links]), connections=self.flow.connections)
        return Unit(sort, self.flow, made, title)


def branches_of(flow: Flow) -> Iterator[Unit]:
    """What each case of a decision leads to up to where the cases meet, and what each scope holds."""
    graph = Graph(flow)
    out: dict[str, list[Link]] = {}
    for link in flow.links:
        if link.role != "attach":
            out.setdefault(link.source, []).append(link)
    helpers: dict[str, list[str]] = {}
    for helper, host in graph.host.items():
        helpers.setdefault(host, []).append(helper)

    parts = PartsOfFlow(flow)
    yield from _case_branches(parts, out, helpers)
    yield from _scope_contents(parts, graph)


def _reached(flow: Flow, out: dict[str, list[Link]], place: dict[str, int]) -> list[int]:
    """Of each step what it leads to, with itself, as bits by the places of the steps."""
    found = [1 << index for index in range(len(flow.steps))]
    targets = [[place[link.target] for link in out.get(step.id, ()) if link.target in place] for step in flow.steps]
    moving = True
    while moving:  # against the order, so that one round is enough where nothing leads back
        moving = False
        for index in range(len(targets) - 1, -1, -1):
            more = found[index]
            for target in targets[index]:
                more |= found[target]
            if more != found[index]:
                found[index], moving = more, True
    return found


def _steps_at(flow: Flow, bits: int) -> set[str]:
    held = set()
    while bits:
        low = bits & -bits
        held.add(flow.steps[low.bit_length() - 1].id)
        bits ^= low
    return held


def _case_branches(parts: PartsOfFlow, out: dict[str, list[Link]], helpers: dict[str, list[str]]) -> Iterator[Unit]:
    """What each case of a decision leads to up to where the cases meet."""
    flow, place = parts.flow, parts.places
    reached = _reached(flow, out, place)
    for step in flow.steps:
        starts = [link for link in out.get(step.id, ()) if link.role in ("case", "next")]
        if len(starts) < 2:
            continue
        reach = {link.target: reached[place[link.target]] if link.target in place else 0 for link in starts}
        once = shared = 1 << place[step.id]
        for bits in reach.values():
            shared |= once & bits
            once |= bits
        for k in starts:
            own = _steps_at(flow, reach[k.target] & ~shared)
            own |= {name for text in own for name in helpers.get(text, ())}
            if own:
                named = f"the case {quote_name(k.label or k.target)} of {quote_name(step.title)}"
                yield parts.part("branch", own, named)


def _scope_contents(parts: PartsOfFlow, graph: Graph) -> Iterator[Unit]:
    """What each scope holds."""
    for scope in graph.levels:
        if scope is not None:
            inside = {step.id for step in graph.contents.get(scope, ()) if step.id != scope}
            if inside:
                yield parts.part("branch", inside, f"what {quote_name(graph.names[scope])} holds")

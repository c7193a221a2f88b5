# The shape of a flow: scopes with their levels, entries, order, attachments, and the pattern class. Everything
# that walks a flow (passes, maps, documents) asks here and agrees on the order.
"""Order, scopes, cycles and pattern class of a flow."""

from __future__ import annotations

from functools import cached_property
from typing import NamedTuple

from msgspec import structs

from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Flow, Link, ModelUse, PatternClass, Step, Trigger
from zeitbuch.core.model.references import names_of
from zeitbuch.core.model.words import plural

from .components import components


class Edge(NamedTuple):
    """A link lifted to one level: both ends are steps (or scopes, or triggers) of that level."""

    source: str
    target: str
    link: Link
    back: bool


class Level:
    """The steps that stand directly in one scope, in order of execution, and the links between them."""

    def __init__(self, scope: str | None, steps: list[Step], edges: list[Edge], labels: dict[str, list[Link]]) -> None:
        self.scope = scope
        self.steps = steps
        self.edges = edges
        self.labels = labels  # entry step -> links from the scope that name the branch beginning there

    def incoming(self, step_id: str) -> list[Edge]:
        return [e for e in self.edges if e.target == step_id]

    def outgoing(self, step_id: str) -> list[Edge]:
        return [e for e in self.edges if e.source == step_id]

    def entries(self) -> list[Step]:
        """Steps that nothing of this level leads to (going forward)."""
        led = {e.target for e in self.edges if not e.back}
        return [s for s in self.steps if s.id not in led]


class Graph:
    """A flow seen as levels of scopes."""

    def __init__(self, flow: Flow) -> None:
        self.flow = flow
        self.steps: dict[str, Step] = {s.id: s for s in flow.steps}
        self.triggers: dict[str, Trigger] = {t.id: t for t in flow.triggers}
        self.attached: dict[str, list[Step]] = {}
        self.host: dict[str, str] = {}
        for link in flow.links:
            if link.role == "attach" and link.source in self.steps and link.source not in self.host:
                self.host[link.source] = link.target
                self.attached.setdefault(link.target, []).append(self.steps[link.source])
        self.children: dict[str | None, list[Step]] = {None: []}
        for step in flow.steps:
            if step.id not in self.host:
                self.children.setdefault(step.scope, []).append(step)
        raw, labels = self._lifted_links()
        self.levels: dict[str | None, Level] = {
            scope: self._level(scope, raw.get(scope, []), labels.get(scope, {})) for scope in self.children
        }

    @cached_property
    def numbers(self) -> dict[str, str]:
        """Step -> its number in the order of execution."""
        return self._numbers()

    @cached_property
    def names(self) -> dict[str, str]:
        """Id -> title of all steps and triggers."""
        return names_of(self.flow)

    def path(self, step_id: str) -> list[str | None]:
        """The scopes around a step, outermost (None) first."""
        chain: list[str | None] = []
        at = self.steps.get(step_id)
        while at is not None:
            chain.append(at.scope)
            at = self.steps.get(at.scope) if at.scope is not None else None
        return chain[::-1] or [None]

    def lifted(self, step_id: str, scope: str | None) -> str | None:
        """The step of the level ``scope`` that is or contains ``step_id``; triggers stand at the top level."""
        if step_id in self.triggers:
            return step_id if scope is None else None
        at: Step | None = self.steps.get(step_id)
        while at is not None:
            if at.scope == scope:
                return at.id
            at = self.steps.get(at.scope) if at.scope is not None else None
        return None

    def meeting(self, source: str, target: str) -> str | None:
        """The innermost scope that holds both ends."""
        a, b = self.path(source), self.path(target)
        common: str | None = None
        for x, y in zip(a, b, strict=False):
            if x != y:
                break
            common = x
        return common

    def _lifted_links(
        self,
    ) -> tuple[dict[str | None, list[tuple[str, str, Link]]], dict[str | None, dict[str, list[Link]]]]:
        """The links of every level, lifted to it, and those from a scope to the first steps of its branches."""
        steps, triggers, host = self.steps, self.triggers, self.host
        raw: dict[str | None, list[tuple[str, str, Link]]] = {}
        labels: dict[str | None, dict[str, list[Link]]] = {}
        for link in self.flow.links:
            a, b = link.source, link.target
            if link.role == "attach" or a in host or b in host or b not in steps:
                continue
            first, second = steps.get(a), steps[b]
            if second.scope == a:
                labels.setdefault(a, {}).setdefault(b, []).append(link)
                continue
            if first is not None and first.scope == second.scope:
                raw.setdefault(first.scope, []).append((a, b, link))
                continue
            scope = self.meeting(a, b)
            x, y = self.lifted(a, scope), self.lifted(b, scope)
            if x is not None and y is not None and y not in triggers and (x != y or a == b):
                raw.setdefault(scope, []).append((x, y, link))
        return raw, labels

    def _level(self, scope: str | None, raw: list[tuple[str, str, Link]], labels: dict[str, list[Link]]) -> Level:
        steps = self.children[scope]
        ids = {s.id for s in steps}
        raw = [r for r in raw if r[1] in ids and (r[0] in ids or r[0] in self.triggers)]
        order, back = _ordered(
            [s.id for s in steps], [(a, b) for a, b, _ in raw if a in ids], [b for a, b, _ in raw if a not in ids]
        )
        by_id = {s.id: s for s in steps}
        edges = [Edge(a, b, link, (a, b) in back) for a, b, link in raw]
        return Level(scope, [by_id[i] for i in order], edges, labels)

    def _numbers(self) -> dict[str, str]:
        numbers: dict[str, str] = {}

        def count(scope: str | None, prefix: str) -> None:
            at = 0
            for step in self.levels[scope].steps if scope in self.levels else []:
                if step.kind == "note":
                    continue
                at += 1
                numbers[step.id] = f"{prefix}{at}"
                for i, helper in enumerate(self.attached.get(step.id, []), 1):
                    numbers[helper.id] = f"{prefix}{at}.{letter(i)}"
                count(step.id, f"{prefix}{at}.")

        count(None, "")
        return numbers

    def in_order(self) -> list[Step]:
        """All steps in the order of their numbers, scopes before their contents, helpers after their agent."""
        found: list[Step] = []

        def walk(scope: str | None) -> None:
            for step in self.levels[scope].steps if scope in self.levels else []:
                found.append(step)
                found.extend(self.attached.get(step.id, []))
                walk(step.id)

        walk(None)
        return found


def letter(n: int) -> str:
    """1 -> 'a', 27 -> 'aa'."""
    text = ""
    while n > 0:
        n, rest = divmod(n - 1, 26)
        text = chr(97 + rest) + text
    return text


def _ordered(ids: list[str], edges: list[tuple[str, str]], first: list[str]) -> tuple[list[str], set[tuple[str, str]]]:
    """Topological order that follows branches case by case, and the edges that go back against it."""
    order = _forward(ids, edges)
    if len(order) == len(ids):
        return order, set()
    groups = components(ids, edges)
    group_of = {n: i for i, g in enumerate(groups) for n in g}
    back: set[tuple[str, str]] = set()
    cyclic = [set(g) for g in groups if len(g) > 1]
    back.update((a, b) for a, b in edges if a == b)
    for group in cyclic:
        back |= _back_edges(group, [i for i in ids if i in group], edges, first, group_of)
    return _forward(ids, [(a, b) for a, b in edges if (a, b) not in back]), back


def _forward(ids: list[str], edges: list[tuple[str, str]]) -> list[str]:
    """Depth first along the branches, but never before all predecessors: branches stay together. Steps on cycles and
    behind them are left out."""
    waiting = dict.fromkeys(ids, 0)
    out: dict[str, list[str]] = {i: [] for i in ids}
    for a, b in edges:
        waiting[b] += 1
        out[a].append(b)
    order: list[str] = []
    ready = [i for i in ids if waiting[i] == 0][::-1]
    while ready:
        node = ready.pop()
        order.append(node)
        targets = out[node]
        if len(targets) == 1:
            target = targets[0]
            waiting[target] -= 1
            if waiting[target] == 0:
                ready.append(target)
            continue
        for target in reversed(targets):
            waiting[target] -= 1
        fresh = [t for t in dict.fromkeys(targets) if waiting[t] == 0]
        ready += fresh[::-1]
    return order


def _back_edges(
    group: set[str], ids: list[str], edges: list[tuple[str, str]], first: list[str], group_of: dict[str, int]
) -> set[tuple[str, str]]:
    """Edges of a cycle that lead back, seen from where the cycle is entered."""
    entered = [b for a, b in edges if b in group and a not in group] + [b for b in first if b in group]
    out: dict[str, list[str]] = {i: [] for i in ids}
    for a, b in edges:
        if a in group and b in group:
            out[a].append(b)
    back: set[tuple[str, str]] = set()
    done: set[str] = set()
    active: set[str] = set()
    for root in [*entered, *ids]:
        if root in done:
            continue
        work = [(root, iter(out[root]))]
        active.add(root)
        while work:
            node, rest = work[-1]
            for other in rest:
                if other in active:
                    back.add((node, other))
                elif other not in done:
                    work.append((other, iter(out[other])))
                    active.add(other)
                    break
            else:
                work.pop()
                active.discard(node)
                done.add(node)
    return back


def attached_ids(flow: Flow) -> set[str]:
    """Ids of steps that are attached to an agent."""
    return {k.source for k in flow.links if k.role == "attach"}


def pattern_of(flow: Flow) -> PatternClass:
    """The pattern class of a flow: plain, assisted, agent, dispatcher or ensemble."""
    agents: set[str] = set()
    ai = False
    for step in flow.steps:
        kind = step.kind
        if kind == "agent":
            agents.add(step.id)
        elif kind == "model" or kind == "embed":
            ai = True
    if not agents:
        return "assisted" if ai else "plain"
    decisions = {s.id for s in flow.steps if s.kind == "decide"}
    chosen: dict[str, set[str]] = {}
    for link in flow.links:
        if link.source in agents and link.role == "attach":
            return "dispatcher"
        if link.target in agents and link.source in decisions:
            chosen.setdefault(link.source, set()).add(link.target)
    if any(len(group) > 1 for group in chosen.values()):
        return "dispatcher"
    return "agent" if len(agents) == 1 else "ensemble"


def model_of(graph: Graph, step: Step) -> ModelUse | None:
    """The model use of a step; an agent without a model of its own uses the one attached to it."""
    use = step.model
    if use is not None and use.name is None:
        for helper in graph.attached.get(step.id, []):
            if helper.kind == "model" and helper.model is not None and helper.model.name:
                return structs.replace(use, name=helper.model.name, temperature=helper.model.temperature)
    return use


def pick_step(graph: Graph, key: str) -> Step:
    """The step with this id, number or name. Raises ZeitbuchError with the steps there are when none fits."""
    low = key.casefold()
    for step in graph.flow.steps:
        if step.id == key or graph.numbers.get(step.id) == key:
            return step
    named = [s for s in graph.flow.steps if s.title.casefold() == low] or [
        s for s in graph.flow.steps if low in s.title.casefold()
    ]
    if len(named) == 1:
        return named[0]
    listed = named or [s for s in graph.in_order() if s.kind != "note"]
    steps = ", ".join(f"{graph.numbers.get(s.id, '')} {s.title}".strip() for s in listed[:12])
    found = f"{plural(len(named), 'step')} of that name" if named else "none"
    raise fail("step-unknown", f"expected the id, number or name of a step, found {found}: '{key}'", f"steps: {steps}")

# The shape of a flow: scopes with their levels, entries, order, attachments, and the pattern class. Everything
# that walks a flow (passes, maps, documents) asks here and agrees on the order.
"""Order, scopes, cycles and pattern class of a flow."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from typing import NamedTuple

from msgspec import structs

from zeitbuch.core.model.kinds import AI_KINDS, KINDS, MODEL_KINDS
from zeitbuch.core.model.outcomes import deciding_steps
from zeitbuch.core.model.records import Flow, Link, ModelUse, Step, Trigger
from zeitbuch.core.model.references import names_of
from zeitbuch.core.model.words import letter_number

from .components import components, group_items


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

    def edges_into(self, step_id: str) -> list[Edge]:
        return [edge for edge in self.edges if edge.target == step_id]

    def edges_from(self, step_id: str) -> list[Edge]:
        return [edge for edge in self.edges if edge.source == step_id]

    def entry_steps(self) -> list[Step]:
        """Steps that nothing of this level leads to (going forward)."""
        led = {edge.target for edge in self.edges if not edge.back}
        return [step for step in self.steps if step.id not in led]


class Graph:
    """A flow seen as levels of scopes; ``titles`` are those of the flows around it, by id in small letters."""

    def __init__(self, flow: Flow, titles: Mapping[str, str] | None = None) -> None:
        self.flow = flow
        self.titles = titles or {}
        self.steps: dict[str, Step] = {step.id: step for step in flow.steps}
        self.triggers: dict[str, Trigger] = {trigger.id: trigger for trigger in flow.triggers}
        self.attached: dict[str, list[Step]] = {}
        self.host: dict[str, str] = {}
        for link in flow.links:
            if link.role != "attach" or link.source in self.host or not {link.source, link.target} <= self.steps.keys():
                continue
            # Of steps attached to each other in a circle, one stands by itself: else all would be lost.
            if self.card_of(link.target) != link.source:
                self.host[link.source] = link.target
                self.attached.setdefault(link.target, []).append(self.steps[link.source])
        self.shared: dict[str, list[Step]] = {}
        self._share_helpers()

    @cached_property
    def children(self) -> dict[str | None, list[Step]]:
        """Scope -> the steps that stand directly in it, attached ones left out."""
        found: dict[str | None, list[Step]] = {None: []}
        for step in self.flow.steps:
            if step.id not in self.host:
                found.setdefault(step.scope, []).append(step)
        return found

    @cached_property
    def levels(self) -> dict[str | None, Level]:
        """Scope -> its level."""
        raw, labels = self._lifted_links()
        return {scope: self._make_level(scope, raw.get(scope, []), labels.get(scope, {})) for scope in self.children}

    def _share_helpers(self) -> None:
        """What is attached to a step and drawn at another: a model or tool that several agents use. None leads back to itself."""
        for link in self.flow.links if self.host else ():
            at, target = self.host.get(link.source), link.target
            if link.role != "attach" or at in (None, target) or target not in self.steps or target == link.source:
                continue
            helper = self.steps[link.source]
            if helper not in self.used_by(target) and self.steps[target] not in self.tools_of(helper.id):
                self.shared.setdefault(target, []).append(helper)

    def called_title(self, step: Step) -> str:
        """The title of the flow that a step calls, or what the export says of it."""
        return self.titles.get((step.calls or "").casefold(), step.calls or "")

    def used_by(self, step_id: str) -> list[Step]:
        """All that is attached to a step, wherever it is drawn."""
        return [*self.attached.get(step_id, ()), *self.shared.get(step_id, ())]

    def hosts_of(self, step_id: str) -> list[str]:
        """The steps that a helper is attached to: where it is drawn first, then the others that use it."""
        first = [self.host[step_id]] if step_id in self.host else []
        return first + [key for key, helpers in self.shared.items() if any(one.id == step_id for one in helpers)]

    @cached_property
    def names(self) -> dict[str, str]:
        """Id -> title of all steps and triggers."""
        return names_of(self.flow)

    @cached_property
    def deciding(self) -> frozenset[str]:
        """The steps behind which one of several ways is taken."""
        return deciding_steps(self.flow)

    @cached_property
    def leaving(self) -> dict[str, list[Link]]:
        """The links of the flow by what they leave."""
        return group_items(self.flow.links, lambda link: link.source)

    @cached_property
    def arriving(self) -> dict[str, list[Link]]:
        """The links of the flow by what they lead to."""
        return group_items(self.flow.links, lambda link: link.target)

    @cached_property
    def contents(self) -> dict[str, list[Step]]:
        """Scope -> all steps within it, however deep, with what is attached to them; in the order of the flow."""
        pairs = [(scope, step) for step in self.flow.steps for scope in self.scope_path(self.card_of(step.id))]
        groups = group_items([pair for pair in pairs if pair[0] is not None], lambda pair: str(pair[0]))
        return {scope: [step for _, step in rows] for scope, rows in groups.items()}

    def scope_path(self, step_id: str) -> list[str | None]:
        """The scopes around a step, outermost (None) first."""
        chain: list[str | None] = []
        step = self.steps.get(step_id)
        while step is not None:
            chain.append(step.scope)
            step = self.steps.get(step.scope) if step.scope is not None else None
        return chain[::-1] or [None]

    def lift_to(self, step_id: str, scope: str | None) -> str | None:
        """The step of the level ``scope`` that is or contains ``step_id``; triggers stand at the top level."""
        if step_id in self.triggers:
            return step_id if scope is None else None
        step: Step | None = self.steps.get(step_id)
        while step is not None:
            if step.scope == scope:
                return step.id
            step = self.steps.get(step.scope) if step.scope is not None else None
        return None

    def innermost_common_scope(self, source: str, target: str) -> str | None:
        """The innermost scope that holds both ends."""
        first, second = self.scope_path(source), self.scope_path(target)
        common: str | None = None
        for text, second_text in zip(first, second, strict=False):
            if text != second_text:
                break
            common = text
        return common

    def _lifted_links(
        self,
    ) -> tuple[dict[str | None, list[tuple[str, str, Link]]], dict[str | None, dict[str, list[Link]]]]:
        """The links of every level, lifted to it, and those from a scope to the first steps of its branches."""
        steps, triggers, host = self.steps, self.triggers, self.host
        raw: dict[str | None, list[tuple[str, str, Link]]] = {}
        labels: dict[str | None, dict[str, list[Link]]] = {}
        for link in self.flow.links:
            left, right = link.source, link.target
            if link.role == "attach" or left in host or right in host or right not in steps:
                continue
            first, second = steps.get(left), steps[right]
            if second.scope == left:
                labels.setdefault(left, {}).setdefault(right, []).append(link)
                continue
            if first is not None and first.scope == second.scope:
                raw.setdefault(first.scope, []).append((left, right, link))
                continue
            scope = self.innermost_common_scope(left, right)
            text, second_text = self.lift_to(left, scope), self.lift_to(right, scope)
            if (
                text is not None
                and second_text is not None
                and second_text not in triggers
                and (text != second_text or left == right)
            ):
                raw.setdefault(scope, []).append((text, second_text, link))
        return raw, labels

    def _make_level(self, scope: str | None, raw: list[tuple[str, str, Link]], labels: dict[str, list[Link]]) -> Level:
        steps = self.children[scope]
        ids = {step.id for step in steps}
        raw = [row for row in raw if row[1] in ids and (row[0] in ids or row[0] in self.triggers)]
        order, back = _order_steps(
            [step.id for step in steps],
            [(first, second) for first, second, _ in raw if first in ids],
            [second for first, second, _ in raw if first not in ids],
        )
        by_id = {step.id: step for step in steps}
        edges = [Edge(first, second, link, (first, second) in back) for first, second, link in raw]
        return Level(scope, [by_id[key] for key in order], edges, labels)

    @cached_property
    def numbers(self) -> dict[str, str]:
        """Step -> its number in the order of execution."""
        numbers: dict[str, str] = {}

        def count(scope: str | None, prefix: str) -> None:
            place = 0
            for step in self.levels[scope].steps if scope in self.levels else []:
                if step.kind == "note":
                    continue
                place += 1
                numbers[step.id] = f"{prefix}{place}"
                letters(step.id, f"{prefix}{place}")
                count(step.id, f"{prefix}{place}.")

        def letters(host: str, prefix: str) -> None:
            for index, helper in enumerate(self.attached.get(host, []), 1):
                numbers[helper.id] = f"{prefix}.{letter_number(index)}"
                letters(helper.id, numbers[helper.id])

        count(None, "")
        return numbers

    def helpers_of(self, step_id: str) -> list[Step]:
        """What is drawn at a step, each helper followed by what is drawn at it."""
        found: list[Step] = []
        for helper in self.attached.get(step_id, []):
            found += [helper, *self.helpers_of(helper.id)]
        return found

    def tools_of(self, step_id: str) -> list[Step]:
        """What a step may use, each helper followed by what that may use; of one that several use at each of them."""
        found: dict[str, Step] = {}
        waiting = self.used_by(step_id)[::-1]
        while waiting:
            helper = waiting.pop()
            if helper.id not in found and helper.id != step_id:
                found[helper.id] = helper
                waiting += self.used_by(helper.id)[::-1]
        return list(found.values())

    def card_of(self, step_id: str) -> str:
        """The step in whose card a step stands: itself, or the outermost host of what is attached."""
        while step_id in self.host:
            step_id = self.host[step_id]
        return step_id

    def in_order(self) -> list[Step]:
        """All steps in the order of their numbers, scopes before their contents, helpers after their agent."""
        return list(self._in_order)

    @cached_property
    def _in_order(self) -> tuple[Step, ...]:
        found: list[Step] = []

        def walk(scope: str | None) -> None:
            for step in self.levels[scope].steps if scope in self.levels else []:
                found.append(step)
                found.extend(self.helpers_of(step.id))
                walk(step.id)

        walk(None)
        return tuple(found)


def _order_steps(
    ids: list[str], edges: list[tuple[str, str]], first: list[str]
) -> tuple[list[str], set[tuple[str, str]]]:
    """Topological order that follows branches case by case, and the edges that go back against it."""
    order = _forward_order(ids, edges)
    if len(order) == len(ids):
        return order, set()
    groups = components(ids, edges)
    group_of = {name: index for index, group in enumerate(groups) for name in group}
    back: set[tuple[str, str]] = set()
    cyclic = [set(group) for group in groups if len(group) > 1]
    back.update((first, second) for first, second in edges if first == second)
    for group in cyclic:
        back |= _back_edges(group, [key for key in ids if key in group], edges, first, group_of)
    return _forward_order(ids, [(first, second) for first, second in edges if (first, second) not in back]), back


def _forward_order(ids: list[str], edges: list[tuple[str, str]]) -> list[str]:
    """Depth first along the branches, but never before all predecessors: branches stay together. Steps on cycles and
    behind them are left out."""
    waiting = dict.fromkeys(ids, 0)
    out: dict[str, list[str]] = {key: [] for key in ids}
    for first, second in edges:
        waiting[second] += 1
        out[first].append(second)
    order: list[str] = []
    ready = [key for key in ids if waiting[key] == 0][::-1]
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
        fresh = [text for text in dict.fromkeys(targets) if waiting[text] == 0]
        ready += fresh[::-1]
    return order


def _back_edges(
    group: set[str], ids: list[str], edges: list[tuple[str, str]], first: list[str], group_of: dict[str, int]
) -> set[tuple[str, str]]:
    """Edges of a cycle that lead back, seen from where the cycle is entered."""
    entered = [second for first, second in edges if second in group and first not in group] + [
        second for second in first if second in group
    ]
    out: dict[str, list[str]] = {key: [] for key in ids}
    for left, second in edges:
        if left in group and second in group:
            out[left].append(second)
    return _edges_to_active(ids, entered, out)


def _edges_to_active(ids: list[str], entered: list[str], out: dict[str, list[str]]) -> set[tuple[str, str]]:
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


def is_own_model(step: Step, host: Step) -> bool:
    """True for a model call that is attached to a step that uses a model: it says which, and is no call of its own."""
    return step.kind == "model" and host.kind in MODEL_KINDS


def attached_role(graph: Graph, step: Step) -> str:
    """What an attached step is to its host, in a short word: a tool to an agent, its own kind to any other step."""
    row = KINDS[step.kind]
    return row.kind if row.role == "tool" and graph.steps[graph.host[step.id]].kind != "agent" else row.role


def ai_steps(flow: Flow) -> list[Step]:
    """The steps that use AI: those of the kinds that do, but for the models attached to them."""
    found = [step for step in flow.steps if step.kind in AI_KINDS]
    hosts = {link.source: link.target for link in reversed(flow.links) if link.role == "attach"}  # the first counts
    if not hosts:
        return found
    steps = {step.id: step for step in flow.steps}
    return [
        step for step in found if (host := steps.get(hosts.get(step.id, ""))) is None or not is_own_model(step, host)
    ]


def model_of(graph: Graph, step: Step) -> ModelUse | None:
    """The model use of a step; an agent without a model of its own uses the one attached to it."""
    use = step.model
    if use is not None and use.name is None:
        for helper in graph.used_by(step.id):
            if helper.kind == "model" and helper.model is not None and helper.model.name:
                return structs.replace(use, name=helper.model.name, temperature=helper.model.temperature)
    return use

# A flow made ready for counting: levels in order, what each outgoing way carries, how incoming ways meet, and every
# assumed number looked up once. The exact and the sampled passes both walk this plan, each with arithmetic of its own.
"""The plan that passes are counted from."""

from __future__ import annotations

from collections.abc import Container
from typing import Literal

from msgspec import Struct

from .assume import Book, Value, spread_default, weaker
from .model import JoinMode, Step
from .quantities import DEFAULTS, TURNS_HIGH, TURNS_LIKELY, TURNS_LOW
from .topology import Edge, Graph, Level

NOT_TOOLS = frozenset({"model", "memory", "parse"})
_NEVER = Value(0.0, "default", "default")
Meeting = Literal["side", "instead", "mixed"]


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


class Tie(Struct, gc=False):
    """Two groups of incoming edges that meet: side by side, one instead of the other, or mixed (no rule says how their
    counts go together); ``split`` is where they parted (an index into the nodes of the level, -1 when nowhere)."""

    mode: JoinMode
    how: Meeting
    split: int
    left: Tie | int
    right: Tie | int
    plain: bool = True  # whether the ways from the split carry all that goes on, or successes only


class Node(Struct):
    """A step of a level with everything that counting needs."""

    step: Step
    enabled: bool
    failure: Value
    timeout: Value
    tries: int
    decides: bool
    ways: list[Way]
    incoming: Tie | int | None
    backs: list[int]
    start_mode: JoinMode
    keeps_failures: bool
    keeps_timeouts: bool
    part: int
    repeats: Literal["", "items", "until"] = ""
    items: Value | None = None
    cap: int | None = None
    inner: Stage | None = None
    turns: Value | None = None
    tools: list[Node] = []
    idle: list[Step] = []
    memories: list[Step] = []


class Stage(Struct):
    """One level: its nodes in order, and the sources of its edges."""

    nodes: list[Node]
    edges: list[Edge]
    parts: int
    cyclic: bool
    skips: bool
    entries: list[int]
    risky: list[int] = []  # parts in which two losses may hit one pass


class Plan(Struct):
    """A whole flow. ``starts`` gives for each active trigger that leads somewhere its first steps (node indexes)."""

    top: Stage
    starts: list[tuple[str, list[int]]]
    itemised: bool
    notes: list[str]


def turns_of(step: Step, book: Book, tools: int) -> Value:
    """An agent's turns. Without a declared value: low 1, likely 3, high the step's own cap (or 10)."""
    found = book.find("turns", (step.id, step.name))
    if found is not None:
        return found
    if not tools:
        return Value(1.0, "read", "an agent without tools answers at once")
    cap = step.model.max_turns if step.model is not None else None
    high = float(cap) if cap else TURNS_HIGH
    low, likely = min(TURNS_LOW, high), min(TURNS_LIKELY, high)
    words = f"default: {low:g} to {high:g} turns, likely {likely:g}"
    return Value((low + 4 * likely + high) / 6, "default", words, low, high)


def is_error(edge: Edge) -> bool:
    """Whether an edge is taken only when its step fails or runs out of time."""
    after = edge.link.after
    return edge.link.role == "error" or (
        bool(after) and "success" not in after and ("failure" in after or "timeout" in after)
    )


class Planner:
    """Makes the plan of one flow."""

    def __init__(self, graph: Graph, book: Book) -> None:
        self.graph = graph
        self.book = book
        self.notes: list[str] = []
        self.skips = False

    def plan(self) -> Plan:
        level = self.graph.levels.get(None)
        if level is None:
            return Plan(Stage([], [], 0, False, False, []), [], False, [])
        top = self._stage(level)
        itemised = any(s.per_item or s.yields != "same" for s in self.graph.steps.values())
        return Plan(top, self._starts(level, top), itemised, self.notes)

    def _starts(self, level: Level, top: Stage) -> list[tuple[str, list[int]]]:
        triggers = self.graph.triggers
        at = {n.step.id: i for i, n in enumerate(top.nodes)}
        led: dict[str, list[int]] = {}
        for e in level.edges:
            if e.source in triggers:
                led.setdefault(e.source, []).append(at[e.target])
        active = {t: targets for t, targets in led.items() if triggers[t].enabled} or led
        return sorted(active.items(), key=lambda i: list(triggers).index(i[0]))

    # -- levels ------------------------------------------------------------------------------------------------

    def _stage(self, level: Level) -> Stage:
        triggers = self.graph.triggers
        position = {s.id: i for i, s in enumerate(level.steps)}
        outside = 1 << len(position)
        incoming: dict[str, list[tuple[int, Edge]]] = {}
        outgoing: dict[str, list[tuple[int, Edge]]] = {}
        ins = [0] * len(position)  # bits of what leads to each step, going forward; the highest stands for triggers
        for i, e in enumerate(level.edges):
            source = position.get(e.source)
            if not e.back:
                ins[position[e.target]] |= outside if source is None else 1 << source
            if source is not None:
                incoming.setdefault(e.target, []).append((i, e))
                outgoing.setdefault(e.source, []).append((i, e))
        self.skips = any([bool(e.link.after) and "skip" in e.link.after for e in level.edges])
        part = _parts(level)
        skips = self.skips
        nodes = [self._node(s, outgoing.get(s.id, []), part[s.id]) for s in level.steps]
        self.skips = skips  # levels inside have set their own
        meets = _Meets(nodes, position, ins, triggers, level, skips)
        cyclic = any([e.back for e in level.edges])
        for node in nodes:
            arriving = incoming.get(node.step.id)
            if arriving is None:
                continue
            if cyclic:
                node.backs = [i for i, e in arriving if e.back]
                arriving = [(i, e) for i, e in arriving if not e.back]
            node.incoming = meets.of(node.step.join, arriving)
            node.start_mode = node.step.join or "each"
        entries = [i for i, mask in enumerate(ins) if not mask]
        stage = Stage(nodes, level.edges, len(set(part.values())), cyclic, skips, entries)
        stage.risky = _risky(nodes)
        return stage

    # -- steps -------------------------------------------------------------------------------------------------

    def _node(self, step: Step, outgoing: list[tuple[int, Edge]], part: int) -> Node:
        book = self.book
        failure = book.of_step("failure", step) if "failure" in book.by else _NEVER
        timeout = book.of_step("timeout", step) if "timeout" in book.by else _NEVER
        if timeout.amount and failure.amount + timeout.amount > 1:
            self.notes.append(f"failure and timeout of '{step.title}' sum to over 1; the timeout is cut")
            timeout = Value(1 - failure.amount, timeout.evidence, timeout.why)
        onward = step.on_fault == "continue" and not any([is_error(e) for _, e in outgoing])
        ways = [self._way(i, e, onward) for i, e in outgoing]
        decides = step.kind == "decide" and step.enabled
        if decides:
            self._shares(step, [w for w in ways if w.success], outgoing)
        node = Node(
            step=step,
            enabled=step.enabled,
            failure=failure,
            timeout=timeout,
            tries=step.retry.attempts if step.retry is not None else 0,
            decides=decides,
            ways=ways,
            incoming=None,
            backs=[],
            start_mode="each",
            keeps_failures=onward or any(w.failure for w in ways),
            keeps_timeouts=onward or any(w.timeout for w in ways),
            part=part,
        )
        if step.id in self.graph.levels:
            node.inner = self._stage(self.graph.levels[step.id])
        if step.kind == "loop":
            self._loop(node)
        elif step.yields == "many":
            node.items = book.of_step("items", step)
        if step.kind == "agent":
            self._agent(node)
        return node

    @staticmethod
    def _way(index: int, edge: Edge, onward: bool) -> Way:
        after = edge.link.after
        if after:
            return Way(index, edge.target, edge.back, "success" in after, "failure" in after, "timeout" in after, "skip" in after, False)  # fmt: skip
        if edge.link.role == "error":
            return Way(index, edge.target, edge.back, False, True, True, False, False)
        return Way(index, edge.target, edge.back, True, onward, onward, False, True)

    def _loop(self, node: Node) -> None:
        step, repeat = node.step, node.step.repeat
        if repeat is not None and repeat.until and not repeat.items:
            node.repeats, node.items, node.cap = "until", self.book.of_step("rounds", step), repeat.cap
            return
        node.repeats = "items"
        node.items = self.book.find("items", (step.id, step.name))
        if node.items is None and repeat is not None and repeat.count is not None:
            node.items = Value(float(repeat.count), "read", "listed in the export")
        elif node.items is None:
            node.items = spread_default(DEFAULTS["items"], "default")

    def _agent(self, node: Node) -> None:
        helpers = self.graph.attached.get(node.step.id, [])
        for helper in helpers:
            if helper.kind == "memory":
                node.memories.append(helper)
            elif helper.kind not in NOT_TOOLS and helper.enabled:
                node.tools.append(self._node(helper, [], 0))
            else:
                node.idle.append(helper)
        node.turns = turns_of(node.step, self.book, len(node.tools))

    def _shares(self, step: Step, ways: list[Way], outgoing: list[tuple[int, Edge]]) -> None:
        """Probability of each case. What no assumption names shares the rest equally."""
        links = dict(outgoing)
        found: dict[int, Value] = {}
        for way in ways:
            link = links[way.edge].link
            value = self.book.find("share", (step.id, step.name), (link.label, link.condition, way.target))
            if value is not None:
                found[way.edge] = value
        missing = [w for w in ways if w.edge not in found]
        given = sum(v.amount for v in found.values())
        if step.inclusive:
            for way in missing:
                found[way.edge] = Value(0.5, "default", "default: every second time")
        else:
            if given > 1 + 1e-9:
                self.notes.append(f"the shares of the cases of '{step.title}' sum to {given:g}; they are scaled to 1")
                found = {i: Value(v.amount / given, v.evidence, v.why) for i, v in found.items()}
                given = 1.0
            # A decision with a single way out also has the way of doing nothing.
            count = len(missing) + (1 if len(ways) == 1 else 0)
            rest = weaker(*(v.evidence for v in found.values())) if len(missing) == 1 and found else "default"
            for way in missing:
                words = "what the other cases leave, in equal parts"
                found[way.edge] = Value(max(0.0, 1 - given) / count, rest, words)
        for way in ways:
            way.share = found[way.edge]


Group = tuple["Tie | int", int, list[tuple[int, Edge]]]


class _Meets:
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


def _parts(level: Level) -> dict[str, int]:
    """Connected parts of a level, numbered."""
    root = {s.id: s.id for s in level.steps}

    def find(a: str) -> str:
        while root[a] != a:
            root[a] = a = root[root[a]]
        return a

    for e in level.edges:
        if e.source in root:
            a, b = find(e.source), find(e.target)
            if a != b:
                root[b] = a
    numbers: dict[str, int] = {}
    return {s.id: numbers.setdefault(find(s.id), len(numbers)) for s in level.steps}


def _risky(nodes: list[Node]) -> list[int]:
    """Parts where branches run side by side and more than one step may lose a pass: their losses are no sum."""
    splits = {n.part for n in nodes if sum(w.success for w in n.ways) > 1 and (not n.decides or n.step.inclusive)}
    if not splits:
        return []
    losing: dict[int, int] = {}
    for n in nodes:
        if loses(n):
            losing[n.part] = losing.get(n.part, 0) + 1
    return sorted(p for p in splits if losing.get(p, 0) > 1)


def loses(node: Node) -> bool:
    """Whether passes can get lost in a step without anything that takes them."""
    if not node.enabled:
        return False
    if (node.failure.amount and not node.keeps_failures) or (node.timeout.amount and not node.keeps_timeouts):
        return True
    return (
        node.inner is not None
        and node.repeats == ""
        and not node.keeps_failures
        and any(loses(n) for n in node.inner.nodes)
    )

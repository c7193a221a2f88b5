# Makes a flow ready for counting: looks every assumed number up once, and works out how the ways of each level go together.
"""Plans of flows."""

from __future__ import annotations

from msgspec import structs

from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.quantities import CYCLE_ROUNDS, DEFAULTS, MOST_SINGLE_ROUNDS
from zeitbuch.core.assumptions.shares import is_one_but_rounded
from zeitbuch.core.assumptions.uncertain import Uncertain, most
from zeitbuch.core.assumptions.values import Value, spread_default, weakest_evidence
from zeitbuch.core.graph.open_frames import crossed_frames, odd_ways_out, open_frames
from zeitbuch.core.graph.topology import Edge, Graph, Level, is_own_model
from zeitbuch.core.model.kinds import MODEL_KINDS, NOT_TOOLS
from zeitbuch.core.model.outcomes import case_name, is_case, takes_faults
from zeitbuch.core.model.records import Step

from .agents import shares_of_tools, turns_of
from .carried_items import changes_items, hides_items, last_in_line, loses_by_item
from .joins import JoinAnalysis
from .level_parts import circles_of, connected_parts, is_sure, risky_parts
from .plan import Node, Plan, Stage, Way, loses_passes, may_end_run, needs_telling_apart

_NEVER = Value(0.0, "default", "default")


def _contents_of_frames(graph: Graph) -> dict[str, list[str]]:
    return {frame: [step.id for step in graph.contents.get(frame, ())] for frame in sorted(crossed_frames(graph))}


class Planner:
    """Makes the plan of one flow."""

    def __init__(self, graph: Graph, lookup: AssumptionLookup, waits: bool = True) -> None:
        """``waits``: a direct way from a trigger adds nothing where a longer one leads to the same step. Whoever asks what may run
        without something else having run before counts that way too."""
        self.graph, self.waits = open_frames(graph), waits
        self.frames = {} if self.graph is graph else _contents_of_frames(graph)
        self.lookup = lookup
        self.notes: list[str] = []
        self.skips = False
        self.itemised = any([step.per_item or step.yields != "same" for step in graph.steps.values()])
        # (trigger, step) where a trigger leads to a step that waits for another branch of the same trigger anyhow
        self.waiting: set[tuple[str, str]] = set()

    def make_plan(self) -> Plan:
        level = self.graph.levels.get(None)
        if level is None:
            return Plan(Stage([], [], 0, False, False, []), [], False, [])
        top = self._make_stage(level)
        self.notes += odd_ways_out(self.graph) if len(self.graph.levels) > 1 else []
        return Plan(top, self._find_starts(level, top), self.itemised, self.notes, self.frames)

    def _find_starts(self, level: Level, top: Stage) -> list[tuple[str, list[int]]]:
        triggers = self.graph.triggers
        mapping = {node.step.id: index for index, node in enumerate(top.nodes)}
        led: dict[str, list[int]] = {}
        for edge in level.edges:
            if edge.source in triggers and (edge.source, edge.target) not in self.waiting:
                led.setdefault(edge.source, []).append(mapping[edge.target])
        active = {text: targets for text, targets in led.items() if triggers[text].enabled} or led
        return sorted(active.items(), key=lambda i: list(triggers).index(i[0]))

    # -- levels ------------------------------------------------------------------------------------------------

    def _make_stage(self, level: Level) -> Stage:
        position = {step.id: index for index, step in enumerate(level.steps)}
        outside = 1 << len(position)
        incoming, outgoing, ins = _sort_edges(level, position, outside)
        self.skips = any([bool(edge.link.after) and "skip" in edge.link.after for edge in level.edges])
        part = connected_parts(position, level.edges)
        skips = self.skips
        nodes = [
            self._make_node(step, outgoing.get(step.id, []), part[index]) for index, step in enumerate(level.steps)
        ]
        self.skips = skips  # levels inside have set their own
        joins = JoinAnalysis(nodes, position, ins, self._active_triggers(level), level, skips)
        if level.scope is None and self.waits:
            self.waiting = _waiting_starts(nodes, incoming, joins)
        circles = circles_of(level.edges, position)
        cyclic = bool(circles)
        _set_arrivals(nodes, incoming, cyclic, joins)
        entries = [index for index, mask in enumerate(ins) if not mask]
        stage = Stage(nodes, level.edges, max(part, default=-1) + 1, cyclic, skips, entries)
        stage.circles = circles
        stage.risky = risky_parts(nodes, entries)
        stage.sure = [] if cyclic else [part for part in stage.risky if is_sure(part, nodes)]
        if level.scope is not None:
            stage.apart = needs_telling_apart(nodes, cyclic, bool(stage.risky), self.itemised)
            if any([changes_items(node) for node in nodes]):
                stage.last = last_in_line(nodes, entries, cyclic)
        return stage

    def _active_triggers(self, level: Level) -> set[str]:
        """The triggers that start runs: those that are switched on, or all where none is."""
        led = {edge.source for edge in level.edges if edge.source in self.graph.triggers}
        return {name for name in led if self.graph.triggers[name].enabled} or led

    # -- steps -------------------------------------------------------------------------------------------------

    def _make_node(self, step: Step, outgoing: list[tuple[int, Edge]], part: int) -> Node:
        lookup = self.lookup
        failure, timeout = self._fault_rates(step, lookup)
        keeps_failures, keeps_timeouts, ways = self._make_ways(step, outgoing)
        decides = step.id in self.graph.deciding and step.enabled
        if decides:
            links = dict(outgoing)
            cases = [way for way in ways if way.success and is_case(links[way.edge].link, step.kind)]
            self._set_shares(step, _numbered_cases(cases, links), outgoing)
            _share_within_cases(cases)
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
            keeps_failures=keeps_failures,
            keeps_timeouts=keeps_timeouts,
            part=part,
        )
        self._complete_node(step, node, lookup)
        if step.kind == "end" and step.enabled and any(self.graph.steps[way.target].enabled for way in ways):
            self.notes.append(f"a way leads on from the end '{step.title}'; what is behind it is counted as if it ran")
        node.single = len(ways) == 1 and ways[0].plain and not decides
        return node

    def _fault_rates(self, step: Step, lookup: AssumptionLookup) -> tuple[Value, Value]:
        failure = lookup.of_step("failure", step) if "failure" in lookup.by else _NEVER
        timeout = lookup.of_step("timeout", step) if "timeout" in lookup.by else _NEVER
        if timeout.amount and failure.amount + timeout.amount > 1:
            self.notes.append(f"failure and timeout of '{step.title}' sum to over 1; the timeout is cut")
            timeout = Value(most(0.0, 1 - failure.amount), timeout.evidence, timeout.why)
        return failure, timeout

    def _make_ways(self, step: Step, outgoing: list[tuple[int, Edge]]) -> tuple[bool, bool, list[Way]]:
        onward = step.on_fault == "continue" and not any(takes_faults(edge.link) for _, edge in outgoing)
        keeps_failures = keeps_timeouts = onward
        ways: list[Way] = []
        for index, edge in outgoing:
            if edge.link.after or edge.link.role == "error":
                way = self._make_way(index, edge)
                keeps_failures, keeps_timeouts = keeps_failures or way.failure, keeps_timeouts or way.timeout
            else:
                way = Way(index, edge.target, edge.back, True, onward, onward, False, True)
            ways.append(way)
        return keeps_failures, keeps_timeouts, ways

    def _complete_node(self, step: Step, node: Node, lookup: AssumptionLookup) -> None:
        if step.id in self.graph.levels:
            node.inner = self._make_stage(self.graph.levels[step.id])
            if step.kind != "loop" and loses_by_item(node):
                node.step = step = structs.replace(step, per_item=True)
        if step.kind == "loop":
            self._set_loop(node)
            self._note_losses(node)
        elif step.yields == "many":
            node.items = lookup.of_step("items", step)
        if node.inner is not None and step.enabled and hides_items(node):
            self.notes.append(f"how many items leave '{step.title}' its ways do not tell; as many as came are counted")
        if step.kind == "agent":
            self._set_agent(node)
        elif step.id in self.graph.attached:
            node.each_time = [self._make_node(helper, [], 0) for helper in self._own_calls(step)]
        node.simple = (
            step.enabled
            and not node.each_time
            and node.inner is None
            and node.turns is None
            and not node.repeats
            and not step.per_item
            and step.yields == "same"
        )

    @staticmethod
    def _make_way(index: int, edge: Edge) -> Way:
        """A way that only some outcomes take."""
        after = edge.link.after
        if after:
            return Way(index, edge.target, edge.back, "success" in after, "failure" in after, "timeout" in after, "skip" in after, False)  # fmt: skip
        return Way(index, edge.target, edge.back, False, True, True, False, False)

    def _set_loop(self, node: Node) -> None:
        step, repeat = node.step, node.step.repeat
        node.stops = repeat is not None and repeat.on_item_fault == "stop" and node.inner is not None
        node.beside = step.concurrency or 1
        if repeat is not None and repeat.until and not repeat.items:
            node.repeats, node.items, node.cap = "until", self.lookup.of_step("rounds", step), repeat.cap
            if repeat.cap is None:
                self.notes.append(
                    f"'{step.title}' goes round until its condition holds, without a cap: up to {CYCLE_ROUNDS} rounds are counted"
                )
            return
        node.repeats = "items"
        node.items = self.lookup.find("items", (step.id, step.name)) or self.lookup.counted.get(step.id)
        if node.items is None and repeat is not None and repeat.count is not None:
            node.items = Value(float(repeat.count), "export", "listed in the export")
        elif node.items is None:
            node.items = self.lookup.default_of("items", spread_default(DEFAULTS["items"], "default"))

    def _note_losses(self, node: Node) -> None:
        """What is not known of a loop of which a round may fail."""
        inside = node.inner.nodes if node.inner is not None else []
        if not any([loses_passes(one) and not may_end_run(one) for one in inside]):
            return
        title, repeat, items = node.step.title, node.step.repeat, node.items
        if (
            node.stops
            and node.repeats == "items"
            and items is not None
            and max(items.amount, items.high) > MOST_SINGLE_ROUNDS
        ):
            self.notes.append(
                f"'{title}' ends at an item that fails; in samples those after its first {MOST_SINGLE_ROUNDS:,} fail as often as these in all runs do"
            )
        if repeat is None or repeat.on_item_fault is None:
            self.notes.append(
                f"whether an item that fails ends '{title}' the export does not say; it is counted as if it went on"
            )

    def _own_calls(self, host: Step) -> list[Step]:
        """Attached steps that call a model for their host: the embedding of a search, the model of a step that has none."""
        helpers = self.graph.used_by(host.id)
        return [s for s in helpers if s.kind in MODEL_KINDS and not is_own_model(s, host)]

    def _set_agent(self, node: Node) -> None:
        helpers = self.graph.used_by(node.step.id)
        for helper in helpers:
            if helper.kind == "memory":
                node.memories.append(helper)
            elif helper.kind not in NOT_TOOLS and helper.enabled:
                node.tools.append(self._make_node(helper, [], 0))
            else:
                node.idle.append(helper)
        tools = [tool.step for tool in node.tools]
        node.turns = turns_of(node.step, self.lookup, len(tools))
        node.tool_shares = shares_of_tools(node.step, tools, self.lookup) if tools else []

    def _set_shares(self, step: Step, ways: list[Way], outgoing: list[tuple[int, Edge]]) -> None:
        """Probability of each case. What no assumption names shares the rest equally."""
        links = dict(outgoing)
        found = self._named_shares(step, ways, links)
        missing = [way for way in ways if way.edge not in found]
        unnamed = {way.edge for way in missing}
        given = sum(value.amount for value in found.values())
        if step.inclusive:
            for way in missing:
                one = Value(0.5, "default", "default: every second time")
                found[way.edge] = self.lookup.default_of("share", one, f"{step.id} {way.target}")
        else:
            found = self._fill_shares(step, ways, given, found, missing)
        for way in ways:
            way.share = found[way.edge]
            way.rest = not step.inclusive and way.edge in unnamed

    def _equal_parts(self, step: Step, missing: list[Way], count: int, whole: float) -> list[float]:
        """Cases that nothing tells apart, and where there is but one way out the case of doing nothing."""

        def names() -> list[str]:
            found = [self.graph.names.get(way.target, way.target) for way in missing]
            found += ["doing nothing"] * (count - len(missing))
            return [f"share of ‘{name}’ at ‘{step.title}’" for name in found]

        return self.lookup.equal_parts(f"share {step.id}", count, whole, names)

    def _named_shares(self, step: Step, ways: list[Way], links: dict[int, Edge]) -> dict[int, Value]:
        found: dict[int, Value] = {}
        for way in ways:
            link = links[way.edge].link
            value = self.lookup.find("share", (step.id, step.name), (link.label, link.condition, way.target))
            if value is not None:
                found[way.edge] = value
        return found

    def _fill_shares(
        self, step: Step, ways: list[Way], given: float | int, found: dict[int, Value], missing: list[Way]
    ) -> dict[int, Value]:
        """What the named cases leave, in equal parts; shares over 1 are scaled, and so are such that are 1 but for rounding."""
        rounded = is_one_but_rounded(given, len(found))
        if given > 1 and not rounded:
            self.notes.append(f"the shares of the cases of '{step.title}' sum to {given:g}; they are scaled to 1")
        if type(given) is Uncertain or given > 1 or (rounded and not missing):
            whole = given if rounded and not missing else most(1.0, given)
            found = {index: Value(value.amount / whole, value.evidence, value.why) for index, value in found.items()}
            given = given / whole
        # A decision with a single way out also has the way of doing nothing.
        count = len(missing) + (1 if len(ways) == 1 else 0)
        rest = (
            weakest_evidence(*(value.evidence for value in found.values()))
            if len(missing) == 1 and found
            else "default"
        )
        parts = self._equal_parts(step, missing, count, most(0.0, 1 - given)) if missing else []
        for way, part in zip(missing, parts, strict=False):
            words = "what the other cases leave, in equal parts"
            found[way.edge] = Value(part, rest, words)
        return found


def _sort_edges(
    level: Level, position: dict[str, int], outside: int
) -> tuple[dict[str, list[tuple[int, Edge]]], dict[str, list[tuple[int, Edge]]], list[int]]:
    """What leads to each step and from it, and as bits what leads to it going forward (the highest stands for triggers)."""
    incoming: dict[str, list[tuple[int, Edge]]] = {}
    outgoing: dict[str, list[tuple[int, Edge]]] = {}
    ins = [0] * len(position)  # bits of what leads to each step, going forward; the highest stands for triggers
    for index, edge in enumerate(level.edges):
        source = position.get(edge.source)
        if not edge.back:
            ins[position[edge.target]] |= outside if source is None else 1 << source
        if source is not None:
            incoming.setdefault(edge.target, []).append((index, edge))
            outgoing.setdefault(edge.source, []).append((index, edge))
    return incoming, outgoing, ins


def _set_arrivals(
    nodes: list[Node], incoming: dict[str, list[tuple[int, Edge]]], cyclic: bool, joins: JoinAnalysis
) -> None:
    for node in nodes:
        arriving = incoming.get(node.step.id)
        if arriving is None:
            continue
        if cyclic:
            node.backs = [index for index, edge in arriving if edge.back]
            arriving = [(index, edge) for index, edge in arriving if not edge.back]
        node.incoming = arriving[0][0] if len(arriving) == 1 else joins.meeting_of(node.step.join, arriving)
        node.start_mode = node.step.join or "each"


def _numbered_cases(ways: list[Way], links: dict[int, Edge]) -> list[Way]:
    """The first way of every case."""
    numbers: dict[str, int] = {}
    firsts: list[Way] = []
    for way in ways:
        known = len(numbers)
        way.case = numbers.setdefault(case_name(links[way.edge].link), known)
        if way.case == known:
            firsts.append(way)
    return firsts


def _share_within_cases(ways: list[Way]) -> None:
    """The ways of a case are taken together: all have its share."""
    first: dict[int, Way] = {}
    for way in ways:
        told = first.setdefault(way.case, way)
        way.share, way.rest = told.share, told.rest


def _waiting_starts(
    nodes: list[Node], incoming: dict[str, list[tuple[int, Edge]]], joins: JoinAnalysis
) -> set[tuple[str, str]]:
    """Direct ways from a trigger to a step that a longer branch of the same trigger leads to as well: the step waits for that branch,
    so that the direct way adds no pass. A step that says how its ways join is taken at its word."""
    found: set[tuple[str, str]] = set()
    for name, direct in joins.led.items():
        forward = [(index, edge) for index, edge in incoming.get(name, []) if not edge.back]
        if forward and nodes[joins.position[name]].step.join in (None, "all"):
            found |= {(trigger, name) for trigger in direct & joins.begun_by(forward)}
    return found

# What has always run before a step: gone through in order, with what each way in has behind it; where ways go back, until nothing changes.
"""The steps that have always succeeded before another starts."""

from __future__ import annotations

from collections.abc import Container

from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.bpmn_terms import TEST_BEFORE
from zeitbuch.core.model.records import Step

from .plan import JoinTree, Node, Plan, Stage, fold_tie


class StepsBefore:
    """Works that out for one flow. Sets are bits, of triggers and steps (``bit``)."""

    def __init__(self, graph: Graph, plan: Plan, bit: dict[str, int]) -> None:
        self.graph, self.plan, self.bit = graph, plan, bit
        self.shared = {helper.id for helpers in graph.shared.values() for helper in helpers}
        self.found: dict[str, int] = {}  # by step
        self._go_through(plan.top, 0)

    def _go_through(self, stage: Stage, outer: int) -> int:
        """Fills ``found`` for a level; returns what has always succeeded when the level is through."""
        starts = self._bits_at_start(stage)
        places = {node.step.id: place for place, node in enumerate(stage.nodes)}
        comes = self._find_reached(stage, starts, places)
        after: list[int] = []
        while True:
            last, after = after, []
            for place, node in enumerate(stage.nodes):
                known = starts.get(place, -1)
                if node.incoming is not None:
                    known &= self._before_tie(stage, node.incoming, after, places)
                for index in node.backs if last else ():  # in a first round nothing has come back
                    known &= self._before_way(stage, index, last, places)
                done = self._note_step(node, outer if known == -1 else outer | known)
                after.append(done if comes[place] else -1)  # what no pass comes to takes nothing from other ways
            if after == last or not stage.cyclic:
                ends = [comes[place] and _may_end(node, comes, places) for place, node in enumerate(stage.nodes)]
                return _common_end(stage, outer, after, ends)

    @staticmethod
    def _find_reached(stage: Stage, starts: Container[int], places: dict[str, int]) -> list[bool]:
        """Whether any pass may come to each step: none comes by what fails of a step that is off, nor waits for two of which only one comes."""
        comes: list[bool] = []

        def over_edge(index: int) -> bool:
            place = places[stage.edges[index].source]
            node = stage.nodes[place]
            way = next(way for way in node.ways if way.edge == index)
            return way.skip or (comes[place] and (node.enabled or way.plain))

        def over_both(meeting: JoinTree, left: bool, right: bool) -> bool:
            return left and right and meeting.how != "instead" if meeting.mode == "all" else left or right

        for place, node in enumerate(stage.nodes):
            tie = node.incoming
            begun = tie is None or bool(node.backs) or place in starts
            comes.append(begun or (tie is not None and fold_tie(tie, over_edge, over_both)))
        return comes

    def _note_step(self, node: Node, known: int) -> int:
        """Notes what is before a step, and what is in it; returns what has succeeded when it has."""
        name = node.step.id
        self.found[name] = known
        done = known | self.bit[name]
        for helper in self.graph.tools_of(name):
            self.found[helper.id] = known & self.found.get(helper.id, known) if helper.id in self.shared else known
        if node.inner is not None:
            inside = self._go_through(node.inner, known | self.bit[name])
            if node.enabled and not _may_do_nothing(node.step):
                done |= inside
        return done

    def _bits_at_start(self, stage: Stage) -> dict[int, int]:
        starts: dict[int, int] = {}
        if stage is self.plan.top:
            for trigger, targets in self.plan.starts:
                for place in targets:
                    bit = self.bit[trigger]
                    starts[place] = starts[place] & bit if place in starts else bit
        return starts

    def _before_tie(self, stage: Stage, tie: JoinTree | int, after: list[int], places: dict[str, int]) -> int:
        def of_both(meeting: JoinTree, left: int, right: int) -> int:
            return left | right if meeting.mode == "all" else left & right

        return fold_tie(tie, lambda edge: self._before_way(stage, edge, after, places), of_both)

    def _before_way(self, stage: Stage, index: int, after: list[int], places: dict[str, int]) -> int:
        source = stage.edges[index].source
        place = places[source]
        way = next(way for way in stage.nodes[place].ways if way.edge == index)
        if way.skip:
            return 0  # taken where nothing has come to the step
        if way.failure or way.timeout:  # what fails hands nothing on, and of what is in it something has failed
            return self.found[source] | self.bit[source] if way.success else self.found[source]
        return after[place]


def _may_do_nothing(step: Step) -> bool:
    """Whether a loop may have no round: what it goes over may be empty; one that goes on until something holds asks behind the first round,
    unless it says otherwise."""
    repeat = step.repeat
    if step.kind != "loop" or repeat is None:
        return step.kind == "loop"
    asks_first = any(one.name == TEST_BEFORE and one.value in (True, "true") for one in step.inputs)
    return repeat.until is None or bool(repeat.items) or repeat.count is not None or asks_first


def _common_end(stage: Stage, outer: int, after: list[int], ends: list[bool]) -> int:
    """Branches of a level that begin apart all run; ends of one beginning are ways of which one is taken."""
    whole: dict[int, int] = {}
    for done, node, is_end in zip(after, stage.nodes, ends, strict=True):
        if is_end:
            whole[node.part] = whole.get(node.part, done) & done
    for common in whole.values():
        outer |= common
    return outer


def _may_end(node: Node, comes: list[bool], places: dict[str, int]) -> bool:
    """Whether a pass that succeeds at a step may go no further: a decision with a single case, or with any, may take none; and what waits for
    what never comes is no way on."""
    succeeding = [way for way in node.ways if way.success and (node.enabled or way.plain) and not way.back]
    onward = [way for way in succeeding if comes[places[way.target]]]
    if not node.decides:
        return not onward
    cases = {way.case for way in succeeding if way.share is not None}
    return len(onward) < len(succeeding) or not onward or node.step.inclusive or len(cases) < 2

# What the shape of a flow says: what always runs before what, what nothing leads to, where runs end, the longest way, and
# which output feeds which input. Built on the plan of passes, so that both agree on how branches meet.
"""Ways through a flow: order, reachability, longest way, data lineage."""

from __future__ import annotations

from functools import cached_property
from typing import Literal

from msgspec import Struct

from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.graph.open_frames import open_frames
from zeitbuch.core.graph.topology import Graph, Level
from zeitbuch.core.model.outcomes import takes_faults
from zeitbuch.core.model.records import Ref, Step
from zeitbuch.core.model.references import ref_words, refs_of_end, refs_of_items

from .compiler import Planner
from .longest_way import longest_way
from .plan import Plan
from .steps_before import StepsBefore
from .steps_that_run import steps_that_may_run

Trust = Literal["always", "sometimes", "later", "never", "missing"]
LOOP_END = "the end of the loop"  # what takes a value: the condition until which it goes round
_DOING = frozenset({"write", "send", "delete", "spend"})
_LAST = frozenset({"end", "note", "approve", "wait", "subflow", "join"})


class Read(Struct, frozen=True):
    """One value that a step takes from another: ``where`` names the input, prompt or condition that takes it. ``trust`` says whether
    the source has run by then: always, on some ways only, in an earlier round of a cycle at best (``later``), never, or whether
    there is no such step (``missing``)."""

    reader: str
    source: str
    ref: Ref
    where: str
    trust: Trust


class Reachability:
    """Questions about one flow's shape. Attached helpers stand for their agent."""

    def __init__(self, graph: Graph) -> None:
        self.graph = graph = open_frames(graph)
        self.bit: dict[str, int] = {key: 1 << number for number, key in enumerate([*graph.triggers, *graph.steps])}

    @cached_property
    def plan(self) -> Plan:
        """The plan of passes; many questions need none."""
        return Planner(self.graph, AssumptionLookup(Assumptions(), self.graph.flow), waits=False).make_plan()

    # -- what runs before what -------------------------------------------------------------------------------------

    @cached_property
    def before(self) -> dict[str, int]:
        """Step -> bits of all steps that have always succeeded before it starts (see ``bit``)."""
        return StepsBefore(self.graph, self.plan, self.bit).found

    def always_before(self, step_id: str) -> list[str]:
        """The steps and triggers that have always succeeded before a step, in the order of execution."""
        mask = self.before.get(step_id, 0)
        return [
            key for key in [*self.graph.triggers, *[step.id for step in self.graph.in_order()]] if mask & self.bit[key]
        ]

    # -- reachability ----------------------------------------------------------------------------------------------

    def next_steps(self, step_id: str) -> list[str]:
        """The steps that a step or trigger leads to directly, on its level."""
        return self._links[0].get(step_id, [])

    def previous_steps(self, step_id: str) -> list[str]:
        """The steps and triggers that lead to a step directly, on its level."""
        return self._links[1].get(step_id, [])

    @cached_property
    def _links(self) -> tuple[dict[str, list[str]], dict[str, list[str]]]:
        out: dict[str, list[str]] = {}
        into: dict[str, list[str]] = {}
        for level in self.graph.levels.values():
            for edge in level.edges:
                if edge.target not in out.setdefault(edge.source, []):
                    out[edge.source].append(edge.target)
                    into.setdefault(edge.target, []).append(edge.source)
        return out, into

    def _reach_all(self, roots: list[str], near: dict[str, list[str]]) -> set[str]:
        seen = set(roots)
        work = list(roots)
        while work:
            for other in near.get(work.pop(), ()):
                if other not in seen:
                    seen.add(other)
                    work.append(other)
        return seen

    def steps_after(self, step_id: str) -> set[str]:
        """Everything that may run after a step, with what is inside it, links that go back included."""
        return self._reach_along(step_id, self._links[0])

    def steps_before(self, step_id: str) -> set[str]:
        """Everything that may run before a step."""
        kept = self._ahead.get(step_id)
        if kept is None:
            kept = self._ahead[step_id] = self._reach_along(step_id, self._links[1])
        return kept

    @cached_property
    def _ahead(self) -> dict[str, set[str]]:
        return {}

    def _reach_along(self, step_id: str, near: dict[str, list[str]]) -> set[str]:
        found: set[str] = set()
        roots = [step_id]
        self._reach_outwards(near, roots, found)
        return self._reach_inwards(found)

    def _reach_outwards(self, near: dict[str, list[str]], roots: list[str], found: set[str]) -> None:
        while roots:
            reached = self._reach_all(roots, near) - set(roots) | (set(roots) & found)
            found |= reached
            # What leads on from the scopes around it goes on too.
            scopes = [self.graph.steps[text].scope for text in roots if text in self.graph.steps]
            around = [scope for scope in scopes if scope is not None]
            roots = [text for text in dict.fromkeys(around) if text not in found]

    def _reach_inwards(self, found: set[str]) -> set[str]:
        work = list(found)
        while work:
            place = work.pop()
            inner = [step.id for step in self.graph.children.get(place, ())] if place in self.graph.levels else []
            for other in (*inner, *[step.id for step in self.graph.used_by(place)]):
                if other not in found:
                    found.add(other)
                    work.append(other)
        return found

    @cached_property
    def unreachable(self) -> list[str]:
        """Steps that no trigger leads to, in order. Without any trigger that leads on, everything counts as begun."""
        top = self.plan.top
        begun = [top.nodes[place].step.id for _, targets in self.plan.starts for place in targets]
        if not begun:
            return []
        seen = self._reach_all(begun, self._links[0])
        lost: list[str] = []
        for step in self.graph.in_order():
            if step.kind == "note":
                continue
            place = self.graph.card_of(step.id)
            outer = next((part for part in self.graph.scope_path(place) if part is not None), place)
            if outer not in seen:
                lost.append(step.id)
        return lost

    @cached_property
    def ends(self) -> list[str]:
        """Steps behind which a run ends, in order."""
        level = self.graph.levels[None]
        leading = {edge.source for edge in level.edges if not edge.back}
        return [step.id for step in level.steps if step.id not in leading and step.kind != "note"]

    @cached_property
    def dead_ends(self) -> list[str]:
        """Steps whose work nobody uses: nothing follows, nothing reads what they make, and they change nothing."""
        read = {read.source for read in self.reads}
        found: list[str] = []
        for level in self.graph.levels.values():
            self._dead_ends_in(level, read, found)
        order = {step.id: index for index, step in enumerate(self.graph.in_order())}
        return sorted(found, key=order.__getitem__)

    def _dead_ends_in(self, level: Level, read: set[str], found: list[str]) -> None:
        leading = {edge.source for edge in level.edges}
        inside = self.graph.steps.get(level.scope) if level.scope is not None else None
        last = level.steps[-1].id if level.steps else ""
        for step in level.steps:
            idle = step.id not in leading and step.id not in read and step.effect not in _DOING
            handed = inside is not None and step.id == last and (inside.id in read or inside.kind != "loop")
            if idle and step.kind not in _LAST and step.id not in self.graph.levels and not handed:
                tools = self.graph.tools_of(step.id)
                if not any(step.effect in _DOING for step in tools):
                    found.append(step.id)

    # -- longest way, spread -----------------------------------------------------------------------------------------

    @cached_property
    def longest(self) -> list[str]:
        """The steps of the longest way through the flow, contents of scopes once each (the critical path in steps)."""
        return longest_way(self.plan, steps_that_may_run(self.graph))

    def widest_spread(self) -> tuple[int, int]:
        """The most ways that leave one step, and the most that lead to one."""
        out, into = self._links
        steps = self.graph.steps
        return (
            max((len(values) for key, values in out.items() if key in steps), default=0),
            max((len(values) for values in into.values()), default=0),
        )

    @property
    def back_links(self) -> list[tuple[str, str]]:
        """Links that go back to an earlier step."""
        return [(edge.source, edge.target) for level in self.graph.levels.values() for edge in level.edges if edge.back]

    # -- data --------------------------------------------------------------------------------------------------------

    @cached_property
    def reads(self) -> list[Read]:
        """Every value that a step takes from a step or trigger, in the order of execution."""
        found: list[Read] = []
        for step in self.graph.in_order():
            for where, ref in taken_values(self.graph, step):
                if ref.step is not None:
                    inside = where == LOOP_END and step.id in self.graph.scope_path(ref.step)
                    trust = self._trust_in_round(step, ref.step) if inside else self._trust_of(step, ref.step)
                    found.append(Read(step.id, ref.step, ref, where, trust))
        return found

    def _trust_in_round(self, loop: Step, source: str) -> Trust:
        """Whether a step of a loop has run when a round is over, and with it the condition that ends the loop is asked."""
        level = self.graph.levels.get(loop.id)
        leading = {edge.source for edge in level.edges if not edge.back} if level is not None else set()
        steps = level.steps if level is not None else []
        ends = [step.id for step in steps if step.id not in leading and step.kind != "note"]
        bit = self.bit[self.graph.card_of(source)]
        return "always" if all(source == end or self.before.get(end, 0) & bit for end in ends) else "sometimes"

    def _trust_of(self, step: Step, source: str) -> Trust:
        graph = self.graph
        if source not in self.bit:
            return "missing"
        if source in graph.triggers:
            others = [text for text, _ in self.plan.starts if text != source and graph.triggers[text].enabled]
            return "always" if not others or self.before.get(step.id, 0) & self.bit[source] else "sometimes"
        if _made_around(step, source, graph):
            return "always"  # what the loop hands to the steps in it
        card = graph.card_of(step.id)
        if graph.card_of(source) == card and (source != step.id or step.id in graph.host):
            return "always"  # an agent and its helpers
        if self.before.get(step.id, 0) & self.bit[graph.card_of(source)]:
            return "always"
        arriving = [link for link in graph.arriving.get(step.id, ()) if link.role != "attach"]
        if arriving and all(link.source == source and takes_faults(link) for link in arriving):
            return "always"  # what a failed step leaves is there on its error route
        ahead = self.steps_before(card)
        if source not in ahead and graph.card_of(source) not in ahead:
            return "never"
        if source == step.id or not self._leads_to(source, step.id):
            return "later"  # it leads here, but only by going back
        return "sometimes"

    def _leads_to(self, source: str, target: str) -> bool:
        """Whether a step leads to another without going back."""
        meeting = self.graph.innermost_common_scope(source, target)
        first, second = self.graph.lift_to(source, meeting), self.graph.lift_to(target, meeting)
        level = self.graph.levels.get(meeting)
        if level is None or first is None or second is None:
            return False
        near = self._onward.get(meeting)
        if near is None:
            near = self._onward[meeting] = {}
            for edge in level.edges:
                if not edge.back:
                    near.setdefault(edge.source, []).append(edge.target)
        return first == second or second in self._reach_all([first], near)

    @cached_property
    def _onward(self) -> dict[str | None, dict[str, list[str]]]:
        return {}

    def follow_lineage(self, source: str, path: str = "") -> list[Read]:
        """Where a value goes: its readers, the readers of what these make of it, and so on; each once, nearest first."""
        found: list[Read] = []
        seen: set[str] = {source}
        work = [source]
        while work:
            place = work.pop(0)
            for read in self.reads:
                if read.source != place or read in found:
                    continue
                if (
                    place == source
                    and path
                    and not (read.ref.path == path or read.ref.path.startswith((f"{path}.", f"{path}[")))
                ):
                    continue
                found.append(read)
                if read.reader not in seen:
                    seen.add(read.reader)
                    work.append(read.reader)
        return found

    def read_words(self, read: Read) -> str:
        """'the prompt takes rows of ‘Look up’ (does not run on every way)'."""
        remark = {
            "always": "", "sometimes": ", which does not run on every way to it", "never": ", which never runs before it",
            "later": ", which runs before it only in an earlier round", "missing": ", which is no step of the flow",
        }[read.trust]  # fmt: skip
        return f"{read.where} takes {ref_words(read.ref, self.graph.names)}{remark}"


def _made_around(step: Step, source: str, graph: Graph) -> bool:
    return source in graph.scope_path(step.id)


def taken_values(graph: Graph, step: Step) -> list[tuple[str, Ref]]:
    """What a step takes from elsewhere, with what takes it: inputs, prompts, conditions, cases."""
    found: list[tuple[str, Ref]] = []
    found += [(f"the input ‘{b.name}’", r) for b in step.inputs for r in b.refs]
    if step.model is not None:
        found += [("the prompt", ref) for prompt in step.model.prompts for ref in prompt.refs]
    found += [("the condition", ref) for ref in step.refs]
    if step.repeat is not None:
        found += [("the loop", ref) for ref in refs_of_items(step.repeat)]
        found += [(LOOP_END, ref) for ref in refs_of_end(step.repeat)]
    for link in graph.leaving.get(step.id, ()):
        if link.refs:
            found += [(f"the case ‘{link.label or link.condition}’", r) for r in link.refs]
    return list(dict.fromkeys(found))

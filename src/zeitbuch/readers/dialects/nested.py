# Steps within steps: a tree in execution order, or levels in which every step names its predecessors. Bodies,
# branches, error handlers and helpers stand inside the step they belong to, in the same shape again.
"""The nested shapes of exports."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, NamedTuple

from zeitbuch.core.model.kinds import OUTCOMES
from zeitbuch.core.model.records import Link, Outcome
from zeitbuch.readers.input.link_builder import Loose

from .draft import Draft
from .field_checks import Refused, one_of
from .flat import Triggers
from .gates import find_gates
from .holds import Hold, Item, keep_unused
from .links import Links
from .named_tools import tool_names
from .own_rounds import find_rounds
from .paths import Claims, as_text, claim_paths, is_words, make_getter, unclaimed_part
from .query import Query
from .rules import Dialect
from .step_plan import Plan
from .steps import StepReader


class Group(NamedTuple):
    """One group of steps inside a step, as read."""

    hold: Hold
    label: str
    condition: str
    otherwise: bool
    nodes: list[Node]


class Node(NamedTuple):
    """A step as written, with what stands inside it."""

    pointer: str
    item: dict[str, Any]
    id: str
    plan: Plan
    groups: list[Group]


def _start_no_helpers(draft: Draft) -> None:
    """What lends itself to another step waits for nothing, but no trigger starts it."""
    helpers = {link.source for link in draft.links if link.role == "attach"}
    starts = {trigger.id for trigger in draft.triggers}
    draft.links = [link for link in draft.links if link.source not in starts or link.target not in helpers]


class Nested:
    """Steps nested in execution order, by predecessors, or with links written apart."""

    def __init__(self, dialect: Dialect, steps: StepReader) -> None:
        self.steps = steps
        self.holds = [Hold(rule, steps) for rule in dialect.inside]
        self.holders = frozenset(hold.first for hold in self.holds)
        self.query = Query(dialect.step.at)
        self.triggers = Triggers(dialect, steps)
        self.before = dialect.predecessors
        if self.before is not None:
            self.names_at = make_getter(self.before.at)
            self.outcomes = self.before.outcomes
            self.known_outcomes: dict[tuple[str, ...], tuple[tuple[Outcome, ...], bool]] = {}
            self.source, self.outcome = make_getter(self.before.source), make_getter(self.before.outcome)
            self.entry_claims: Claims = {}
            claim_paths(self.entry_claims, self.before.source)
            claim_paths(self.entry_claims, self.before.outcome)
            claim_paths(self.entry_claims, self.before.condition)
            self.condition = make_getter(self.before.condition)
        apart = bool(dialect.links or dialect.adjacencies) or bool(dialect.step.next or dialect.pointer)
        self.apart = (
            Links(dialect, steps) if apart else None
        )  # links beside those that steps name before them, of helpers say
        self.links = self.apart if self.before is None else None

    def read_flow(self, raw: dict[str, Any], draft: Draft) -> None:
        """Fills the draft with the triggers, steps and links of one flow."""
        top: dict[str, list[Item]] = {}
        for pointer, item in self.steps.find_objects(self.query, raw, draft):
            top.setdefault(pointer.rpartition("/")[0], []).append((pointer, item))
        every: list[Item] = []
        levels = [self._find_nodes(items, draft, every) for items in top.values()]
        starts = self.triggers.read_triggers(raw, draft)
        entry = [Loose(trigger_id) for trigger_id, target in starts if not target]
        for trigger_id, target in starts:
            if target:
                draft.links.append(Link(source=trigger_id, target=draft.names.get(target, target)))
        for nodes in levels:
            draft.tell_loose(self._read_level(nodes, draft, None, entry))
        if self.apart is not None:
            self.apart.read_links(raw, draft, every)
            if self.before is not None:
                _start_no_helpers(draft)
        draft.tell_idle_cases()

    def _find_nodes(self, items: list[Item], draft: Draft, every: list[Item]) -> list[Node]:
        """The steps of one level with all that stands in them; their names are noted in the draft."""
        every += items
        steps, names = self.steps, draft.names
        found: list[Node] = []
        for pointer, item in items:
            step_id, name = steps.identity_of(item)
            names.setdefault(step_id, step_id)
            names.setdefault(name, step_id)
            plan = steps.plan_for(item)
            if plan.rule.trigger is not None:
                names.setdefault("\x00trigger", step_id)
            groups: list[Group] = []
            holding = plan.rule.trigger is None and not self.holders.isdisjoint(item)
            for hold in self._hold_rules(item) if holding else ():
                for label, condition, otherwise, inner in hold.find_branches(item, pointer, draft.lost):
                    groups.append(Group(hold, label, condition, otherwise, self._find_nodes(inner, draft, every)))
            found.append(Node(pointer, item, step_id, plan, groups))
        return found

    def _hold_rules(self, item: dict[str, Any]) -> list[Hold]:
        """The rules by which a step holds others."""
        operation = as_text(self.steps.operation(item))
        return [
            hold for hold in self.holds if hold.first in item and (hold.rule.operation == "*" or hold.fits(operation))
        ]

    def _read_level(
        self, nodes: list[Node], draft: Draft, scope: str | None, entry: list[Loose], within: bool = False
    ) -> list[Loose]:
        """Reads the steps of one level; returns the arrows that leave its last steps."""
        if self.before is not None:
            return self._by_predecessors(nodes, draft, scope, entry)
        loose = entry
        for node in nodes:
            if node.plan.rule.trigger is not None:
                loose = [*loose, *self._read_trigger(node, draft)]
                continue
            self._read_step(node, draft, scope)
            if self.links is None or within:
                self._add_arrow(loose, node.id, node.pointer, draft)
            loose = self._read_inside(node, draft, scope)
            if self.links is not None:
                draft.tell_loose(loose)
                loose = []
        return loose

    def _read_trigger(self, node: Node, draft: Draft) -> list[Loose]:
        trigger = self.steps.read_trigger(node.item, node.pointer, draft, node.plan)
        draft.triggers.append(trigger)
        return [Loose(trigger.id)]

    def _read_step(self, node: Node, draft: Draft, scope: str | None) -> None:
        draft.steps.append(self.steps.read_step(node.item, node.pointer, draft, node.plan, scope))
        if node.plan.gates:
            draft.keep_gates(node.id, find_gates(node.plan.gates, node.item, node.pointer))
        if (rule := node.plan.rounds) is not None:
            places = self.steps.places
            draft.keep_rounds(node.id, find_rounds(rule, node.item, node.pointer, places, draft.names))
        if "tools" in node.plan.get:
            draft.keep_tools(node.id, tool_names(node.plan, node.item))
        if node.plan.cases is not None:
            draft.keep_cases(node.id, self.steps.cases_of(node.item, node.plan))

    def _add_arrow(self, loose: list[Loose], target: str, pointer: str, draft: Draft) -> None:
        if self.steps.outline:
            for first in loose:
                draft.links.append(Link(source=first.source, target=target, role=first.role, after=first.after))
            return
        for first in loose:
            draft.links.append(
                Link(source=first.source, target=target, role=first.role, label=first.label, condition=first.condition,
                     refs=self.steps.places.in_text(first.condition, draft.names), after=first.after, otherwise=first.otherwise, origin=draft.origin_at(pointer))
            )  # fmt: skip

    def _by_predecessors(self, nodes: list[Node], draft: Draft, scope: str | None, entry: list[Loose]) -> list[Loose]:
        ends: dict[str, list[Loose]] = {}
        waiting: list[Node] = []
        for node in nodes:
            if node.plan.rule.trigger is not None:
                ends[node.id] = self._read_trigger(node, draft)
                entry = []
                continue
            self._read_step(node, draft, scope)
            ends[node.id] = self._read_inside(node, draft, scope)
            waiting.append(node)
        followed: set[str] = set()
        # The arrows of triggers that stand among the steps lead to the steps that wait for nothing.
        steps = {node.id for node in waiting}
        begin = entry or [first for key, left in ends.items() if key not in steps for first in left]
        for node in waiting:
            self._join_predecessors(draft, node, followed, ends, begin)
        return [first for step_id, left in ends.items() if step_id not in followed for first in left]

    def _join_predecessors(
        self, draft: Draft, node: Node, followed: set[str], ends: dict[str, list[Loose]], begin: list[Loose]
    ) -> None:
        before = list(self._predecessors_of(node, draft))
        for name, after, condition in before:
            source = draft.names.get(name)
            if source is None:
                self._tell_nowhere(name, after, node, draft)
                continue
            if not after or "success" in after:
                followed.add(source)  # what only catches a failure leaves the way on open
            arrows = self._leaving_arrows(source, after, ends)
            if condition:
                arrows = [
                    one._replace(role="case" if one.role == "next" else one.role, condition=condition) for one in arrows
                ]
            self._add_arrow(arrows, node.id, node.pointer, draft)
        if not before:
            self._add_arrow(begin, node.id, node.pointer, draft)

    def _leaving_arrows(self, source: str, after: tuple[Outcome, ...], ends: dict[str, list[Loose]]) -> list[Loose]:
        if not after or after == ("success",):
            return ends.get(source, [Loose(source)])
        if "success" in after:
            return [first._replace(after=after) for first in ends.get(source, [Loose(source)])]
        return [Loose(source, "error", " or ".join(f"on {name}" for name in after), "", after)]

    def _predecessors_of(self, node: Node, draft: Draft) -> Iterator[tuple[str, tuple[Outcome, ...], str]]:
        """The predecessors of a step, each with the outcomes after which the step runs, and the condition."""
        value = self.names_at(node.item)
        if type(value) is dict and self.source(value) is None:
            for name, outcome in value.items():
                yield name, self._read_outcomes(outcome, name, node, draft), ""
            return
        for entry in value if type(value) is list else [value]:
            name = as_text(self.source(entry)) if type(entry) is dict else as_text(entry)
            if type(entry) is dict:
                rest = unclaimed_part(entry, self.entry_claims)
                draft.lost += [rest] if rest else []
                if name:
                    condition = as_text(self.condition(entry))
                    yield name, self._read_outcomes(self.outcome(entry), name, node, draft), condition
                elif self.outcome(entry) is not None:
                    draft.lost.append({"to": node.id, "outcome": self.outcome(entry)})
            elif name:
                yield name, (), ""

    def _read_outcomes(self, value: Any, name: str, node: Node, draft: Draft) -> tuple[Outcome, ...]:
        written = tuple([as_text(item) for item in value]) if type(value) is list else (as_text(value),)
        known, unknown = self.known_outcomes.get(written) or self._learn_outcomes(written)
        if unknown or not is_words(value):
            words = one_of(self.outcomes).expected if self.outcomes else "no outcome (the dialect names none)"
            refused = Refused((name,), value, words)
            draft.tell_refused([refused], f"before '{node.id}'", node.pointer)
            draft.lost.append({"before": name, "to": node.id, "outcome": value})
        return known

    def _learn_outcomes(self, written: tuple[str, ...]) -> tuple[tuple[Outcome, ...], bool]:
        found = [self.outcomes.get(value) for value in written]
        known = tuple([name for name in OUTCOMES if name in found])
        unknown = any(value and value not in self.outcomes for value in written)
        self.known_outcomes[written] = known, unknown
        return known, unknown

    def _tell_nowhere(self, name: str, after: tuple[Outcome, ...], node: Node, draft: Draft) -> None:
        draft.add_problem(
            "link-end",
            f"expected a link between known steps, found '{name}' which no step of the flow has as its id or name",
            "the link is left out and listed under unread parts; mend it in the builder and export again",
            node.pointer,
        )
        draft.lost.append({"before": name, "to": node.id, **({"after": list(after)} if after else {})})

    def _read_inside(self, node: Node, draft: Draft, scope: str | None) -> list[Loose]:
        """Reads what stands inside a step; returns the arrows that leave the step as a whole."""
        plan, step_id = node.plan, node.id
        out: list[Loose] = [] if plan.kind == "end" else [Loose(step_id)]
        if not node.groups:
            return out
        caught: list[Loose] = []
        branched: list[Loose] | None = None
        for place, (hold, named, condition, otherwise, nodes) in enumerate(node.groups, start=1):
            role = hold.rule.role
            if role == "case" and plan.kind in ("loop", "guard", "group"):
                role = "body"
            if role not in ("case", "body") or plan.kind != "decide":
                keep_unused(draft, hold, plan, role, named, condition, otherwise)
            if role == "body" and plan.kind != "decide":
                draft.tell_loose(self._read_level(nodes, draft, step_id, []))
            elif role in ("case", "body"):
                branched = self._read_branch(
                    draft, scope, plan, named, condition, step_id, nodes, otherwise, place, branched
                )
            elif role == "attach":
                self._attach_helpers(draft, scope, nodes, step_id)
            elif nodes:
                left = self._read_level(nodes, draft, scope, [Loose(step_id, "error", "on error")], True)
                caught += left if hold.rule.resumes else []
                draft.tell_loose([] if hold.rule.resumes else left)
        if plan.kind == "decide" and branched is not None and len(node.groups) == 1:
            # One named way that is written and one that is not: the other way goes on behind the step.
            missing = self._unwritten_outlet(node.item)
            branched += [Loose(step_id, "case", missing)] if missing else []
        return [*(out if branched is None else branched), *caught]

    def _read_branch(
        self,
        draft: Draft,
        scope: str | None,
        plan: Plan,
        named: str,
        condition: str,
        step_id: str,
        nodes: list[Node],
        otherwise: bool,
        place: int,
        branched: list[Loose] | None,
    ) -> list[Loose] | None:
        if plan.kind == "parallel":
            # A link from a scope to a step inside it only names the branch that begins there.
            inner = [Loose(step_id, "case", named, condition, (), otherwise)] if named or condition else []
            draft.tell_loose(self._read_level(nodes, draft, step_id, inner, bool(inner)))
        else:
            label = named or condition or ("otherwise" if otherwise else f"branch {place}")
            inner = [Loose(step_id, "case", label, condition, (), otherwise)]
            ends = self._read_level(nodes, draft, scope, inner, True) if nodes else inner
            branched = [*(branched or []), *ends]
        return branched

    def _attach_helpers(self, draft: Draft, scope: str | None, nodes: list[Node], step_id: str) -> None:
        for helper in nodes:
            self._read_step(helper, draft, scope)
            self._read_inside(helper, draft, scope)
            origin = draft.origin_at(helper.pointer)
            draft.links.append(Link(source=helper.id, target=step_id, role="attach", origin=origin))

    def _unwritten_outlet(self, item: dict[str, Any]) -> str:
        """The name of the first way that a step could have and has not."""
        operation = as_text(self.steps.operation(item))
        for hold in self.holds:
            if hold.rule.named and hold.rule.role == "case" and hold.at(item) is None and hold.fits(operation):
                return hold.rule.named
        return ""

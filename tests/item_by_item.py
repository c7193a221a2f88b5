"""Passes with items gone through one by one, as the rules of docs/arithmetic.md say: no arithmetic of ours. For steps and blocks of which
each is led to by one other at most."""

from __future__ import annotations

import random
from collections.abc import Iterator
from typing import Literal, NamedTuple

from hypothesis import strategies as st
from msgspec import structs

from any_shape import Drawn
from builders import START, flow
from zeitbuch.core.assumptions.rules import Rule
from zeitbuch.core.model.records import Link, Retry, Step

Outcome = Literal["success", "failure", "timeout"]
AFTER = [(), (), (), ("success",), ("failure",), ("timeout", "failure"), ("success", "failure"), ("timeout",)]


@st.composite
def lines_of_items(draw: st.DrawFn) -> Drawn:
    """A tree of steps behind a trigger; some make many items, some run once for each, some gather them, some are blocks of others."""
    rules = [Rule(step="many", items=float(draw(st.integers(1, 3))))]
    steps, links = _tree(draw, None, rules)
    first = Step(id="many", kind="http", yields="many")  # or nearly all passes would have one item
    begin = [Link(source=START.id, target="many"), Link(source="many", target="s0")]
    return Drawn(flow([first, *steps], [*begin, *links]), rules)


def _tree(draw: st.DrawFn, scope: str | None, rules: list[Rule]) -> tuple[list[Step], list[Link]]:
    """Steps of one level of which each is led to by one before; with those of the blocks among them."""
    steps: list[Step] = []
    inside: list[Step] = []
    links: list[Link] = []
    for place in range(draw(st.integers(2, 6) if scope is None else st.integers(1, 3))):
        name = f"s{place}" if scope is None else f"{scope}_{place}"
        block = scope is None and draw(st.integers(0, 4)) == 0
        kinds = ["group", "guard", "loop"] if block else ["http", "http", "shape", "decide"]
        steps.append(_step(draw, name, draw(st.sampled_from(kinds)), scope, block))
        rules.append(Rule(step=name, items=float(draw(st.sampled_from([1, 2, 3, 3, 0])))))
        if block:
            within = _tree(draw, name, rules)
            inside, links = inside + within[0], links + within[1]
        else:
            late = draw(st.sampled_from([0.0, 0.0, 0.2])) if scope is None else 0.0
            rules.append(Rule(step=name, failure=draw(st.sampled_from([0.0, 0.3, 0.5])), timeout=late))
        if place:
            source = steps[draw(st.integers(max(0, place - 2), place - 1))]
            role = "case" if source.kind == "decide" else draw(st.sampled_from(["next", "next", "next", "error"]))
            after = draw(st.sampled_from(AFTER)) if role != "error" else ()
            links.append(Link(source=source.id, target=name, role=role, label=f"c{place}", after=after))  # type: ignore[arg-type]
    return [*steps, *inside], links


def _step(draw: st.DrawFn, name: str, kind: str, scope: str | None, block: bool) -> Step:
    tries = 0 if block else draw(st.integers(0, 2))
    yields = "same" if block else draw(st.sampled_from(["same", "same", "many", "one"]))
    return Step(
        id=name, kind=kind, scope=scope, per_item=draw(st.booleans()), yields=yields, enabled=draw(st.integers(0, 9)) > 0,  # type: ignore[arg-type]
        on_fault=draw(st.sampled_from(["stop", "continue"])), retry=Retry(attempts=tries) if tries else None,  # type: ignore[arg-type]
    )  # fmt: skip


class Part(NamedTuple):
    """What came of a pass, or of one of its items; how many items it has, and the case that it takes behind a decision."""

    outcome: Outcome
    items: int
    case: str


class ItemByItem:
    """Counts how often each step is executed in so many runs."""

    def __init__(self, drawn: Drawn, runs: int, seed: int) -> None:
        self.random, self.seen = random.Random(seed), runs
        self.steps = {step.id: step for step in drawn.flow.steps}
        self.links: dict[str, list[Link]] = {}
        for link in drawn.flow.links:
            self.links.setdefault(link.source, []).append(link)
        self.failure = {rule.step: float(rule.failure) for rule in drawn.rules if isinstance(rule.failure, float)}
        self.late = {rule.step: float(rule.timeout) for rule in drawn.rules if isinstance(rule.timeout, float)}
        self.items = {rule.step: int(rule.items) for rule in drawn.rules if isinstance(rule.items, float)}
        self.inside: dict[str | None, list[Step]] = {}
        for step in drawn.flow.steps:
            self.inside.setdefault(step.scope, []).append(step)
        self.last = {last for scope in self.inside if scope and (last := self._last_in_line(scope))}
        self.executed = dict.fromkeys(self.steps, 0)
        self.lost, self.out = False, -1
        for _ in range(runs):
            self._arrive("many", 1)

    def mean(self, step: str) -> float:
        """Executions in a run."""
        return self.executed[step] / self.seen

    def _arrive(self, name: str, items: int) -> None:
        """A pass with so many items comes to a step, and what leaves it to the steps behind."""
        step, ways = self.steps[name], self.links.get(name, [])
        step = structs.replace(step, per_item=step.per_item or self._loses_by_item(step))
        each, count = (1, items) if step.per_item else (items, 1)
        tried = [self._attempt(step, each) for _ in range(count)] if step.enabled else []
        parts = [Part(outcome, left, self._choose(step, ways)) for outcome, left in tried]
        self.lost = self.lost or any(not self._takes(step, one.outcome) for one in parts)
        if name in self.last:
            self.out = next(self._passes_on(step, Link(source=name, target=""), items, parts), 0)
        for way in ways:
            for left in self._passes_on(step, way, items, parts):
                self._arrive(way.target, left)

    def _attempt(self, step: Step, items: int) -> tuple[Outcome, int]:
        """One execution after the other until one succeeds; what came of it, and the items that leave it."""
        if step.id in self.inside:
            self.executed[step.id] += 1
            if step.kind == "loop":
                for _ in range(self.items[step.id]):
                    self._go_inside(step.id, 1)
                return "success", items
            lost, out = self._go_inside(step.id, items)
            return ("failure", items) if lost else ("success", out if out >= 0 else items)
        outcome: Outcome = "success"
        for _ in range((step.retry.attempts if step.retry is not None else 0) + 1):
            self.executed[step.id] += 1
            at = self.random.random()
            late = self.late.get(step.id, 0.0)
            outcome = "timeout" if at < late else "failure" if at < late + self.failure.get(step.id, 0.0) else "success"
            if outcome == "success":
                break
        return outcome, items

    def _go_inside(self, scope: str, items: int) -> tuple[bool, int]:
        """Whether a pass of a block is lost in it, and the items that leave it (-1: its ways do not tell)."""
        around = self.lost, self.out
        self.lost, self.out = False, 0 if self._last_in_line(scope) else -1
        self._arrive(self.inside[scope][0].id, items)
        (self.lost, self.out), found = around, (self.lost, self.out)
        return found

    def _loses_by_item(self, step: Step) -> bool:
        """Whether a block loses items one by one: all its steps run once for each."""
        inside = self.inside.get(step.id, [])
        if step.kind == "loop" or not inside or any(not one.per_item or one.yields != "same" for one in inside):
            return False
        failing = [one for one in inside if one.enabled and self.failure.get(one.id)]
        return any(not self._takes(one, "failure") for one in failing)

    def _last_in_line(self, scope: str) -> str:
        """The last step of a block of which each leads to the next whatever comes of it; '' where it does not say how many items leave it."""
        steps = self.inside[scope]
        for step in steps:
            ways = self.links.get(step.id, [])
            fails = step.on_fault == "continue" and (self.failure.get(step.id) or self.late.get(step.id))
            if step.enabled and step.yields == "many" and fails:
                return ""
            if len(ways) > 1 or any(way.after or way.role == "error" or step.kind == "decide" for way in ways):
                return ""
        return steps[-1].id

    def _takes(self, step: Step, outcome: Outcome) -> bool:
        """Whether something takes what comes of a step."""
        ways = self.links.get(step.id, [])
        passed_over = step.on_fault == "continue" and not any(self._is_for_errors(way) for way in ways)
        taken = any(outcome in way.after or (way.role == "error" and not way.after) for way in ways)
        return outcome == "success" or passed_over or taken

    def _choose(self, step: Step, ways: list[Link]) -> str:
        """The case taken behind a decision."""
        cases = self._cases(step, ways)
        return self.random.choice([*cases, ""] if len(cases) == 1 else cases) if cases else ""

    @staticmethod
    def _cases(step: Step, ways: list[Link]) -> list[str]:
        """The steps to which one of several cases leads."""
        return [way.target for way in ways if not way.after or "success" in way.after] if step.kind == "decide" else []

    def _passes_on(self, step: Step, way: Link, items: int, parts: list[Part]) -> Iterator[int]:
        """The passes that a way carries, each as its number of items."""
        plain = not way.after and way.role != "error"
        if not step.enabled:
            yield from [items] if plain else []
            return
        ways = self.links.get(step.id, [])
        on = plain and step.on_fault == "continue" and not any(self._is_for_errors(one) for one in ways)
        failing = {
            one for one in ("failure", "timeout") if on or one in way.after or (way.role == "error" and not way.after)
        }
        is_case = way.target in self._cases(step, ways)
        succeeding = plain or "success" in way.after
        mine = [
            one
            for one in parts
            if (succeeding if one.outcome == "success" else one.outcome in failing)
            and (not is_case or one.case == way.target or (one.outcome != "success" and not plain))
        ]
        if not step.per_item:
            yield from [left for one in mine if (left := self._made(step, one))]
        elif not succeeding:
            yield from [1 for _ in mine]  # each item that fails is a pass of its own
        elif left := sum([self._made(step, one) for one in mine]):  # a pass goes on while it has any item
            yield 1 if step.yields == "one" else left

    @staticmethod
    def _is_for_errors(way: Link) -> bool:
        if not way.after:
            return way.role == "error"
        return "success" not in way.after and bool({"failure", "timeout"} & set(way.after))

    def _made(self, step: Step, part: Part) -> int:
        """The items that become of those of a pass, or of one item."""
        if step.yields == "one":
            return 1
        return part.items * self.items[step.id] if step.yields == "many" and part.outcome == "success" else part.items

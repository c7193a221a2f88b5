"""Branches within branches that carry items, and a reference that goes through them item by item: no arithmetic of ours."""

from __future__ import annotations

import random
from typing import Any, NamedTuple

from hypothesis import strategies as st

from builders import flow, link, step
from zeitbuch.core.assumptions.rules import Rule
from zeitbuch.core.model.records import Flow, JoinMode, Link, Step

Items = frozenset[int]


class Work(NamedTuple):
    """A step: whether it runs once for each item, how often it fails, and whether what fails goes on."""

    per_item: bool
    failure: float
    goes_on: bool


class Fork(NamedTuple):
    """Two branches that part behind a step and meet at another; ``chosen``: each pass takes one of them."""

    chosen: bool
    branches: tuple[Line, Line]
    join: JoinMode | None


class Guard(NamedTuple):
    """A block: what is lost in it is a failure of the pass."""

    inside: Line


Line = tuple[Any, ...]  # of parts

WORK = st.builds(Work, st.booleans(), st.sampled_from([0.0, 0.2, 0.5]), st.booleans())
LINES = st.recursive(
    st.lists(WORK, min_size=1, max_size=2).map(tuple),
    lambda inner: st.lists(
        WORK
        | st.builds(Fork, st.booleans(), st.tuples(inner, inner), st.sampled_from([None, "all", "once"]))
        | st.builds(Guard, inner),
        min_size=1,
        max_size=3,
    ).map(tuple),
    max_leaves=8,
)


class Built:
    """The flow of a line behind a step that makes so many items, and what is assumed of it."""

    def __init__(self, line: Line, items: int) -> None:
        self.rules = [Rule(step="s", items=float(items))]
        self.steps = [step("s", "http", yields="many")]
        self.links: list[Link] = [link("start", "s")]
        last = self._build(line, ["s"], None)
        self._add("z", "http", last, None)

    @property
    def flow(self) -> Flow:
        return flow(self.steps, self.links)

    def _add(self, name: str, kind: str, before: list[str], scope: str | None, **more: Any) -> None:
        self.steps.append(Step(id=name, kind=kind, scope=scope, **more))  # type: ignore[arg-type]
        self.links += [link(one, name) for one in before]

    def _build(self, line: Line, before: list[str], scope: str | None) -> list[str]:
        """Adds the steps of a line behind others; the last of them."""
        for part in line:
            name = f"n{len(self.steps)}"
            if isinstance(part, Work):
                fault = "continue" if part.goes_on else "stop"
                self._add(name, "http", before, scope, per_item=part.per_item, on_fault=fault)
                self.rules.append(Rule(step=name, failure=part.failure))
                before = [name]
            elif isinstance(part, Guard):
                self._add(name, "guard", before, scope)
                self._build(part.inside, [], name)
                before = [name]
            else:
                before = self._build_fork(part, name, before, scope)
        return before

    def _build_fork(self, part: Fork, name: str, before: list[str], scope: str | None) -> list[str]:
        self._add(name, "decide" if part.chosen else "shape", before, scope)
        ends: list[str] = []
        for branch in part.branches:
            first = len(self.links)
            ends += self._build(branch, [name], scope)
            if part.chosen:  # the first link of the branch is its case
                at = next(i for i in range(first, len(self.links)) if self.links[i].source == name)
                self.links[at] = link(name, self.links[at].target, "case", self.links[at].target)
        join = f"n{len(self.steps)}"
        self._add(join, "shape", ends, scope, join=part.join)
        return [join]


class Runs:
    """Goes through runs of a line; how often what is behind it runs in each."""

    def __init__(self, line: Line, items: int, rng: random.Random) -> None:
        self.line, self.items, self.rng, self.lost = line, items, rng, False

    def run(self) -> int:
        """1 where the pass comes through with any item, else 0."""
        return int(bool(self._through(self.line, frozenset(range(self.items)))))

    def _through(self, line: Line, items: Items) -> Items:
        """The items that are left of a pass, none where it is lost."""
        for part in line:
            if not items:
                return items
            if isinstance(part, Work):
                items = self._work(part, items)
            elif isinstance(part, Fork):
                items = self._fork(part, items)
            else:
                items = self._guard(part, items)
        return items

    def _work(self, work: Work, items: Items) -> Items:
        if work.goes_on:
            return items
        if work.per_item:
            left = frozenset(one for one in items if self.rng.random() >= work.failure)
        else:
            left = items if self.rng.random() >= work.failure else frozenset()
        self.lost = self.lost or len(left) < len(items)
        return left

    def _fork(self, fork: Fork, items: Items) -> Items:
        if fork.chosen:
            branch = fork.branches[self.rng.random() < 0.5]
            left = self._through(branch, items)
            return left if fork.join != "all" else frozenset()  # of two cases only one ever comes
        first, second = [self._through(branch, items) for branch in fork.branches]
        return first | second if fork.join == "once" else first & second

    def _guard(self, guard: Guard, items: Items) -> Items:
        if self._loses_items(guard):
            return self._by_item(guard, items)
        around, self.lost = self.lost, False
        self._through(guard.inside, items)
        gone, self.lost = self.lost, around
        self.lost = self.lost or gone
        return frozenset() if gone else items

    def _loses_items(self, guard: Guard) -> bool:
        """Whether all in a block runs once for each item, so that it loses them one by one."""
        inside = guard.inside
        every = all(
            (isinstance(one, Work) and one.per_item) or (isinstance(one, Guard) and self._loses_items(one))
            for one in inside
        )
        return every and any(isinstance(one, Guard) or (one.failure and not one.goes_on) for one in inside)

    def _by_item(self, guard: Guard, items: Items) -> Items:
        left = frozenset(one for one in items if self._through(guard.inside, frozenset([one])))
        self.lost = self.lost or len(left) < len(items)
        return left

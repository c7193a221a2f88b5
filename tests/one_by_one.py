"""Runs of a flow gone through one by one, as its rules say: no arithmetic of ours. For flows in which no branches meet, nothing goes back, no
step runs out of time, and none has items."""

from __future__ import annotations

import random
from typing import Literal

from any_shape import Drawn
from zeitbuch.core.model.outcomes import case_name, is_case
from zeitbuch.core.model.records import Link, Step

Outcome = Literal["success", "failure", "ended", "none"]


class OneByOne:
    """Counts how often each step is executed in so many runs."""

    def __init__(self, drawn: Drawn, runs: int, seed: int) -> None:
        self.drawn, self.random = drawn, random.Random(seed)
        self.failure = {rule.step: float(rule.failure) for rule in drawn.rules if isinstance(rule.failure, float)}
        self.items = {rule.step: rule.items for rule in drawn.rules if isinstance(rule.items, float)}
        self.steps: dict[str | None, list[Step]] = {}
        for step in drawn.flow.steps:
            self.steps.setdefault(step.scope, []).append(step)
        ids = {step.id for step in drawn.flow.steps}
        self.into = {link.target: link for link in drawn.flow.links if link.source in ids}
        self.begun = {link.target for link in drawn.flow.links if link.source not in ids}
        self.out: dict[str, list[Link]] = {}
        for link in drawn.flow.links:
            self.out.setdefault(link.source, []).append(link)
        self.executed = dict.fromkeys(ids, 0)
        self.seen = 0
        for self.seen in range(1, runs + 1):
            self._go_through(None)

    def mean(self, step: str) -> float:
        """Executions in a run."""
        return self.executed[step] / self.seen

    def _go_through(self, scope: str | None) -> Outcome:
        """One pass of a level; what comes of the scope around it."""
        outcomes: dict[str, Outcome] = {}
        taken: dict[str, set[str]] = {}  # the cases taken behind each step with outcomes
        found: set[Outcome] = set()
        for step in self._in_order(scope):
            link = self.into.get(step.id)
            begins = scope is not None or step.id in self.begun
            arrives = begins if link is None else self._leads(link, outcomes[link.source], taken)
            outcomes[step.id] = self._execute(step) if arrives and step.enabled else "success" if arrives else "none"
            taken[step.id] = self._draw_cases(step)
            if outcomes[step.id] == "failure" and not self._is_kept(step):
                found.add("failure")
            if outcomes[step.id] == "ended" or (
                step.kind == "end" and step.ends == "run" and step.enabled and outcomes[step.id] == "success"
            ):
                found.add("ended")
        return "ended" if "ended" in found else "failure" if "failure" in found else "success"

    def _in_order(self, scope: str | None) -> list[Step]:
        waiting, ordered = list(self.steps.get(scope, [])), []
        while waiting:
            done = {step.id for step in ordered}
            ready = [step for step in waiting if step.id not in self.into or self.into[step.id].source in done]
            ordered += ready
            waiting = [step for step in waiting if step not in ready]
        return ordered

    def _execute(self, step: Step) -> Outcome:
        """Tries a step until it succeeds; what is in it is gone through each time."""
        tries = (step.retry.attempts if step.retry is not None else 0) + 1
        stops = step.repeat is not None and step.repeat.on_item_fault == "stop"
        if step.kind == "loop" and step.id in self.steps and not stops:
            self.executed[step.id] += 1
            whole = int(self.items[step.id])
            more = self.random.random() < self.items[step.id] - whole
            rounds = [self._go_through(step.id) for _ in range(whole + more)]
            return "ended" if "ended" in rounds else "success"
        for _ in range(tries):
            self.executed[step.id] += 1
            found = self._rounds(step) if stops else self._go_through(step.id) if step.id in self.steps else "success"
            if self.random.random() < self.failure.get(step.id, 0.0):
                found = "failure"
            if found != "failure":
                return found
        return "failure"

    def _rounds(self, loop: Step) -> Outcome:
        """The rounds of a loop that ends at the first that is lost; those that run beside it have begun by then. What comes of it is what came of
        the first."""
        whole = int(self.items[loop.id])
        more = self.random.random() < self.items[loop.id] - whole
        found: list[Outcome] = []
        for number in range(whole + more if loop.id in self.steps else 0):
            if set(found[: max(0, number + 1 - (loop.concurrency or 1))]) <= {"success"}:
                found.append(self._go_through(loop.id))
        return next((one for one in found if one != "success"), "success")

    def _goes_on(self, step: Step) -> bool:
        """Whether failures of a step are passed over."""
        takes = any(
            "success" not in link.after and {"failure", "timeout"} & set(link.after)
            if link.after
            else link.role == "error"
            for link in self.out.get(step.id, ())
        )
        return step.on_fault == "continue" and not takes

    def _is_kept(self, step: Step) -> bool:
        """Whether something takes the failures of a step."""
        ways = self.out.get(step.id, ())
        return self._goes_on(step) or any(
            "failure" in link.after or (link.role == "error" and not link.after) for link in ways
        )

    def _cases(self, step: Step) -> list[Link]:
        """The ways of which one is taken after success."""
        links = [link for link in self.out.get(step.id, ()) if is_case(link, step.kind)]
        decides = step.enabled and (step.kind == "decide" or any(link.role == "case" for link in links))
        return (
            [link for link in links if not link.after or "success" in link.after]
            if decides and step.kind not in ("parallel", "join", "note")
            else []
        )

    def _draw_cases(self, step: Step) -> set[str]:
        names = list(dict.fromkeys(case_name(link) for link in self._cases(step)))
        if step.inclusive:
            return {name for name in names if self.random.random() < 0.5}
        drawn = self.random.choice([*names, ""] if len(names) == 1 else names) if names else ""
        return {drawn}

    def _leads(self, link: Link, outcome: Outcome, taken: dict[str, set[str]]) -> bool:
        """Whether a link is taken after an outcome of its source."""
        source = next(step for step in self.drawn.flow.steps if step.id == link.source)
        plain = not link.after and link.role != "error"
        chosen = link not in self._cases(source) or case_name(link) in taken[source.id]
        if not source.enabled:  # passed by, and skipped whenever it has its turn
            return (plain and outcome == "success") or "skip" in link.after
        if outcome == "success":
            return (plain or "success" in link.after) and chosen
        if outcome == "failure":
            if plain:
                return self._goes_on(source) and chosen
            return "failure" in link.after or (link.role == "error" and not link.after)
        return outcome == "none" and "skip" in link.after

# How often each step runs in one run: the exact expectation. Levels of scopes are computed from the outside in;
# cycles are iterated, each iteration allowing one more round, up to the cap.
"""Passes: expected executions of every step in one run."""

from __future__ import annotations

from msgspec import Struct

from .assume import CYCLE_ROUNDS, DEFAULTS, TURNS_HIGH, TURNS_LIKELY, TURNS_LOW, Book, Evidence, Value, weaker
from .model import JoinMode, Step
from .topology import Edge, Graph, Level

NOT_TOOLS = frozenset({"model", "memory", "parse"})


Ends = dict[str, list[tuple[int, Edge]]]  # step -> its edges with their index in the level


class Pass(Struct, frozen=True):
    """``arrivals``: times the step is reached; ``runs``: times it is executed, repetitions after failures
    included; ``turns`` and ``turns2``: mean of K and of K squared for agents."""

    arrivals: float
    runs: float
    evidence: Evidence
    turns: float = 1.0
    turns2: float = 1.0


class _Flowing(Struct):
    """What moves along one edge, with its evidence."""

    amount: float
    evidence: Evidence


class _Outcome(Struct):
    onward: float
    failed: float
    evidence: Evidence


def turns_of(step: Step, book: Book, tools: int) -> tuple[Value, float]:
    """Mean of an agent's turns with its evidence, and the mean of their square.

    Without a declared value: low 1, likely 3, high the step's own cap (or 10), as a PERT distribution with
    mean (low + 4 likely + high) / 6 and standard deviation (high - low) / 6.
    """
    found = book.find("turns", (step.id, step.name))
    if found is not None:
        return found, found.amount**2
    if not tools:
        return Value(1.0, "read", "an agent without tools answers at once"), 1.0
    cap = step.model.max_turns if step.model is not None else None
    high = float(cap) if cap else TURNS_HIGH
    low, likely = min(TURNS_LOW, high), min(TURNS_LIKELY, high)
    mean = (low + 4 * likely + high) / 6
    spread = (high - low) / 6
    return Value(mean, "default", f"default: {low:g} to {high:g} turns, likely {likely:g}"), mean**2 + spread**2


class Passes:
    """Computes and holds the passes of all steps of a flow."""

    def __init__(self, graph: Graph, book: Book) -> None:
        self.graph = graph
        self.book = book
        self.of: dict[str, Pass] = {}
        self.capped: list[str] = []
        self.notes: list[str] = []
        self._shares: dict[str, dict[int, Value]] = {}
        self._ancestors: dict[str | None, dict[str, frozenset[str]]] = {}
        self._position: dict[str | None, dict[str, int]] = {}
        self._edges: dict[str | None, tuple[Ends, Ends]] = {}
        self._onward: dict[str, float] = {}
        self._parts: dict[str | None, dict[str, str]] = {}
        self._level(None, _Flowing(1.0, "read"))

    # -- one level ---------------------------------------------------------------------------------------------

    def _level(self, scope: str | None, arriving: _Flowing) -> _Outcome:
        """Runs a level; returns what it loses by failures that nothing handles."""
        level = self.graph.levels.get(scope)
        if level is None:
            return _Outcome(arriving.amount, 0.0, arriving.evidence)
        self._prepare(level)
        starts = self._starts(level, arriving)
        flows: dict[int, _Flowing] = {}
        has_back = any(e.back for e in level.edges)
        rounds = CYCLE_ROUNDS if has_back else 1
        lost: list[_Flowing] = []
        before = -1.0
        for turn in range(rounds):
            lost = self._sweep(level, starts, flows)
            total = sum(f.amount for f in flows.values())
            if abs(total - before) <= 1e-13 * max(1.0, total):
                break
            before = total
            if has_back and turn == rounds - 1:
                names = ", ".join(s.title for s in level.steps if any(e.back and e.target == s.id for e in level.edges))
                self.capped.append(names)
        # Branches that do not touch each other fail independently: what survives is the product.
        survives = 1.0
        for part in lost:
            survives *= 1 - min(1.0, part.amount / arriving.amount) if arriving.amount else 1.0
        evidence = weaker(arriving.evidence, *(part.evidence for part in lost))
        return _Outcome(arriving.amount * survives, arriving.amount * (1 - survives), evidence)

    def _starts(self, level: Level, arriving: _Flowing) -> dict[str, _Flowing]:
        """What arrives at the steps of a level from outside it."""
        triggers = self.graph.triggers
        if level.scope is None:
            led = [e for e in level.edges if e.source in triggers]
            if led:
                active = {t for t in triggers if triggers[t].enabled and any(e.source == t for e in led)} or {
                    e.source for e in led
                }
                # Which trigger started the run is evidence of its own; without it all are alike.
                evidence: Evidence = "read" if len(active) == 1 else "default"
                starts: dict[str, _Flowing] = {}
                for edge in led:
                    if edge.source in active:
                        had = starts.get(edge.target, _Flowing(0.0, "read"))
                        starts[edge.target] = _Flowing(had.amount + arriving.amount / len(active), evidence)
                return {
                    k: _Flowing(v.amount, "read" if v.amount == arriving.amount else v.evidence)
                    for k, v in starts.items()
                }
        return {s.id: arriving for s in level.entries()}

    def _sweep(self, level: Level, starts: dict[str, _Flowing], flows: dict[int, _Flowing]) -> list[_Flowing]:
        """One pass in order over the level; ``flows`` holds what moves along each edge, by its index.

        Returns the passes lost in each connected part of the level.
        """
        lost: dict[str, _Flowing] = {}
        part_of = self._parts[level.scope]
        incoming_of, outgoing_of = self._edges[level.scope]
        for step in level.steps:
            incoming, outgoing = incoming_of.get(step.id, []), outgoing_of.get(step.id, [])
            arriving = self._join(level, step, incoming, starts.get(step.id), flows)
            done = self._run(step, arriving)
            leaves = self._leave(level, step, outgoing, done)
            for i, flowing in leaves.items():
                flows[i] = flowing
            handled = any(self._is_error(e) for _, e in outgoing)
            if done.failed and not handled and step.on_fault != "continue":
                had = lost.get(part_of[step.id], _Flowing(0.0, "read"))
                lost[part_of[step.id]] = _Flowing(had.amount + done.failed, weaker(had.evidence, done.evidence))
        return list(lost.values())

    @staticmethod
    def _is_error(edge: Edge) -> bool:
        link = edge.link
        return link.role == "error" or (bool(link.after) and "success" not in link.after and "failure" in link.after)

    # -- joins -------------------------------------------------------------------------------------------------

    def _prepare(self, level: Level) -> None:
        if level.scope in self._ancestors:
            return
        ancestors: dict[str, frozenset[str]] = {}
        forward: dict[str, list[str]] = {}
        for e in level.edges:
            if not e.back:
                forward.setdefault(e.target, []).append(e.source)
        for step in level.steps:
            own = {step.id}
            for source in forward.get(step.id, []):
                own |= ancestors.get(source, frozenset({source}))
            ancestors[step.id] = frozenset(own)
        part = {s.id: s.id for s in level.steps}
        for e in level.edges:
            if e.source in part and part[e.source] != part[e.target]:
                old, new = part[e.target], part[e.source]
                part = {k: new if v == old else v for k, v in part.items()}
        self._parts[level.scope] = part
        incoming: Ends = {}
        outgoing: Ends = {}
        for i, e in enumerate(level.edges):
            if e.source not in self.graph.triggers:
                incoming.setdefault(e.target, []).append((i, e))
                outgoing.setdefault(e.source, []).append((i, e))
        self._edges[level.scope] = (incoming, outgoing)
        self._ancestors[level.scope] = ancestors
        self._position[level.scope] = {s.id: i for i, s in enumerate(level.steps)}

    def _join(
        self,
        level: Level,
        step: Step,
        incoming: list[tuple[int, Edge]],
        start: _Flowing | None,
        flows: dict[int, _Flowing],
    ) -> _Flowing:
        parts = [(flows[i], e) for i, e in incoming if i in flows and not e.back]
        back = [flows[i] for i, e in incoming if i in flows and e.back]
        if step.join is not None:
            amounts = [f.amount for f, _ in parts] + ([start.amount] if start else [])
            joined = combine(amounts, step.join)
            evidence = weaker(*(f.evidence for f, _ in parts), *([start.evidence] if start else []))
        else:
            joined, evidence = self._natural(level, parts)
            if start is not None:
                joined += start.amount
                evidence = weaker(evidence, start.evidence)
        for f in back:
            joined += f.amount
            if f.amount:
                evidence = weaker(evidence, f.evidence)
        return _Flowing(joined, evidence)

    def _natural(self, level: Level, parts: list[tuple[_Flowing, Edge]]) -> tuple[float, Evidence]:
        """Joins by structure: branches of one split wait for each other, alternatives add up.

        The pair of edges that parted last is joined first. Branches that lose passes on the way meet with the
        product of their shares: their losses are taken as independent.
        """
        if not parts:
            return 0.0, "read"
        live = [p for p in parts if p[0].amount > 0]
        evidence = weaker(*(f.evidence for f, _ in live)) if live else "read"
        ancestors, position = self._ancestors[level.scope], self._position[level.scope]
        groups = [(f.amount, ancestors.get(e.source, frozenset({e.source})), [e]) for f, e in parts]
        while len(groups) > 1:
            best: tuple[int, int, int, str | None] | None = None
            for a in range(len(groups)):
                for b in range(a + 1, len(groups)):
                    common = groups[a][1] & groups[b][1]
                    at = max((position.get(c, -1) for c in common), default=-2)
                    split = level.steps[at].id if at >= 0 else None
                    if best is None or at > best[0]:
                        best = (at, a, b, split)
            assert best is not None
            _, a, b, split = best
            first, second = groups[a], groups[b]
            if split is not None and self._waits(level, split, first[2] + second[2]):
                base = self._onward[split]
                amount = min(first[0], second[0])
                if base > 0 and max(first[0], second[0]) <= base:
                    amount = first[0] * second[0] / base
            else:
                amount = first[0] + second[0]
            merged = (amount, first[1] & second[1], first[2] + second[2])
            groups = [g for i, g in enumerate(groups) if i not in (a, b)] + [merged]
        return groups[0][0], evidence

    def _waits(self, level: Level, split: str, edges: list[Edge]) -> bool:
        """Whether edges that parted at ``split`` run side by side (and not one instead of the other)."""
        step = self.graph.steps[split]
        ancestors = self._ancestors[level.scope]
        ways: list[Edge] = []
        for edge in edges:
            for _, out in self._edges[level.scope][1].get(split, []):
                if not out.back and (out is edge or out.target in ancestors.get(edge.source, frozenset())):
                    ways.append(out)
        if any(self._is_error(w) for w in ways):
            return False
        if step.kind == "decide":
            return step.inclusive
        return True

    # -- one step ----------------------------------------------------------------------------------------------

    def _run(self, step: Step, arriving: _Flowing) -> _Outcome:
        """Executes a step: attempts, what is inside it, what is attached to it."""
        a = arriving.amount
        if not step.enabled:
            self.of[step.id] = Pass(a, 0.0, arriving.evidence)
            return _Outcome(a, 0.0, arriving.evidence)
        failure = self.book.of_step("failure", step, DEFAULTS["failure"])
        tries = step.retry.attempts if step.retry is not None else 0
        f = failure.amount
        attempts = a * (1 - f ** (tries + 1)) / (1 - f) if f < 1 else a * (tries + 1)
        failed = a * f ** (tries + 1)
        evidence = arriving.evidence if not f else weaker(arriving.evidence, failure.evidence)
        turns, turns2 = 1.0, 1.0
        if step.kind == "agent":
            evidence, turns, turns2 = self._agent(step, attempts, evidence)
        self.of[step.id] = Pass(a, attempts, evidence, turns, turns2)
        if step.id in self.graph.levels:
            inside = self._scope(step, _Flowing(attempts, evidence))
            failed = min(a, failed + inside.failed)
            evidence = weaker(evidence, inside.evidence) if inside.failed else evidence
        return _Outcome(max(0.0, a - failed), failed, evidence)

    def _scope(self, step: Step, arriving: _Flowing) -> _Outcome:
        """What a scope hands on: a loop goes on when one item fails, other scopes fail with their contents."""
        if step.kind == "loop":
            items = self._items(step)
            self._level(step.id, _Flowing(arriving.amount * items.amount, weaker(arriving.evidence, items.evidence)))
            return _Outcome(arriving.amount, 0.0, arriving.evidence)
        return self._level(step.id, arriving)

    def _items(self, step: Step) -> Value:
        repeat = step.repeat
        if repeat is not None and repeat.until and not repeat.items:
            value = self.book.of_step("rounds", step)
            if repeat.cap is not None and value.amount > repeat.cap:
                return Value(float(repeat.cap), "read", "the loop's own cap")
            return value
        found = self.book.find("items", (step.id, step.name))
        if found is not None:
            return found
        if repeat is not None and repeat.count is not None:
            return Value(float(repeat.count), "read", "listed in the export")
        return self.book.of_step("items", step)

    def _agent(self, step: Step, attempts: float, evidence: Evidence) -> tuple[Evidence, float, float]:
        helpers = self.graph.attached.get(step.id, [])
        tools = [h for h in helpers if h.kind not in NOT_TOOLS and h.enabled]
        turns, turns2 = turns_of(step, self.book, len(tools))
        evidence = weaker(evidence, turns.evidence)
        for helper in helpers:
            if helper.kind in NOT_TOOLS:
                share = attempts if helper.kind == "memory" else 0.0
                self.of[helper.id] = Pass(attempts, share, evidence)
            elif helper in tools:
                self._run(helper, _Flowing(attempts * (turns.amount - 1) / len(tools), evidence))
            else:
                self.of[helper.id] = Pass(0.0, 0.0, evidence)
        return evidence, turns.amount, turns2

    # -- leaving a step ----------------------------------------------------------------------------------------

    def _leave(self, level: Level, step: Step, outgoing: list[tuple[int, Edge]], done: _Outcome) -> dict[int, _Flowing]:
        leaves: dict[int, _Flowing] = {}
        errors = [(i, e) for i, e in outgoing if self._is_error(e)]
        others = [(i, e) for i, e in outgoing if not self._is_error(e)]
        for i, _ in errors:
            leaves[i] = _Flowing(done.failed, done.evidence)
        onward = done.onward
        if step.on_fault == "continue" and not errors:
            onward += done.failed
        self._onward[step.id] = onward
        if step.kind == "decide" and step.enabled:
            shares = self._shares_of(step, others)
            for i, _ in others:
                share = shares[i]
                leaves[i] = _Flowing(onward * share.amount, weaker(done.evidence, share.evidence))
        else:
            for i, e in others:
                always = "failure" in e.link.after
                leaves[i] = _Flowing(onward + (done.failed if always else 0.0), done.evidence)
        return leaves

    def _shares_of(self, step: Step, outgoing: list[tuple[int, Edge]]) -> dict[int, Value]:
        """Probability of each case. What no assumption names shares the rest equally."""
        known = self._shares.get(step.id)
        if known is not None:
            return known
        found: dict[int, Value] = {}
        for i, e in outgoing:
            value = self.book.find("share", (step.id, step.name), (e.link.label, e.link.condition, e.target))
            if value is not None:
                found[i] = value
        missing = [i for i, _ in outgoing if i not in found]
        given = sum(v.amount for v in found.values())
        if step.inclusive:
            for i in missing:
                found[i] = Value(0.5, "default", "default: every second time")
        else:
            if given > 1 + 1e-9:
                self.notes.append(f"the shares of the cases of '{step.title}' sum to {given:g}; they are scaled to 1")
                found = {i: Value(v.amount / given, v.evidence, v.why) for i, v in found.items()}
                given = 1.0
            # A decision with a single way out also has the way of doing nothing.
            ways = len(missing) + (1 if len(outgoing) == 1 else 0)
            rest: Evidence = weaker(*(v.evidence for v in found.values())) if len(missing) == 1 and found else "default"
            for i in missing:
                found[i] = Value(max(0.0, 1 - given) / ways, rest, "what the other cases leave, in equal parts")
        self._shares[step.id] = found
        return found


def combine(amounts: list[float], mode: JoinMode) -> float:
    """Arrivals of a join: ``each`` sum, ``all`` minimum, ``once`` maximum of the incoming passes."""
    if not amounts:
        return 0.0
    if mode == "each":
        return sum(amounts)
    return min(amounts) if mode == "all" else max(amounts)

# How often each step runs in each of R sampled runs: counts in arrays, one pass over the plan for all runs at once. The
# rules are those of the exact passes, with draws instead of expectations and the true minimum and maximum at joins.
"""Sampled passes: executions of every step in many runs."""

from __future__ import annotations

import numpy as np
from msgspec import Struct

from zeitbuch.core.assumptions.quantities import CYCLE_ROUNDS, MOST_PASSES
from zeitbuch.core.assumptions.rules import Value
from zeitbuch.core.model.records import Step

from .plan import Node, Plan, Stage, Tie, Way
from .random_draws import Draws, Floats, Ints, summed


class Tally(Struct):
    """Arrays over the runs: how often a step was reached and executed; an agent's turns, drawn once for each run."""

    arrivals: Ints
    runs: Ints
    turns: Floats | None = None


class Load(Struct):
    """What moves along an edge in each run: passes, and items with them where the flow counts items. ``single`` says
    that no run has more than one pass there."""

    passes: Ints
    items: Ints
    single: bool


class _Left(Struct):
    """What leaves a step in each run."""

    load: Load
    failed: Ints | None
    late: Ints | None
    skipped: Ints | None = None
    over: Ints | None = None  # passes that end the run


def _sum(a: Ints | None, b: Ints | None) -> Ints | None:
    if a is None or b is None:
        return b if a is None else a
    return a + b


class _Gone(Struct):
    """Passes that do not come out of a level, by its parts: all, those out of time, those that end the run."""

    all: list[Ints | None]
    late: list[Ints | None]
    over: list[Ints | None]

    def add(self, part: int, failed: Ints | None, late: Ints | None, over: Ints | None) -> None:
        for more in (failed, late, over):
            self.all[part] = _sum(self.all[part], more)
        self.late[part] = _sum(self.late[part], late)
        self.over[part] = _sum(self.over[part], over)


def _total(parts: list[Ints | None], zero: Ints) -> Ints:
    return sum((p for p in parts if p is not None), zero)


class Sample:
    """Draws and holds the passes of all steps of a plan."""

    def __init__(self, plan: Plan, runs: int, seed: int, entry: dict[str, tuple[Value, float]] | None = None) -> None:
        self.plan = plan
        self.draws = Draws(runs, seed)
        self.runs = runs
        self.zero: Ints = np.zeros(runs, np.int64)
        self.one: Ints = np.ones(runs, np.int64)
        self.of: dict[str, Tally] = {}
        self.texts: dict[str, Floats] = {}  # sizes drawn for these runs, by what they are the size of
        self.itemised = plan.itemised
        self._stage(plan.top, Load(self.one, self.one, True), self._entries(entry))

    def _entries(self, entry: dict[str, tuple[Value, float]] | None) -> dict[int, Load] | None:
        starts = self.plan.starts
        if not starts:
            return None
        weights = [
            entry[text][0].amount if entry is not None and text in entry else 1 / len(starts) for text, _ in starts
        ]
        edges = np.cumsum(weights)
        edges[-1] = 1.0
        chosen = (
            np.searchsorted(edges, self.draws.rng.random(self.runs), side="right") if len(starts) > 1 else self.zero
        )
        found: dict[int, Load] = {}
        for place, (trigger, targets) in enumerate(starts):
            begun = (chosen == place).astype(np.int64) if len(starts) > 1 else self.one
            items = begun
            if self.itemised and entry is not None and trigger in entry:
                items = self.draws.whole(begun * entry[trigger][1])
            for target in targets:
                had = found.get(target)
                load = Load(begun, items, True)
                found[target] = load if had is None else Load(had.passes + begun, had.items + items, True)
        return found

    # -- one level ---------------------------------------------------------------------------------------------

    def _stage(self, stage: Stage, arriving: Load, starts: dict[int, Load] | None = None) -> _Left:
        if starts is None:
            starts = dict.fromkeys(stage.entries, arriving)
        lost = _Gone([None] * stage.parts, [None] * stage.parts, [None] * stage.parts)
        edges: list[Load | None] = [None] * len(stage.edges)
        if not stage.cyclic:
            self._sweep(stage, starts, edges, lost)
        else:
            self._cycle(stage, starts, edges, lost)
        return self._outcome(arriving, lost)

    def _cycle(self, stage: Stage, starts: dict[int, Load], edges: list[Load | None], lost: _Gone) -> None:
        """Round after round: what a back edge brings starts the next round, until nothing is left or the cap is hit."""
        back = [way.edge for node in stage.nodes for way in node.ways if way.back]
        at_of = {node.step.id: place for place, node in enumerate(stage.nodes)}
        for _ in range(CYCLE_ROUNDS):
            for index in range(len(edges)):
                edges[index] = None
            self._sweep(stage, starts, edges, lost)
            starts = {}
            for index in back:
                load = edges[index]
                if load is not None and load.passes.any():
                    place = at_of[stage.edges[index].target]
                    had = starts.get(place)
                    starts[place] = (
                        load if had is None else Load(had.passes + load.passes, had.items + load.items, False)
                    )
            if not starts:
                return

    def _outcome(self, arriving: Load, lost: _Gone) -> _Left:
        """What survives a level: the least of its connected parts, which have to end all."""
        through = arriving.passes
        for part in lost.all:
            if part is not None:
                through = np.minimum(through, np.maximum(arriving.passes - part, 0))
        if through is arriving.passes:
            return _Left(arriving, None, None)
        gone = arriving.passes - through
        whole = np.maximum(sum((p for p in lost.all if p is not None), self.zero), 1)
        over = self._share(gone, lost.over, whole)
        late = self._share(
            gone if over is None else gone - over,
            lost.late,
            whole if over is None else np.maximum(whole - _total(lost.over, self.zero), 1),
        )
        failed = gone
        for part in (over, late):
            failed = failed if part is None else failed - part
        return _Left(Load(through, through, arriving.single), np.maximum(failed, 0), late, None, over)

    def _share(self, gone: Ints, parts: list[Ints | None], whole: Ints) -> Ints | None:
        """Of what is gone, that which went one way."""
        some = _total(parts, self.zero)
        if not some.any():
            return None
        return np.minimum(self.draws.whole(gone * (some / whole)), gone)

    def _sweep(self, stage: Stage, starts: dict[int, Load], edges: list[Load | None], lost: _Gone) -> None:
        ended: dict[str, Ints] = {}
        for place, node in enumerate(stage.nodes):
            arriving = self._join(stage, node, starts.get(place), edges)
            if arriving is None and not stage.skips:
                self._note(node, self.zero, self.zero)
                continue
            arriving = arriving or Load(self.zero, self.zero, True)
            left = self._run(node, arriving)
            if stage.skips:
                turn = arriving.passes
                for index in _sources(node.incoming):
                    turn = np.maximum(turn, ended.get(stage.edges[index].source, self.zero))
                ended[node.step.id] = turn
                left.skipped = turn - arriving.passes if node.enabled else turn
            self._leave(node, left, edges)
            over = left.over
            if node.step.kind == "end" and node.step.ends == "run" and node.enabled:
                over = _sum(over, left.load.passes)
            lost.add(
                node.part,
                None if node.keeps_failures else left.failed,
                None if node.keeps_timeouts else left.late,
                over,
            )

    # -- joins -------------------------------------------------------------------------------------------------

    def _join(self, stage: Stage, node: Node, start: Load | None, edges: list[Load | None]) -> Load | None:
        met = self._tie(node.incoming, edges) if node.incoming is not None else None
        if start is None:
            return met
        if met is None:
            return (
                start
                if node.incoming is None or node.start_mode != "all" or stage.cyclic
                else Load(self.zero, self.zero, True)
            )
        if stage.cyclic and node.backs:
            return Load(met.passes + start.passes, met.items + start.items, False)
        return self._combined(node.start_mode, met, start, False)

    def _tie(self, tie: Tie | int, edges: list[Load | None]) -> Load | None:
        if isinstance(tie, int):
            return edges[tie]
        first, second = self._tie(tie.left, edges), self._tie(tie.right, edges)
        if first is None or second is None:
            if tie.mode == "all":
                return None
            return first if second is None else second
        return self._combined(tie.mode, first, second, tie.how == "instead")

    @staticmethod
    def _combined(mode: str, a: Load, b: Load, instead: bool) -> Load:
        if mode == "each":
            return Load(a.passes + b.passes, a.items + b.items, a.single and b.single and instead)
        pick = np.minimum if mode == "all" else np.maximum
        return Load(pick(a.passes, b.passes), pick(a.items, b.items), a.single and b.single)

    # -- one step ----------------------------------------------------------------------------------------------

    def _note(self, node: Node, arrivals: Ints, runs: Ints, turns: Floats | None = None) -> None:
        had = self.of.get(node.step.id)
        if had is None:
            self.of[node.step.id] = Tally(arrivals, runs, turns)
        elif runs is not self.zero or arrivals is not self.zero:
            self.of[node.step.id] = Tally(
                had.arrivals + arrivals, had.runs + runs, had.turns if turns is None else turns
            )

    def _run(self, node: Node, arriving: Load) -> _Left:
        step = node.step
        if not node.enabled:
            self._note(node, arriving.passes, self.zero)
            return _Left(arriving, None, None)
        turns = arriving.items if step.per_item and self.itemised else arriving.passes
        attempts, failed, late = self._attempts(node, turns, arriving.single and turns is arriving.passes)
        drawn: Floats | None = None
        over: Ints | None = None
        if node.turns is not None:
            drawn = self._agent(node, attempts)
        self._note(node, arriving.passes, attempts, drawn)
        if node.inner is not None:
            once = turns if attempts is turns else None
            failed, late, over = self._inside(node, arriving, attempts, once, failed, late)
        gone = _sum(_sum(failed, late), over)
        passes, items = arriving.passes, arriving.items
        if gone is not None:
            if step.per_item and self.itemised:
                items = np.maximum(items - gone, 0)
            else:
                passes = np.maximum(passes - gone, 0)
                items = self._kept(arriving, passes)
        if self.itemised:
            items = self._yielded(node, passes, items)
        return _Left(Load(passes, items, arriving.single), failed, late, None, over)

    def _kept(self, arriving: Load, passes: Ints) -> Ints:
        """The items of the passes that are left."""
        if arriving.items is arriving.passes or not self.itemised:
            return passes
        return self.draws.whole(arriving.items * (passes / np.maximum(arriving.passes, 1)))

    def _yielded(self, node: Node, passes: Ints, items: Ints) -> Ints:
        if node.step.yields == "one":
            return passes
        if node.step.yields == "many" and node.items is not None:
            return self._times(items, node.items)
        return items

    def _times(self, counts: Ints, items: Value) -> Ints:
        """The sum of as many draws of a number as there are counts, in whole numbers."""
        if items.ranged:
            return self.draws.whole(summed(counts, items.amount, self.draws.pert(items)))
        if items.amount == int(items.amount) and float(counts.max()) * items.amount < MOST_PASSES:
            return counts * int(items.amount)
        return self.draws.whole(counts * items.amount)

    def _attempts(self, node: Node, turns: Ints, single: bool) -> tuple[Ints, Ints | None, Ints | None]:
        if not node.failure.amount and not node.timeout.amount:
            return turns, None, None
        fails, late = self.draws.chance(node.failure), self.draws.chance(node.timeout)
        wrong = np.minimum(fails + late, 1.0) if not isinstance(fails + late, float) else min(1.0, fails + late)
        left, attempts = turns, turns
        for place in range(node.tries + 1):
            if place:
                attempts = attempts + left
            left = self.draws.some(left, wrong, single)
        if not node.timeout.amount:
            return attempts, left, None
        out_of_time = self.draws.some(left, late / np.maximum(wrong, 1e-300), single)
        return attempts, left - out_of_time, out_of_time

    def _inside(
        self, node: Node, arriving: Load, attempts: Ints, once: Ints | None, failed: Ints | None, late: Ints | None
    ) -> tuple[Ints | None, Ints | None, Ints | None]:
        """What fails, runs out of time and ends the run, with what happens inside a scope."""
        assert node.inner is not None
        single = arriving.single and once is not None
        if node.repeats:
            assert node.items is not None
            rounds = self._until(node, attempts) if node.repeats == "until" else self._times(attempts, node.items)
            inside = self._stage(node.inner, Load(rounds, rounds, False))
            return failed, late, self._ended_in_loop(arriving, rounds, inside.over, single)
        inside = self._stage(node.inner, Load(attempts, attempts, single))
        parts = [inside.failed, inside.late, inside.over]
        if once is None:
            # Only the last attempt of a pass counts for what goes on.
            gone = _sum(failed, late)
            whole = arriving.passes if gone is None else arriving.passes - gone
            part = whole / np.maximum(attempts, 1)
            parts = [None if p is None else self.draws.whole(p * part) for p in parts]
        return _sum(failed, parts[0]), _sum(late, parts[1]), parts[2]

    def _ended_in_loop(self, arriving: Load, rounds: Ints, over: Ints | None, single: bool) -> Ints | None:
        """Passes of a loop of which an item ended the run: with one pass, when any did; with more, each by its chance."""
        if over is None:
            return None
        if single:
            return np.minimum(over, arriving.passes)
        each = np.clip(over / np.maximum(rounds, 1), 0.0, 1.0)
        none = (1 - each) ** (rounds / np.maximum(arriving.passes, 1))
        return self.draws.some(arriving.passes, 1 - none, False)

    def _until(self, node: Node, arrivals: Ints) -> Ints:
        """Rounds until the end comes: each round goes on with probability 1 - 1/rounds, up to the cap."""
        assert node.items is not None
        mean = self.draws.number(node.items)
        on = 1 - 1 / mean
        alive, total = arrivals, arrivals
        for _ in range((CYCLE_ROUNDS if node.cap is None else node.cap) - 1):
            alive = self.draws.some(alive, on, False)
            if not alive.any():
                break
            total = total + alive
        return total if node.cap != 0 else self.zero

    def _agent(self, node: Node, attempts: Ints) -> Floats | None:
        turns = node.turns
        assert turns is not None
        drawn = self.draws.pert(turns) if turns.ranged else None
        for helper in node.memories:
            self._helper(helper, attempts, attempts)
        for helper in node.idle:
            self._helper(helper, attempts if helper.kind in ("model", "parse") else self.zero, self.zero)
        if node.tools:
            calls = summed(attempts, turns.amount, drawn) if drawn is not None else attempts * turns.amount
            left = self.draws.whole(np.maximum(calls - attempts, 0.0))
            for place, tool in enumerate(node.tools):
                mine = self.draws.some(left, 1 / (len(node.tools) - place), False)
                left = left - mine
                self._run(tool, Load(mine, mine, False))
        return drawn

    def _helper(self, step: Step, arrivals: Ints, runs: Ints) -> None:
        had = self.of.get(step.id)
        self.of[step.id] = Tally(arrivals, runs) if had is None else Tally(had.arrivals + arrivals, had.runs + runs)

    # -- leaving a step ----------------------------------------------------------------------------------------

    def _leave(self, node: Node, left: _Left, edges: list[Load | None]) -> None:
        load = left.load
        gone = _sum(left.failed, left.late)
        keeps = gone is not None and any(way.plain and way.failure for way in node.ways)
        whole = Load(load.passes + gone, load.items + gone, load.single) if keeps and gone is not None else load
        cases = self._cases(node, whole) if node.decides else {}
        for way in node.ways:
            passes: Ints | None = None
            items: Ints | None = None
            if way.success and (node.enabled or way.plain):
                out = cases[way.edge] if way.share is not None else whole if way.plain else load
                if way.share is not None and keeps and not way.plain:
                    out = self._thinned(out, load, whole)
                passes, items = out.passes, out.items
            for wanted, more in ((way.failure, left.failed), (way.timeout, left.late)):
                if wanted and more is not None and not way.plain:
                    passes, items = _sum(passes, more), _sum(items, more)
            if way.skip and left.skipped is not None:
                passes, items = _sum(passes, left.skipped), _sum(items, left.skipped)
            if passes is not None and items is not None:
                edges[way.edge] = Load(passes, items, load.single)

    def _thinned(self, out: Load, load: Load, whole: Load) -> Load:
        """Of a case's passes, those of steps that succeeded."""
        some = self.draws.some(out.passes, load.passes / np.maximum(whole.passes, 1), out.single)
        return Load(some, self._kept(out, some), out.single)

    def _cases(self, node: Node, load: Load) -> dict[int, Load]:
        ways = [way for way in node.ways if way.share is not None]
        by_item = node.step.per_item and self.itemised
        counts = load.items if by_item else load.passes
        single = load.single and not by_item
        dealt = self._inclusive(ways, counts, single) if node.step.inclusive else self._exclusive(ways, counts, single)
        found: dict[int, Load] = {}
        for way, some in zip(ways, dealt, strict=True):
            if by_item:
                found[way.edge] = Load(np.minimum(load.passes, some), some, load.single)
            else:
                items = some if load.items is load.passes or not self.itemised else self._kept(load, some)
                found[way.edge] = Load(some, items, load.single)
        return found

    def _inclusive(self, ways: list[Way], counts: Ints, single: bool) -> list[Ints]:
        return [self.draws.some(counts, self.draws.chance(way.share), single) for way in ways if way.share is not None]

    def _exclusive(self, ways: list[Way], counts: Ints, single: bool) -> list[Ints]:
        """Multinomial, case after case from what is left."""
        shares = [self.draws.chance(way.share) for way in ways if way.share is not None]
        if any(not isinstance(item, float) for item in shares):
            given = [item for item, way in zip(shares, ways, strict=True) if way.share is not None and way.share.ranged]
            points = [way for way in ways if way.rest]
            over = np.maximum(sum(shares, np.zeros(self.runs)), 1.0)
            if len(points) == 1 and given:
                # The one case that takes what the others leave moves against them.
                place = ways.index(points[0])
                shares[place] = np.maximum(
                    1 - sum((item for index, item in enumerate(shares) if index != place), np.zeros(self.runs)), 0.0
                )
                over = np.maximum(sum(shares, np.zeros(self.runs)), 1.0)
            shares = [item / over for item in shares]
        dealt: list[Ints] = []
        if single:
            u = self.draws.rng.random(self.runs)
            low: float | Floats = 0.0
            for share in shares:
                high = low + share
                dealt.append(counts * ((u >= low) & (u < high)))
                low = high
            return dealt
        left, room = counts, np.ones(self.runs) if not all(isinstance(item, float) for item in shares) else 1.0
        for share in shares:
            some = self.draws.some(left, np.clip(share / np.maximum(room, 1e-300), 0.0, 1.0), False)
            dealt.append(some)
            left, room = left - some, room - share
        return dealt


def _sources(tie: Tie | int | None) -> list[int]:
    if tie is None:
        return []
    return [tie] if isinstance(tie, int) else _sources(tie.left) + _sources(tie.right)

# How often each step runs in each of R sampled runs: counts in arrays, one pass over the plan for all runs at once. The
# rules are those of the exact passes, with draws instead of expectations and the true minimum and maximum at joins.
"""Sampled passes: executions of every step in many runs."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zeitbuch.core.assumptions.quantities import CYCLE_ROUNDS, MOST_PASSES
from zeitbuch.core.assumptions.uncertain import Uncertain
from zeitbuch.core.assumptions.values import Value
from zeitbuch.core.model.records import Step

from .plan import Node, Plan, Stage, Way, edges_of_tie, first_ways
from .random_draws import Draws, Floats, Ints, sum_of_draws
from .sample_records import Leaving, Load, Losses, Tally, add_counts, back_starts, total_of_parts
from .sampled_cases import CaseDraws
from .sampled_joins import Reached, SampledJoins, combine_counts


class Sample:
    """Draws and holds the passes of all steps of a plan."""

    def __init__(self, plan: Plan, runs: int, seed: int, entry: dict[str, tuple[Value, float]] | None = None) -> None:
        self.plan = plan
        self.draws = Draws(runs, seed)
        self.cases = CaseDraws(self.draws, runs)
        self.runs = runs
        self.zero: Ints = np.zeros(runs, np.int64)
        self.one: Ints = np.ones(runs, np.int64)
        self.of: dict[str, Tally] = {}
        self.texts: dict[str, Floats] = {}  # sizes drawn for these runs, by what they are the size of
        self.itemised = plan.itemised
        self.joins = SampledJoins(self.draws, plan.itemised)
        self.started: dict[str, Ints] = {}  # passes that each trigger starts
        self._run_stage(plan.top, Load(self.one, self.one, True), self._entry_passes(entry))

    def _entry_passes(self, entry: dict[str, tuple[Value, float]] | None) -> dict[int, Load] | None:
        starts = self.plan.starts
        if not starts:
            return None
        chosen = self._draw_starts(entry, starts)
        found: dict[int, Load] = {}
        for place, (trigger, targets) in enumerate(starts):
            begun = (chosen == place).astype(np.int64) if len(starts) > 1 else self.one
            items = self.started[trigger] = begun
            if self.itemised and entry is not None and trigger in entry:
                items = self.draws.round_randomly(begun * self.draws.of_runs(entry[trigger][1]))
            for target in targets:
                had = found.get(target)
                load = Load(begun, items, True)
                found[target] = load if had is None else Load(had.passes + begun, had.items + items, True)
        return found

    def _draw_starts(
        self, entry: dict[str, tuple[Value, float]] | None, starts: list[tuple[str, list[int]]]
    ) -> NDArray[np.intp] | Ints:
        if len(starts) < 2:
            return self.zero
        told = [entry[text][0].amount if entry is not None and text in entry else 1 / len(starts) for text, _ in starts]
        edges = np.cumsum([np.broadcast_to(self.draws.of_runs(share), self.runs) for share in told], axis=0)
        edges[-1] = 1.0
        chosen: Ints = (self.draws.rng.random(self.runs) >= edges).sum(axis=0)
        return chosen

    # -- one level ---------------------------------------------------------------------------------------------

    def _run_stage(self, stage: Stage, arriving: Load, starts: dict[int, Load] | None = None) -> Leaving:
        if starts is None:
            starts = dict.fromkeys(stage.entries, arriving)
        lost = Losses([None] * stage.parts, [None] * stage.parts, [None] * stage.parts)
        edges: list[Load | None] = [None] * len(stage.edges)
        begun = self.started if stage is self.plan.top and self.started else {"": arriving.passes}
        if not stage.cyclic:
            self._sweep_stage(stage, starts, edges, lost, begun)
        else:
            self._run_cycle(stage, starts, edges, lost, begun)
        return self._stage_outcome(arriving, lost)

    def _run_cycle(
        self, stage: Stage, starts: dict[int, Load], edges: list[Load | None], lost: Losses, begun: dict[str, Ints]
    ) -> None:
        """Round after round: what a back edge brings starts the next round, until nothing is left or the cap is hit."""
        back = [way.edge for node in stage.nodes for way in node.ways if way.back]
        at_of = {node.step.id: place for place, node in enumerate(stage.nodes)}
        for _ in range(CYCLE_ROUNDS):
            for index in range(len(edges)):
                edges[index] = None
            self._sweep_stage(stage, starts, edges, lost, begun)
            begun = {}
            starts = back_starts(stage, edges, back, at_of)
            if not starts:
                return

    def _stage_outcome(self, arriving: Load, lost: Losses) -> Leaving:
        """What survives a level: the passes that every connected part of it brings to an end."""
        through = arriving.passes
        for part in lost.all:
            if part is not None:
                # Parts that do not touch each other lose passes without regard to each other.
                kept = np.maximum(arriving.passes - part, 0)
                both = self.joins.overlap(through, kept, arriving.passes)
                through = both if both is not None else np.minimum(through, kept)
        if through is arriving.passes:
            return Leaving(arriving, None, None)
        gone = arriving.passes - through
        whole = np.maximum(sum((p for p in lost.all if p is not None), self.zero), 1)
        over = self._share_of_lost(gone, lost.over, whole)
        late = self._share_of_lost(
            gone if over is None else gone - over,
            lost.late,
            whole if over is None else np.maximum(whole - total_of_parts(lost.over, self.zero), 1),
        )
        failed = gone
        for part in (over, late):
            failed = failed if part is None else failed - part
        return Leaving(Load(through, through, arriving.single), np.maximum(failed, 0), late, None, over)

    def _share_of_lost(self, gone: Ints, parts: list[Ints | None], whole: Ints) -> Ints | None:
        """Of what is gone, that which went one way."""
        some = total_of_parts(parts, self.zero)
        if not some.any():
            return None
        return np.minimum(self.draws.round_randomly(gone * (some / whole)), gone)

    def _sweep_stage(
        self, stage: Stage, starts: dict[int, Load], edges: list[Load | None], lost: Losses, begun: dict[str, Ints]
    ) -> None:
        ended: dict[str, Ints] = {}
        reached: Reached = []
        for place, node in enumerate(stage.nodes):
            met = self.joins.tie_arrivals(node.incoming, edges, reached, begun) if node.incoming is not None else None
            arriving = self._with_start(stage, node, starts.get(place), met)
            if arriving is None and not stage.skips:
                self._note_passes(node, self.zero, self.zero)
                reached.append((self.zero, self.zero))
                continue
            arriving = arriving or Load(self.zero, self.zero, True)
            left = self._run_node(node, arriving)
            if stage.skips:
                self._count_skipped(stage, arriving, node, ended, left)
            reached.append(self._leave_node(node, left, edges))
            over = left.over
            if node.step.kind == "end" and node.step.ends == "run" and node.enabled:
                over = add_counts(over, left.load.passes)
            lost.add_losses(
                node.part,
                None if node.keeps_failures else left.failed,
                None if node.keeps_timeouts else left.late,
                over,
            )

    def _count_skipped(self, stage: Stage, arriving: Load, node: Node, ended: dict[str, Ints], left: Leaving) -> None:
        turn = arriving.passes
        for index in edges_of_tie(node.incoming):
            turn = np.maximum(turn, ended.get(stage.edges[index].source, self.zero))
        ended[node.step.id] = turn
        left.skipped = turn - arriving.passes if node.enabled else turn

    # -- joins -------------------------------------------------------------------------------------------------

    def _with_start(self, stage: Stage, node: Node, start: Load | None, met: Load | None) -> Load | None:
        """What arrives at a step with what starts there."""
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
        return combine_counts(node.start_mode, met, start, False)

    # -- one step ----------------------------------------------------------------------------------------------

    def _note_passes(self, node: Node, arrivals: Ints, runs: Ints, turns: Floats | None = None) -> None:
        had = self.of.get(node.step.id)
        if had is None:
            self.of[node.step.id] = Tally(arrivals, runs, turns)
        elif runs is not self.zero or arrivals is not self.zero:
            self.of[node.step.id] = Tally(
                had.arrivals + arrivals, had.runs + runs, had.turns if turns is None else turns
            )

    def _run_node(self, node: Node, arriving: Load) -> Leaving:
        step = node.step
        if not node.enabled:
            self._note_passes(node, arriving.passes, self.zero)
            return Leaving(arriving, None, None)
        turns = arriving.items if step.per_item and self.itemised else arriving.passes
        attempts, failed, late = self._draw_attempts(node, turns, arriving.single and turns is arriving.passes)
        over: Ints | None = None
        drawn = self._run_agent(node, attempts) if node.turns is not None else None
        for helper in node.each_time:
            self._run_node(helper, Load(attempts, attempts, False))
        self._note_passes(node, arriving.passes, attempts, drawn)
        if node.inner is not None:
            once = turns if attempts is turns else None
            failed, late, over = self._run_inside(node, arriving, attempts, once, failed, late)
        gone = add_counts(add_counts(failed, late), over)
        return self._items_left(node, arriving, gone, step, failed, late, over)

    def _items_left(
        self,
        node: Node,
        arriving: Load,
        gone: Ints | None,
        step: Step,
        failed: Ints | None,
        late: Ints | None,
        over: Ints | None,
    ) -> Leaving:
        passes, items = arriving.passes, arriving.items
        if gone is not None:
            if step.per_item and self.itemised:
                items = np.maximum(items - gone, 0)
            else:
                passes = np.maximum(passes - gone, 0)
                items = self._kept_items(arriving, passes)
        if self.itemised:
            items = self._yielded_passes(node, passes, items)
        return Leaving(Load(passes, items, arriving.single), failed, late, None, over)

    def _kept_items(self, arriving: Load, passes: Ints) -> Ints:
        """The items of the passes that are left."""
        if arriving.items is arriving.passes or not self.itemised:
            return passes
        return self.draws.round_randomly(arriving.items * (passes / np.maximum(arriving.passes, 1)))

    def _yielded_passes(self, node: Node, passes: Ints, items: Ints) -> Ints:
        if node.step.yields == "one":
            return passes
        if node.step.yields == "many" and node.items is not None:
            return self._sum_draws(items, node.items)
        return items

    def _sum_draws(self, counts: Ints, items: Value) -> Ints:
        """The sum of as many draws of a number as there are counts, in whole numbers."""
        mean = self.draws.of_runs(items.amount)
        if items.ranged:
            return self.draws.round_randomly(sum_of_draws(counts, mean, self.draws.draw_varied(items)))
        if isinstance(mean, float) and mean == int(mean) and float(counts.max()) * mean < MOST_PASSES:
            return counts * int(mean)
        return self.draws.round_randomly(counts * mean)

    def _draw_attempts(self, node: Node, turns: Ints, single: bool) -> tuple[Ints, Ints | None, Ints | None]:
        if not node.failure.amount and not node.timeout.amount:
            return turns, None, None
        fails, late = self.draws.of_runs(node.failure.amount), self.draws.of_runs(node.timeout.amount)
        wrong = np.minimum(fails + late, 1.0) if not isinstance(fails + late, float) else min(1.0, fails + late)
        left, attempts = turns, turns
        for place in range(node.tries + 1):
            if place:
                attempts = attempts + left
            left = self.draws.draw_some(left, wrong, single)
        if not node.timeout.amount:
            return attempts, left, None
        out_of_time = self.draws.draw_some(left, late / np.maximum(wrong, 1e-300), single)
        return attempts, left - out_of_time, out_of_time

    def _run_inside(
        self, node: Node, arriving: Load, attempts: Ints, once: Ints | None, failed: Ints | None, late: Ints | None
    ) -> tuple[Ints | None, Ints | None, Ints | None]:
        """What fails, runs out of time and ends the run, with what happens inside a scope."""
        assert node.inner is not None
        single = arriving.single and once is not None
        if node.repeats:
            assert node.items is not None
            rounds = (
                self._draw_rounds(node, attempts) if node.repeats == "until" else self._sum_draws(attempts, node.items)
            )
            inside = self._run_stage(node.inner, Load(rounds, rounds, False))
            return failed, late, self._ended_in_loop(arriving, rounds, inside.over, single)
        inside = self._run_stage(node.inner, Load(attempts, attempts, single))
        parts = [inside.failed, inside.late, inside.over]
        if once is None:
            # Only the last attempt of a pass counts for what goes on.
            gone = add_counts(failed, late)
            whole = arriving.passes if gone is None else arriving.passes - gone
            part = whole / np.maximum(attempts, 1)
            parts = [None if p is None else self.draws.round_randomly(p * part) for p in parts]
        return add_counts(failed, parts[0]), add_counts(late, parts[1]), parts[2]

    def _ended_in_loop(self, arriving: Load, rounds: Ints, over: Ints | None, single: bool) -> Ints | None:
        """Passes of a loop of which an item ended the run: with one pass, when any did; with more, each by its chance."""
        if over is None:
            return None
        if single:
            return np.minimum(over, arriving.passes)
        each = np.clip(over / np.maximum(rounds, 1), 0.0, 1.0)
        none = (1 - each) ** (rounds / np.maximum(arriving.passes, 1))
        return self.draws.draw_some(arriving.passes, 1 - none, False)

    def _draw_rounds(self, node: Node, arrivals: Ints) -> Ints:
        """Rounds until the end comes: each round goes on with probability 1 - 1/rounds, up to the cap."""
        assert node.items is not None
        mean = self.draws.draw_number(node.items)
        on = 1 - 1 / mean
        alive, total = arrivals, arrivals
        for _ in range((CYCLE_ROUNDS if node.cap is None else node.cap) - 1):
            alive = self.draws.draw_some(alive, on, False)
            if not alive.any():
                break
            total = total + alive
        return total if node.cap != 0 else self.zero

    def _run_agent(self, node: Node, attempts: Ints) -> Floats | None:
        turns = node.turns
        assert turns is not None
        known = not turns.ranged and type(turns.amount) is not Uncertain
        mean, drawn = self.draws.of_runs(turns.amount), None if known else self.draws.draw_number(turns)
        for helper in node.memories:
            self._run_helper(helper, attempts, attempts)
        for helper in node.idle:
            self._run_helper(helper, attempts if helper.kind in ("model", "parse") else self.zero, self.zero)
        if node.tools:
            calls = attempts * mean if known else sum_of_draws(attempts, mean, np.asarray(drawn))
            left = self.draws.round_randomly(np.maximum(calls - attempts, 0.0))
            room: float | Floats = 1.0
            for tool, share in zip(node.tools, node.tool_shares, strict=True):
                part = self.draws.of_runs(share.amount)
                mine = self.draws.draw_some(left, np.clip(part / np.maximum(room, 1e-300), 0.0, 1.0), False)
                room = room - part
                left = left - mine
                self._run_node(tool, Load(mine, mine, False))
        return None if known else np.asarray(drawn)

    def _run_helper(self, step: Step, arrivals: Ints, runs: Ints) -> None:
        had = self.of.get(step.id)
        self.of[step.id] = Tally(arrivals, runs) if had is None else Tally(had.arrivals + arrivals, had.runs + runs)

    # -- leaving a step ----------------------------------------------------------------------------------------

    def _leave_node(self, node: Node, left: Leaving, edges: list[Load | None]) -> tuple[Ints, Ints]:
        """Puts on the ways out what they carry; returns what goes on, and what of it succeeded."""
        load = left.load
        gone = add_counts(left.failed, left.late)
        by_item = node.step.per_item and self.itemised
        keeps = gone is not None and any(way.plain and way.failure for way in node.ways)
        whole = load
        if keeps and gone is not None:
            # Failures of a step that runs once for each item are items, of passes that went on anyhow.
            whole = Load(load.passes if by_item else load.passes + gone, load.items + gone, load.single)
        cases = self._share_cases(node, whole) if node.decides else {}
        for way in node.ways:
            self._follow_way(node, left, edges, way, cases, whole, load, keeps)
        return whole.passes, load.passes

    def _follow_way(
        self,
        node: Node,
        left: Leaving,
        edges: list[Load | None],
        way: Way,
        cases: dict[int, Load],
        whole: Load,
        load: Load,
        keeps: bool,
    ) -> None:
        passes: Ints | None = None
        items: Ints | None = None
        if way.success and (node.enabled or way.plain):
            out = cases[way.edge] if way.share is not None else whole if way.plain else load
            if way.share is not None and keeps and not way.plain:
                out = self._thin_case(out, load, whole)
            passes, items = out.passes, out.items
        for wanted, more in ((way.failure, left.failed), (way.timeout, left.late)):
            if wanted and more is not None and not way.plain:
                passes, items = add_counts(passes, more), add_counts(items, more)
        if way.skip and left.skipped is not None:
            passes, items = add_counts(passes, left.skipped), add_counts(items, left.skipped)
        if passes is not None and items is not None:
            edges[way.edge] = Load(passes, items, load.single)

    def _thin_case(self, out: Load, load: Load, whole: Load) -> Load:
        """Of a case's passes, those of steps that succeeded."""
        some = self.draws.draw_some(out.passes, load.passes / np.maximum(whole.passes, 1), out.single)
        return Load(some, self._kept_items(out, some), out.single)

    def _share_cases(self, node: Node, load: Load) -> dict[int, Load]:
        shared = [way for way in node.ways if way.share is not None]
        ways = first_ways(node)
        by_item = node.step.per_item and self.itemised
        counts = load.items if by_item else load.passes
        single = load.single and not by_item
        dealt = self.cases.deal_cases(ways, counts, single, node.step.inclusive)
        found: dict[int, Load] = {}
        for way, some in zip(ways, dealt, strict=True):
            if by_item:
                found[way.edge] = Load(np.minimum(load.passes, some), some, load.single)
            else:
                items = some if load.items is load.passes or not self.itemised else self._kept_items(load, some)
                found[way.edge] = Load(some, items, load.single)
        dealt_to = {way.case: found[way.edge] for way in ways}
        return {way.edge: dealt_to[way.case] for way in shared}

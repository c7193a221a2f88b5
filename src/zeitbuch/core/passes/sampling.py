# How often each step runs in each of R sampled runs: counts in arrays, one pass over the plan for all runs at once. The
# rules are those of the exact passes, with draws instead of expectations and the true minimum and maximum at joins.
"""Sampled passes: executions of every step in many runs."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zeitbuch.core.assumptions.quantities import CYCLE_ROUNDS
from zeitbuch.core.assumptions.uncertain import Uncertain
from zeitbuch.core.assumptions.values import Value
from zeitbuch.core.model.records import Step

from .plan import JoinTree, Node, Plan, Stage, ends_run, fold_tie
from .random_draws import Draws, Floats, Ints, sum_of_draws
from .sample_records import Leaving, Load, Losses, Tally, add_counts, back_starts, total_of_parts
from .sampled_joins import Reached, SampledJoins, combine_counts
from .sampled_rounds import run_until_lost
from .sampled_steps import StepDraws
from .sampled_ways import WayDraws
from .told_apart import sample_apart


class Sample:
    """Draws and holds the passes of all steps of a plan."""

    def __init__(self, plan: Plan, runs: int, seed: int, entry: dict[str, tuple[Value, float]] | None = None) -> None:
        self._begin(plan, Draws(runs, seed))
        self._run_stage(plan.top, Load(self.one, self.one, True), self._entry_passes(entry))
        for frame, inside in plan.frames.items():  # as often as what in it is reached most
            passes = [self.of[key].arrivals for key in inside if key in self.of]
            reached = max(passes, key=lambda one: float(one.mean()), default=self.zero)
            self.of[frame] = Tally(reached, reached)

    def _begin(self, plan: Plan, draws: Draws) -> None:
        self.plan, self.draws, self.runs = plan, draws, draws.runs
        runs = draws.runs
        self.steps = StepDraws(self.draws, plan.itemised)
        self.ways = WayDraws(self.draws, self.steps, plan.itemised)
        self.zero: Ints = np.zeros(runs, np.int64)
        self.one: Ints = np.ones(runs, np.int64)
        self.of: dict[str, Tally] = {}
        self.texts: dict[str, Floats] = {}  # sizes drawn for these runs, by what they are the size of
        self.itemised = plan.itemised
        self.joins = SampledJoins(self.draws, plan.itemised)
        self.started: dict[str, Load] = {}  # what each trigger starts
        # Where triggers start something that a step waits for besides what else comes.
        places = {place for _, targets in plan.starts for place in targets}
        self.awaited = {place for place in places if plan.top.nodes[place].start_mode == "all"}

    def _entry_passes(self, entry: dict[str, tuple[Value, float]] | None) -> dict[int, Load] | None:
        starts = self.plan.starts
        if not starts:
            return None
        chosen = self._draw_starts(entry, starts)
        found: dict[int, Load] = {}
        for place, (trigger, targets) in enumerate(starts):
            begun = (chosen == place).astype(np.int64) if len(starts) > 1 else self.one
            items = begun
            if self.itemised and entry is not None and trigger in entry:
                items = self.draws.round_randomly(begun * self.draws.of_runs(entry[trigger][1]))
            load = self.started[trigger] = Load(begun, items, True)
            for target in targets:
                had = found.get(target)
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
        begun = self.started if stage is self.plan.top and self.started else {"": arriving}
        if not stage.cyclic:
            self._sweep_stage(stage, starts, edges, lost, begun)
        else:
            self._run_cycle(stage, starts, edges, lost, begun)
        left = self._stage_outcome(arriving, lost)
        if lost.last is not None:
            items = self.steps.kept_items(lost.last, np.minimum(left.load.passes, lost.last.passes))
            left.load = Load(left.load.passes, items, left.load.single)
        return left

    def _run_cycle(
        self, stage: Stage, starts: dict[int, Load], edges: list[Load | None], lost: Losses, begun: dict[str, Load]
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
        whole = total_of_parts(lost.all, self.zero)
        over = total_of_parts(lost.over, self.zero)
        late = self._share_of_lost(np.maximum(gone - over, 0), lost.late, np.maximum(whole - over, 1))
        ended = np.minimum(over, gone) if over.any() else None  # a run that has ended fails no more
        failed = gone
        for part in (ended, late):
            failed = failed if part is None else failed - part
        return Leaving(Load(through, through, arriving.single), np.maximum(failed, 0), late, None, ended)

    def _share_of_lost(self, gone: Ints, parts: list[Ints | None], whole: Ints) -> Ints | None:
        """Of what is gone, that which went one way."""
        some = total_of_parts(parts, self.zero)
        if not some.any():
            return None
        return np.minimum(self.draws.round_randomly(gone * (some / whole)), gone)

    def _sweep_stage(
        self, stage: Stage, starts: dict[int, Load], edges: list[Load | None], lost: Losses, begun: dict[str, Load]
    ) -> None:
        ended: dict[str, Ints] = {}
        reached: Reached = []
        nothing = Load(self.zero, self.zero, True)
        for place, node in enumerate(stage.nodes):
            met = self.joins.tie_arrivals(node.incoming, edges, reached, begun) if node.incoming is not None else None
            start = starts.get(place)
            if start is None and stage is self.plan.top and place in self.awaited:
                start = nothing  # in a later round no trigger starts anything
            arriving = self._with_start(node, start, met)
            if arriving is None and not stage.skips:
                self._note_passes(node, self.zero, self.zero)
                reached.append((nothing, nothing))
                lost.last = nothing if place == stage.last else lost.last
                continue
            arriving = arriving or nothing
            left = self._run_node(node, arriving)
            if stage.skips:
                self._count_skipped(stage, arriving, start, node, ended, left)
            reached.append(self.ways.leave_node(node, left, edges))
            if place == stage.last:
                lost.last = self.steps.going_on(node, left, node.keeps_failures)
            over = left.over
            if ends_run(node.step):
                over = add_counts(over, left.load.passes)
            lost.add_losses(
                node.part,
                None if node.keeps_failures else left.failed,
                None if node.keeps_timeouts else left.late,
                over,
            )

    def _count_skipped(
        self, stage: Stage, arriving: Load, start: Load | None, node: Node, ended: dict[str, Ints], left: Leaving
    ) -> None:
        # What begins at a step gives it its turn, though it may wait for a branch besides.
        turn = arriving.passes if start is None else np.maximum(arriving.passes, start.passes)
        if node.incoming is not None:
            turn = np.maximum(turn, self._turns_before(stage, node.incoming, ended))
        ended[node.step.id] = turn
        left.skipped = turn - arriving.passes if node.enabled else turn

    def _turns_before(self, stage: Stage, tie: JoinTree | int, ended: dict[str, Ints]) -> Ints:
        """How often a step has its turn by what leads to it: where branches wait for each other no oftener than either brings it."""
        return fold_tie(tie, lambda edge: ended.get(stage.edges[edge].source, self.zero), _turns_of_both)

    # -- joins -------------------------------------------------------------------------------------------------

    def _with_start(self, node: Node, start: Load | None, met: Load | None) -> Load | None:
        """What arrives at a step with what starts there."""
        if start is None:
            return met
        if node.backs:
            return start if met is None else Load(met.passes + start.passes, met.items + start.items, False)
        if met is None:
            waits = node.incoming is not None and node.start_mode == "all"
            return Load(self.zero, self.zero, True) if waits else start
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
        if node.inner is not None and node.tries and (node.stops or not node.repeats):
            return self._try_again(node, arriving, turns)
        single = arriving.single and turns is arriving.passes
        attempts, failed, late = self.steps.draw_attempts(node, turns, single, node.tries)
        over: Ints | None = None
        each: Floats | None = None
        drawn = self._run_agent(node, attempts) if node.turns is not None else None
        for helper in node.each_time:
            self._run_node(helper, Load(attempts, attempts, False))
        self._note_passes(node, arriving.passes, attempts, drawn)
        if node.inner is not None:
            failed, late, over, each = self._run_inside(node, arriving, turns, attempts, failed, late)
            if turns is not arriving.passes:  # an item that ends the run ends it for all
                over = self._ended_by_item(arriving.passes, turns, over, arriving.single)
        return self._items_left(node, arriving, failed, late, over, each)

    def _try_again(self, node: Node, arriving: Load, turns: Ints) -> Leaving:
        """A block fails with what is in it, and is tried again as a whole."""
        assert node.inner is not None
        single = arriving.single and turns is arriving.passes
        left, attempts, passes, items = turns, self.zero, self.zero, self.zero
        failed: Ints | None = None
        late: Ints | None = None
        over: Ints | None = None
        for _ in range(node.tries + 1):
            attempts = attempts + left
            with_items = left if node.step.per_item else self.steps.kept_items(arriving, left)
            inside = self._run_block(node, Load(left, with_items, single))
            passes, items = passes + inside.load.passes, items + inside.load.items
            _, failed, late = self.steps.draw_attempts(node, left, single, 0)
            parts, gone = [inside.failed, inside.late, inside.over], add_counts(failed, late)
            if gone is not None:  # what is in it counts only where the block itself has not failed
                parts = self.steps.draw_of_attempts(parts, left, left - gone)
            failed, late, over = add_counts(failed, parts[0]), add_counts(late, parts[1]), add_counts(over, parts[2])
            wrong = add_counts(failed, late)
            if wrong is None or not wrong.any():
                break
            left = wrong
        self._note_passes(node, arriving.passes, attempts)
        if turns is not arriving.passes:
            over = self._ended_by_item(arriving.passes, turns, over, arriving.single)
        each = items / np.maximum(passes, 1) if node.inner.last is not None and not node.repeats else None
        return self._items_left(node, arriving, failed, late, over, each)

    def _items_left(
        self,
        node: Node,
        arriving: Load,
        failed: Ints | None,
        late: Ints | None,
        over: Ints | None,
        each: Floats | None,
    ) -> Leaving:
        """What leaves a step; ``each``: the items that a block makes of a pass, or of an item where it runs once for each."""
        by_item = node.step.per_item and self.itemised
        gone = over if by_item else add_counts(add_counts(failed, late), over)
        there = arriving.passes if gone is None else np.maximum(arriving.passes - gone, 0)
        if not self.itemised:
            return Leaving(Load(there, there, arriving.single), failed, late, None, over)
        load = arriving if gone is None else self.steps.kept_load(arriving, there)
        lost = add_counts(failed, late) if by_item else None
        if lost is not None:
            going = np.maximum(arriving.items - lost, 0)
            load = load if gone is None else self.steps.kept_load(Load(arriving.passes, going, arriving.single), there)
            load = self.steps.left_with_items(arriving, there, going if gone is None else load.items)
        before = Load(there, load.items, arriving.single)
        if each is not None or node.step.yields != "same":
            load = self._made_of_each(node, load, each)
        return Leaving(load, failed, late, None, over, arriving, before)

    def _made_of_each(self, node: Node, load: Load, each: Floats | None) -> Load:
        """Passes with the items that a step makes of those they have."""
        passes, items = load.passes, load.items
        if each is not None:
            items = self.draws.round_randomly((items if node.step.per_item else passes) * each)
        items = self.steps.yielded_passes(node, passes, items)
        if node.step.yields != "one":  # of some it may make none
            passes = np.minimum(passes, items)
        return Load(passes, items, load.single)

    def _run_inside(
        self, node: Node, arriving: Load, turns: Ints, attempts: Ints, failed: Ints | None, late: Ints | None
    ) -> tuple[Ints | None, Ints | None, Ints | None, Floats | None]:
        """What fails, runs out of time and ends the run, with what happens inside a scope, and the items that leave it with each pass, where
        its steps say so."""
        assert node.inner is not None
        single = arriving.single and attempts is arriving.passes
        if node.repeats and not node.stops:
            assert node.items is not None
            rounds = (
                self.steps.draw_rounds(node, attempts)
                if node.repeats == "until"
                else self.steps.sum_draws(attempts, node.items)
            )
            inside = self._run_scope(node.inner, Load(rounds, rounds, False))
            return failed, late, self._ended_by_item(turns, rounds, inside.over, single), None
        items = attempts if node.step.per_item else self.steps.kept_items(arriving, attempts)
        inside = self._run_block(node, Load(attempts, items, single))
        parts = [inside.failed, inside.late, inside.over]
        gone = add_counts(failed, late)
        if attempts is not turns or gone is not None:
            # Only the last attempt of a pass counts for what goes on, and only where the scope itself has not failed.
            parts = self.steps.draw_of_attempts(parts, attempts, turns if gone is None else turns - gone)
        with_items = node.inner.last is not None and not node.repeats
        each = inside.load.items / np.maximum(inside.load.passes, 1) if with_items else None
        return add_counts(failed, parts[0]), add_counts(late, parts[1]), parts[2], each

    def _run_block(self, node: Node, arriving: Load) -> Leaving:
        """What is in a block, once for each pass, or round after round where it is a loop that ends at the first that is lost."""
        inner = node.inner
        assert inner is not None
        if not node.stops:
            return self._run_scope(inner, arriving)
        return run_until_lost(node, arriving, self.draws, self.steps, lambda load: self._run_scope(inner, load))

    def _run_scope(self, stage: Stage, arriving: Load) -> Leaving:
        if not stage.apart or arriving.single or int(arriving.passes.max()) < 2:
            return self._run_stage(stage, arriving)
        tallies, left = sample_apart(self.draws, stage, arriving, self._walk_apart)
        for key, tally in tallies.items():
            had = self.of.get(key)
            self.of[key] = (
                tally if had is None else Tally(had.arrivals + tally.arrivals, had.runs + tally.runs, tally.turns)
            )
        return left

    def _walk_apart(self, draws: Draws, stage: Stage, arriving: Load) -> tuple[dict[str, Tally], Leaving]:
        """A level by itself, with draws of its own."""
        each = Sample.__new__(Sample)
        each._begin(self.plan, draws)
        return each.of, each._run_stage(stage, arriving)

    def _ended_by_item(self, turns: Ints, rounds: Ints, over: Ints | None, single: bool) -> Ints | None:
        """Passes of a loop of which an item ended the run: with one pass, when any did; with more, each by its chance."""
        if over is None:
            return None
        if single:
            return np.minimum(over, turns)
        each = np.clip(over / np.maximum(rounds, 1), 0.0, 1.0)
        none = (1 - each) ** (rounds / np.maximum(turns, 1))
        return self.draws.draw_some(turns, 1 - none, False)

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


def _turns_of_both(tie: JoinTree, first: Ints, second: Ints) -> Ints:
    most: Ints = np.maximum(first, second)
    if tie.mode != "all":
        return most
    return np.where((first > 0) & (second > 0), np.minimum(first, second), most)

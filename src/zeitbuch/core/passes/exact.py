# How often each step runs in one run: the exact expectation. Levels of scopes are computed from the outside in; cycles
# are iterated, each iteration allowing one more round, up to the cap. Where the expectation of a join is no sum
# (branches that lose passes when more than one may come), the result says that it is not exact; the sampled passes
# hold there.
"""Passes: expected executions of every step in one run."""

from __future__ import annotations

import math

from msgspec import structs

from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.quantities import CYCLE_ROUNDS
from zeitbuch.core.assumptions.uncertain import is_settled, least, most
from zeitbuch.core.assumptions.values import EVIDENCE, Value
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Step
from zeitbuch.core.passes.plan import Way

from .brought_items import Moving, Reasons, are_same, items_each, none_left, part_of, side_by_side, unevenly_brought
from .carried_items import changes_items
from .compiler import Planner
from .exact_joins import ExactJoins
from .loop_rounds import end_at_loss, loop_rounds
from .moving import (
    NEVER,
    NOTHING,
    RANK_OF_EVIDENCE,
    STRONGEST,
    Lost,
    Pass,
    StepOutcome,
    Sweep,
    Turns,
    add_loss,
    are_mixed,
    expected_tries,
    items_left,
    items_with,
    make_pass,
    passes_left,
    sum_losses,
    with_failed,
)
from .plan import Node, Plan, Stage, edges_of_tie, ends_run
from .tried_blocks import try_again


class Passes:
    """Computes and holds the passes of all steps of a flow.

    ``entry`` gives the share of the runs that each trigger starts and the items it brings; without it the active
    triggers are alike and bring one item.
    """

    def __init__(
        self, graph: Graph, lookup: AssumptionLookup, entry: dict[str, tuple[Value, float]] | None = None
    ) -> None:
        self.of: dict[str, Pass] = {}
        self.capped: list[str] = []
        self.inexact = Reasons()
        planner = Planner(graph, lookup)
        self.graph = planner.graph
        self.plan: Plan = planner.make_plan()
        self.notes = self.plan.notes
        self.joins = ExactJoins(self.plan.itemised, self.inexact)
        # Whether a pass may bring more than one item somewhere.
        self._shared = {helper.id for helpers in graph.shared.values() for helper in helpers}
        self._uses: dict[str, dict[str, tuple[float, int]]] = {}
        self._several = any(step.yields == "many" for step in graph.steps.values())
        self._started: dict[str, Moving] | None = None  # what each trigger starts, where any leads somewhere
        self._several = self._several or any(not are_same(items, 1.0) for _, items in (entry or {}).values())
        self._run_stage(self.plan.top, Moving(1.0, 1.0, 1.0, STRONGEST), self._entry_passes(entry))
        for frame, inside in self.plan.frames.items():  # as often as what in it is reached most
            passes = [self.of[key] for key in inside if key in self.of]
            reached = max(passes, key=lambda one: float(one.arrivals), default=None)
            if reached is not None:
                self.of[frame] = Pass(reached.arrivals, reached.arrivals, reached.evidence)

    @property
    def exact(self) -> bool:
        """Whether every expectation is exact."""
        return not self.inexact

    def _entry_passes(self, entry: dict[str, tuple[Value, float]] | None) -> dict[int, Moving] | None:
        starts = self.plan.starts
        if not starts:
            return None
        found: dict[int, Moving] = {}
        self._started = {}
        for trigger, targets in starts:
            if entry is not None and trigger in entry:
                share, items = entry[trigger]
                amount, evidence = share.amount, RANK_OF_EVIDENCE[share.evidence]
            else:
                # Which trigger started the run is evidence of its own; without it all are alike.
                amount, items = 1 / len(starts), 1.0
                evidence = STRONGEST if len(starts) == 1 else 0
            self._started[trigger] = Moving(amount, amount * items, 1.0, STRONGEST)
            for target in targets:
                had = found.get(target, NOTHING)
                brought = side_by_side(had, self._started[trigger]) if self._several else None
                found[target] = Moving(
                    had.passes + amount, had.items + amount * items, 1.0, min(had.evidence, evidence), brought
                )
        for moving in found.values():
            moving.evidence = STRONGEST if moving.passes == 1 else moving.evidence
        return found

    # -- one level ---------------------------------------------------------------------------------------------

    def _run_stage(self, stage: Stage, arriving: Moving, starts: dict[int, Moving] | None = None) -> Lost:
        """Runs a level; returns what each connected part of it loses by failures that nothing handles."""
        sweep = self._begin_sweep(stage, starts if starts is not None else dict.fromkeys(stage.entries, arriving))
        place = 0
        for first, last in stage.circles:
            self._sweep_stage(stage, sweep, range(place, first))
            self._go_round(stage, sweep, range(first, last + 1))
            place = last + 1
        self._sweep_stage(stage, sweep, range(place, len(stage.nodes)))
        return sweep.lost

    def _begin_sweep(self, stage: Stage, starts: dict[int, Moving]) -> Sweep:
        whole = max(starts.values(), key=lambda moving: moving.passes, default=NOTHING)
        return Sweep(
            starts=starts,
            began=self._started if stage is self.plan.top and self._started is not None else {"": whole},
            starting=self._starting_at(stage, starts) if stage.skips else {},
            bound=max((moving.most for moving in starts.values()), default=1.0),
            edges=[None] * len(stage.edges),
            reached=[(NOTHING, NOTHING)] * len(stage.nodes),
            bounds=[0.0] * len(stage.nodes),
            turns={},
            lost={},
        )

    def _go_round(self, stage: Stage, sweep: Sweep, places: range) -> None:
        """Goes over the steps of circles until no passes are left in them, each time allowing one more round, up to the cap."""
        nodes = stage.nodes[places.start : places.stop]
        edges = [way.edge for node in nodes for way in node.ways]
        lost = sweep.lost
        before: list[float] = []
        items_before: list[float] = []
        for turn in range(CYCLE_ROUNDS):
            sweep.lost = {part: structs.replace(had) for part, had in lost.items()}
            self._sweep_stage(stage, sweep, places)
            # Passes may die out while the items with them become more: both have to come to an end, and on every way, for what is
            # skipped becomes less where what runs becomes more.
            moved = [sweep.edges[edge] or NOTHING for edge in edges]
            passes, items = [moving.passes for moving in moved], [moving.items for moving in moved]
            settled = turn > 0 and all(map(is_settled, passes, before))
            if settled and all(map(is_settled, items, items_before)) and math.isfinite(sum(map(float, items))):
                break
            more = sum(map(float, items)) - sum(map(float, items_before))
            before, items_before = passes, items
            if turn == CYCLE_ROUNDS - 1 and not (settled and abs(more) <= 1e-6 * most(1.0, sum(map(float, items)))):
                self.capped.append(", ".join([node.step.title for node in nodes if node.backs]))

    def _stage_outcome(self, stage: Stage, arriving: Moving, lost: Lost) -> StepOutcome:
        survives, ended, tardy, evidence = sum_losses(arriving, lost, stage.sure)
        if any(place in lost and place not in stage.sure for place in stage.risky):
            self.inexact.add_once("losses of branches side by side")
        if any(part.several for part in lost.values()):
            self.inexact.add_once("losses where one pass has become several")
        if are_mixed(lost, stage.sure):
            self.inexact.add_once("losses of several sorts side by side")
        gone = arriving.passes * (1 - survives)
        late = most(0.0, gone - ended) * tardy
        through = arriving.passes * survives
        ratio = arriving.items / arriving.passes if arriving.passes else 0.0
        onward = Moving(through, through * ratio, arriving.most, min(arriving.evidence, evidence))
        return StepOutcome(onward, most(0.0, gone - late - ended), late, 0.0, min(arriving.evidence, evidence), ended)

    def _sweep_stage(self, stage: Stage, sweep: Sweep, places: range) -> None:
        """Goes once over steps of a level, in order."""
        for place in places:
            node = stage.nodes[place]
            self.joins.started, self.joins.most = sweep.began, sweep.bound  # levels inside have set their own
            arriving = self.joins.join_arrivals(node, sweep.starts.get(place), sweep.edges, sweep.reached, sweep.bounds)
            done = self._run_node(node, arriving)
            if stage.skips:
                start = (sweep.began, sweep.starting.get(place, set()))
                self._note_skipped(stage, node, start, sweep.turns, arriving, done)
            sweep.reached[place] = self._leave_node(node, arriving, done, sweep.edges)
            sweep.bounds[place] = arriving.most
            if done.failed or done.late or done.ended or ends_run(node.step):
                several = arriving.most > sweep.bound or (node.step.per_item and self._several)
                add_loss(node, done, sweep.lost, arriving, several)

    def _note_skipped(
        self,
        stage: Stage,
        node: Node,
        start: tuple[dict[str, Moving], set[str]],
        turns: Turns,
        arriving: Moving,
        done: StepOutcome,
    ) -> None:
        """What of a step is skipped: it has its turn in every run in which anything before it has begun, whatever came of that.
        ``start`` gives what each trigger starts, and the triggers that begin at the step."""
        started, starting = start
        sources = [turns.get(stage.edges[index].source, ((), 0.0)) for index in edges_of_tie(node.incoming)]
        before = set(starting).union(*[begun for begun, _ in sources])
        bound = max([arriving.most, *[high for _, high in sources]])
        turns[node.step.id] = before, bound
        turn = most(sum([started[name].passes for name in before if name in started]), arriving.passes)
        done.skipped = turn - arriving.passes if node.enabled else turn
        if any(way.skip for way in node.ways) and bound > 1:
            self.inexact.add_once("what is skipped where more than one pass may come")

    def _starting_at(self, stage: Stage, starts: dict[int, Moving]) -> dict[int, set[str]]:
        """The triggers that begin at each step of a level; "" for what begins with it."""
        if stage is not self.plan.top or self._started is None:
            return {place: {""} for place in starts}
        found: dict[int, set[str]] = {}
        for trigger, targets in self.plan.starts:
            for place in targets:
                found.setdefault(place, set()).add(trigger)
        return found

    # -- one step ----------------------------------------------------------------------------------------------

    def _run_node(self, node: Node, arriving: Moving) -> StepOutcome:
        """Executes a step: attempts, what is inside it, what is attached to it."""
        step = node.step
        if not node.enabled:
            self.of[step.id] = Pass(arriving.passes, 0.0, EVIDENCE[arriving.evidence])
            return StepOutcome(arriving, 0.0, 0.0)
        wrong = node.failure.amount + node.timeout.amount
        if node.simple and not wrong:
            self.of[step.id] = Pass(arriving.passes, arriving.passes, EVIDENCE[arriving.evidence])
            return StepOutcome(arriving, 0.0, 0.0, 0.0, arriving.evidence)
        turns = arriving.items if step.per_item else arriving.passes
        evidence = arriving.evidence
        attempts, lost, late = turns, 0.0, 0.0
        if wrong:
            evidence, attempts, lost, late = expected_tries(node, evidence, turns)
        done = StepOutcome(arriving, most(0.0, lost - late), late, 0.0, evidence)
        if node.turns is not None:
            evidence = self._run_agent(node, attempts, arriving.most, evidence)
        for helper in node.each_time:
            amount, weak = self._used_by_all(node, helper.step, attempts, evidence)
            self._run_node(helper, Moving(amount, amount, NEVER, weak))
        self.of[step.id] = make_pass(node, turns, attempts, evidence)
        if node.inner is not None:
            each = 1.0 if step.per_item else items_each(arriving)
            several = self._several
            if several and (step.per_item or node.repeats):  # a pass of it has one item, unless its own steps make more
                self._several = any([changes_items(one) for one in node.inner.nodes])
            brought = None if step.per_item else part_of(arriving.brought, attempts, arriving.passes)
            self._run_inside(node, turns, Moving(attempts, attempts * each, arriving.most, evidence, brought), done)
            self._several = several
            done.ended_items = done.ended if step.per_item else 0.0
            if done.ended and step.per_item and self._several:
                share = least(1.0, done.ended / turns)
                done.ended = arriving.passes * (1 - none_left(1 - share, turns / arriving.passes))
                self.inexact.add_once("a run that ends for an item")
        left = passes_left(node, arriving, done, evidence, self.inexact)
        done.success = left
        return done

    def _run_inside(self, node: Node, reached: float, arriving: Moving, done: StepOutcome) -> None:
        """A loop goes on when one item fails, unless it says that it ends there; other scopes fail with their contents."""
        assert node.inner is not None
        if node.repeats and not node.stops:
            self._run_rounds(node, reached, arriving, done)
            return
        one = arriving if not node.stops else Moving(arriving.passes, arriving.passes, arriving.most, arriving.evidence)
        inside = self._stage_outcome(node.inner, one, self._run_stage(node.inner, one))
        known, name, rounds = len(self.capped), node.step.id, 1.0
        if node.stops:
            rounds, inside = end_at_loss(node, arriving, inside, self.inexact)
        again = None
        if node.tries and inside.failed + inside.late:
            again = try_again(node, reached, arriving, done, inside, self.inexact)
            self.of[name] = structs.replace(self.of[name], runs=again.passes, evidence=EVIDENCE[again.evidence])
        if node.stops:
            begun = again or structs.replace(arriving, evidence=inside.failed_evidence)
            amount = begun.passes * rounds
            self._run_stage(node.inner, Moving(amount, amount, begun.most * loop_rounds(node)[1], begun.evidence))
        elif again is not None:
            self._run_stage(node.inner, again)
        del self.capped[known:]  # told once
        if again is not None:
            return
        if inside.ended and arriving.passes:
            done.ended = (reached - done.failed - done.late) * least(1.0, inside.ended / arriving.passes)
        if inside.failed + inside.late:
            # What fails inside is on top of what fails by the scope's own rate.
            whole = reached - done.failed - done.late
            share = least(1.0, (inside.failed + inside.late) / arriving.passes)
            done.failed += whole * share * inside.failed / (inside.failed + inside.late)
            done.late += whole * share * inside.late / (inside.failed + inside.late)
            done.failed_evidence = min(done.failed_evidence, inside.failed_evidence)

    def _run_rounds(self, node: Node, reached: float, arriving: Moving, done: StepOutcome) -> None:
        """A loop that goes on when one of its rounds fails."""
        assert node.inner is not None and node.items is not None
        times, bound = loop_rounds(node)
        weak = min(arriving.evidence, RANK_OF_EVIDENCE[node.items.evidence])
        amount = arriving.passes * times
        inner = self._run_stage(node.inner, Moving(amount, amount, arriving.most * bound, weak))
        over = sum(part.over for part in inner.values())
        if over and amount:
            # An item that ends the run ends it for all; those after it are counted still.
            done.ended = reached * (1 - (1 - least(1.0, over / amount)) ** most(1.0, times))
            self.inexact.add_once("a run that ends within a loop")

    def _run_agent(self, node: Node, attempts: float, most: float, evidence: int) -> int:
        turns = node.turns
        assert turns is not None
        evidence = min(evidence, RANK_OF_EVIDENCE[turns.evidence])
        for helper in node.memories:
            used, weak = self._used_by_all(node, helper, attempts, evidence)
            self.of[helper.id] = Pass(used, used, EVIDENCE[weak])
        for helper in node.idle:
            used = attempts if helper.kind == "model" or helper.kind == "parse" else 0.0
            used, weak = self._used_by_all(node, helper, used, evidence)
            self.of[helper.id] = Pass(used, 0.0, EVIDENCE[weak])
        for tool, share in zip(node.tools, node.tool_shares, strict=True):
            amount = attempts * (turns.amount - 1) * share.amount
            weak = min(evidence, RANK_OF_EVIDENCE[share.evidence])
            amount, weak = self._used_by_all(node, tool.step, amount, weak)
            self._run_node(tool, Moving(amount, amount, NEVER, weak))
        return evidence

    def _used_by_all(self, node: Node, helper: Step, amount: float, evidence: int) -> tuple[float, int]:
        """How often a helper is used by this step and by all others that it is attached to, and on what that rests."""
        if helper.id not in self._shared:
            return amount, evidence
        uses = self._uses.setdefault(helper.id, {})
        uses[node.step.id] = amount, evidence
        return sum(used for used, _ in uses.values()), min(rank for _, rank in uses.values())

    # -- leaving a step ----------------------------------------------------------------------------------------

    def _leave_node(
        self, node: Node, arriving: Moving, done: StepOutcome, edges: list[Moving | None]
    ) -> tuple[Moving, Moving]:
        """Puts on the ways out what they carry; returns what goes on, and what of it succeeded."""
        moving = done.success
        gone = done.failed + done.late
        if node.single and not (gone and node.keeps_failures):
            edges[node.ways[0].edge] = moving
            return moving, moving
        for way in node.ways:
            edges[way.edge] = self._follow_way(node, arriving, done, way, gone)
        if gone and node.keeps_failures and any(way.plain and way.failure for way in node.ways):
            return with_failed(node, arriving, done, gone, moving.evidence, self.inexact), moving
        return moving, moving

    def _follow_way(self, node: Node, arriving: Moving, done: StepOutcome, way: Way, gone: float) -> Moving:
        load = Moving(0.0, 0.0, arriving.most, done.success.evidence)
        kept = way.plain and way.failure and bool(gone)  # what fails goes on as if nothing had happened
        if way.success and (node.enabled or way.plain):
            load = self._what_succeeds(node, arriving, done, way, gone if kept else 0.0)
        if gone and not kept:
            more = (done.failed if way.failure else 0.0) + (done.late if way.timeout else 0.0)
            load = self._with_failing(node, arriving, done, way, load, more) if more else load
        if way.skip and done.skipped:
            passes, items = load.passes + done.skipped, load.items + done.skipped
            brought = unevenly_brought(passes, items) if self._several else None
            load = Moving(passes, items, load.most, load.evidence, brought)
        return load

    def _what_succeeds(self, node: Node, arriving: Moving, done: StepOutcome, way: Way, kept: float) -> Moving:
        """What a way takes of what succeeds and, where that goes on as well, of what fails."""
        moving = done.success
        if kept:
            weak = min(moving.evidence, done.failed_evidence)
            moving = with_failed(node, arriving, done, kept, weak, self.inexact)
        if way.share is None:
            return moving
        weak, share = min(moving.evidence, RANK_OF_EVIDENCE[way.share.evidence]), way.share.amount
        if node.step.per_item:  # items are dealt out; a pass goes on where at least one item does
            left = items_left(node, arriving, done, kept * share, self.inexact, share)
            return Moving(left.passes, left.items, left.most, weak, left.brought)
        passes = moving.passes * share
        return Moving(passes, moving.items * share, moving.most, weak, part_of(moving.brought, passes, moving.passes))

    def _with_failing(
        self, node: Node, arriving: Moving, done: StepOutcome, way: Way, load: Moving, more: float
    ) -> Moving:
        """What a way takes, with what has failed of it."""
        weak, high = min(load.evidence, done.failed_evidence), load.most
        items = items_with(node, arriving, more)
        if node.step.per_item and way.success:  # with what succeeded, in the same passes
            share = way.share.amount if way.share is not None else 1.0
            left = items_left(node, arriving, done, more, self.inexact, share)
            return Moving(left.passes, left.items, high, weak, left.brought)
        brought = part_of(arriving.brought, more, arriving.passes)
        if node.step.per_item:
            items, brought = more, None
            high = NEVER if self._several else high  # each item that fails is a pass of its own
        if self._several:
            brought = side_by_side(load, Moving(more, items, high, weak, brought))
        return Moving(load.passes + more, load.items + items, high, weak, brought)

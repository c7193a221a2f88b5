# In which ways a run can go: the trigger that starts it, the cases that are left open, what comes of blocks whose insides may go one way or
# another. The rules are those by which passes are counted.
"""All ways in which a run of a flow can go under given circumstances."""

from __future__ import annotations

from collections.abc import Container, Sequence
from itertools import combinations
from typing import Literal

from msgspec import Struct

from zeitbuch.core.assumptions.lookup import AssumptionLookup
from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.problems import ZeitbuchError, fail
from zeitbuch.core.model.references import refs_of_items
from zeitbuch.core.passes.compiler import Planner
from zeitbuch.core.passes.plan import JoinTree, Node, Stage, Way, edges_of_tie, ends_run, fold_tie

from .case_words import case_word

_WAYS = 4096  # of open decisions of one level that are tried one by one
# Of a level: it is done, something in it failed and nothing took that, it ended the run, it goes round for ever.
Outcome = Literal["through", "lost", "ended", "endless"]
_OUTCOMES: tuple[Outcome, ...] = ("through", "lost", "ended", "endless")
_TRIGGER = "\x00trigger"  # where the trigger that starts the run leads
_SEVERAL = "\x00several "  # behind the id of a decision, with the number of its passes
_INSIDE = "\x00inside "  # with the id of a block: what comes of it


class Given(Struct):
    """The circumstances: step -> labels of the cases it takes, steps that fail every time, steps whose result is empty."""

    cases: dict[str, tuple[str, ...]] = {}
    fails: frozenset[str] = frozenset()
    empty: frozenset[str] = frozenset()


class LevelRun(Struct):
    """What ran on one level, and what came of it; ``turning``: what was chosen in rounds that lead back to themselves; none without any."""

    ran: set[str]
    outcome: Outcome = "through"
    turning: frozenset[str] | None = None


Options = Sequence[frozenset[int]]
Chosen = dict[str, frozenset[int]]  # options by the names they were chosen for


class Choices:
    """What is chosen in one run: by ``said`` first, then always the first option. Only what a run comes to is chosen at all, so that
    decisions behind a way that is not taken make no ways of their own."""

    def __init__(self, said: Sequence[int]) -> None:
        self.said = said
        self.made: list[tuple[int, int]] = []  # in their order: which option, and of how many
        self.known: Chosen = {}
        self.asked: set[str] = set()  # since it was emptied last

    def choose(self, name: str, options: Options) -> frozenset[int]:
        """The option for a name, the same whenever it is asked for."""
        if len(options) > 1:
            self.asked.add(name)
        if name not in self.known:
            place = len(self.made)
            number = self.said[place] if place < len(self.said) else 0
            self.made.append((number, len(options)))
            self.known[name] = options[number]
        return self.known[name]

    def next_said(self) -> list[int] | None:
        """What to choose in the next run: None where all has been tried."""
        made = list(self.made)
        while made and made[-1][0] + 1 == made[-1][1]:
            made.pop()
        return [number for number, _ in made[:-1]] + [made[-1][0] + 1] if made else None


class PossibleRuns:
    """The runs of one flow, level by level."""

    def __init__(self, graph: Graph, given: Given) -> None:
        self.graph, self.given = graph, given
        self.plan = Planner(graph, AssumptionLookup(Assumptions(), graph.flow)).make_plan()
        self.tried: dict[int, list[LevelRun]] = {}
        self.options: dict[str, Options] = {}  # of decisions

    def of_level(self, stage: Stage) -> list[LevelRun]:
        """Every way in which a level can go; worked out once. Raises ZeitbuchError where they are too many."""
        if id(stage) in self.tried:
            return self.tried[id(stage)]
        runs: list[LevelRun] = []
        chosen: list[Chosen] = []
        said: list[int] | None = []
        while said is not None:
            if len(runs) == _WAYS:
                raise _too_many()
            choices = Choices(said)
            runs.append(self._run_once(stage, choices))
            chosen.append(choices.known)
            said = choices.next_said()
        self.tried[id(stage)] = _with_ends(runs, chosen, stage is self.plan.top)
        return self.tried[id(stage)]

    def outcomes_of(self, node: Node) -> list[Outcome]:
        """What may come of a step that runs. Of a loop the export may say that it goes on to its next item when one fails, or that it
        ends; where it says neither, both may be."""
        if not node.enabled:
            return ["through"]
        if node.step.id in self.given.fails:
            return ["lost"]
        if node.inner is None or self.is_idle(node):
            return ["through"]
        found = {run.outcome for run in self.of_level(node.inner)}
        if node.repeats and "lost" in found:
            fault = node.step.repeat.on_item_fault if node.step.repeat is not None else None
            found |= {"through"} if fault != "stop" else set()
            found -= {"lost"} if fault == "continue" else set()
        return [outcome for outcome in _OUTCOMES if outcome in found]

    def is_idle(self, node: Node) -> bool:
        """Whether a loop has nothing to do, because what it goes over is empty."""
        if node.step.id in self.given.empty and node.step.kind == "loop":
            return True
        repeat = node.step.repeat
        return repeat is not None and any(ref.step in self.given.empty for ref in refs_of_items(repeat))

    def makes_nothing(self, node: Node) -> bool:
        """Whether no item leaves a step that makes items, or a block of which one does: then nothing goes on behind it."""
        if not node.enabled:
            return False
        if node.step.yields == "many" and node.step.id in self.given.empty:
            return True
        inner = node.inner if not node.repeats else None
        return inner is not None and inner.last is not None and any(map(self.makes_nothing, inner.nodes))

    # -- what is open ----------------------------------------------------------------------------------------------

    def _outcomes(self, node: Node, choices: Choices, passes: int) -> tuple[Outcome, ...]:
        """What comes of a step in one run: of each of several passes something of its own."""
        outcomes = self.outcomes_of(node)
        if len(outcomes) == 1:
            return (outcomes[0],)
        numbers = [_OUTCOMES.index(one) for one in outcomes]
        most = min(passes, len(outcomes))
        options = [frozenset(some) for count in range(1, most + 1) for some in combinations(numbers, count)]
        chosen = choices.choose(f"{_INSIDE}{node.step.id}{_SEVERAL}{most}", options)
        return tuple(_OUTCOMES[number] for number in sorted(chosen))

    def _case_options(self, stage: Stage, node: Node) -> Options:
        """The edges of the cases that a decision may take, for each way in which it may go; worked out once."""
        if node.step.id in self.options:
            return self.options[node.step.id]
        cases: dict[str, list[int]] = {}
        for way in node.ways:  # a case may lead to several steps: its links have one label and are taken together
            if way.share is not None:
                cases.setdefault(case_word(self.graph, stage.edges[way.edge].link), []).append(way.edge)
        sets = self._sets_of_cases(node, list(cases))
        found = [frozenset(index for letter in chosen for index in cases.get(letter, ())) for chosen in sets]
        self.options[node.step.id] = found
        return found

    def _sets_of_cases(self, node: Node, cases: list[str]) -> list[tuple[str, ...]]:
        wanted = self.given.cases.get(node.step.id)
        if wanted is not None:
            return [wanted]
        if not node.step.inclusive:  # a step with a single case may also do nothing
            return [(letter,) for letter in cases] + ([()] if len(cases) == 1 else [])
        if 2 ** len(cases) > _WAYS:
            raise _too_many()
        return [entry for number in range(len(cases) + 1) for entry in combinations(cases, number)]

    # -- one way ---------------------------------------------------------------------------------------------------

    def _run_once(self, stage: Stage, choices: Choices) -> LevelRun:
        run = LevelRun(set())
        begun: Container[int] = self._begun_at(stage, choices)
        places = {node.step.id: place for place, node in enumerate(stage.nodes)}
        rounds: dict[frozenset[int], set[str]] = {}  # what was chosen in the round that began so
        while True:  # what ways back bring begins the next round
            choices.asked = set()
            backs = self._sweep_level(stage, begun, run, choices)
            rounds |= {begun: choices.asked} if isinstance(begun, frozenset) else {}
            begun = frozenset([places[target] for target in backs])
            if not backs:
                return run
            if begun in rounds:
                again = list(rounds).index(begun)
                run.turning = frozenset[str]().union(*list(rounds.values())[again:])
                return run

    def _sweep_level(self, stage: Stage, begun: Container[int], run: LevelRun, choices: Choices) -> set[str]:
        """Goes once through a level; the steps that ways back lead to."""
        alive: dict[int, int] = {}  # the passes that each edge brings
        backs: set[str] = set()
        awaited = {place for _, targets in self.plan.starts for place in targets} if stage is self.plan.top else set()
        turns: set[str] = set()  # steps that have their turn, whether anything comes to them or not
        for place, node in enumerate(stage.nodes):
            if place in begun or any(stage.edges[edge].source in turns for edge in edges_of_tie(node.incoming)):
                turns.add(node.step.id)
            passes = self._passes_at(stage, node, alive, place in begun, place in awaited)
            taken: dict[int, int] = {}
            if node.step.id in turns and not (passes and node.enabled):
                taken = {way.edge: 1 for way in node.ways if way.skip}
            if passes:
                self._pass_through(stage, node, run, choices, taken, passes)
            backs |= {way.target for way in node.ways if way.back and taken.get(way.edge)}
            alive |= taken
        return backs

    def _passes_at(self, stage: Stage, node: Node, alive: dict[int, int], begun: bool, awaited: bool) -> int:
        """The passes that come to a step: of what begins there, and of what ways bring."""
        met = _passes_of(node.incoming, alive) if node.incoming is not None else 0
        if node.incoming is not None and awaited and node.start_mode == "all" and not node.backs:
            return min(met, int(begun))
        return max(met, int(begun)) if node.start_mode == "once" and not node.backs else met + begun

    def _pass_through(
        self, stage: Stage, node: Node, run: LevelRun, choices: Choices, taken: dict[int, int], passes: int
    ) -> None:
        """A step that is reached: what comes of it, and which ways go on. A way that asks for failures takes them whatever the case; what
        fails and goes on as if nothing had happened takes a case as well."""
        if node.enabled:
            run.ran.add(node.step.id)
        outcomes = self._outcomes(node, choices, passes)
        each = passes - len(outcomes) + 1
        for outcome in outcomes:
            _note_outcome(run, node, outcome)
            for way in node.ways if outcome in ("through", "lost") else ():
                if self._is_taken(node, way, outcome == "lost"):
                    is_case = way.share is not None and node.decides and (outcome != "lost" or way.plain)
                    more = self._taking(stage, node, way, choices, each) if is_case else each
                    taken[way.edge] = min(passes, taken.get(way.edge, 0) + more)

    def _taking(self, stage: Stage, node: Node, way: Way, choices: Choices, passes: int) -> int:
        """How many of the passes take a case: each takes one of its own."""
        options = self._case_options(stage, node)
        if passes == 1 or node.step.inclusive or node.step.id in self.given.cases:
            return passes if way.edge in choices.choose(node.step.id, options) else 0
        if 2 ** len(options) > _WAYS:
            raise _too_many()
        several = [some for count in range(1, min(passes, len(options)) + 1) for some in combinations(options, count)]
        unions = [frozenset[int]().union(*some) for some in several]
        chosen = choices.choose(f"{node.step.id}{_SEVERAL}{passes}", unions)
        parts = len(several[unions.index(chosen)])
        return max(1, passes - parts + 1) if way.edge in chosen else 0

    def _begun_at(self, stage: Stage, choices: Choices) -> Container[int]:
        """The places where a level begins: a run is started by one trigger."""
        if stage is not self.plan.top or not self.plan.starts:
            return stage.entries
        return choices.choose(_TRIGGER, [frozenset(targets) for _, targets in self.plan.starts])

    def _is_taken(self, node: Node, way: Way, failing: bool) -> bool:
        """Whether what comes of a step takes a way, if it is no other case that is taken."""
        if failing:
            return way.failure
        return way.success and (node.enabled or way.plain) and not self.makes_nothing(node)


def _note_outcome(run: LevelRun, node: Node, outcome: Outcome) -> None:
    """What comes of a level by what comes of a step: a run that has ended fails no more."""
    if outcome == "ended" or (ends_run(node.step) and outcome == "through"):
        run.outcome = "ended"
    elif outcome == "lost" and not node.keeps_failures and run.outcome != "ended":
        run.outcome = "lost"
    elif outcome == "endless" and run.outcome == "through":
        run.outcome = "endless"


def _passes_of(tie: JoinTree | int, alive: dict[int, int]) -> int:
    """The passes that come by ways that meet."""

    def of_both(meeting: JoinTree, left: int, right: int) -> int:
        if meeting.mode == "all":
            return min(left, right)
        return max(left, right) if meeting.mode == "once" else left + right

    return fold_tie(tie, lambda edge: alive.get(edge, 0), of_both)


def _with_ends(runs: list[LevelRun], chosen: list[Chosen], outermost: bool) -> list[LevelRun]:
    """What goes round takes another case at last, where one is open: it ends as a run does in which all else is chosen as in it, whatever runs
    then. Where none ends it goes round for ever; of a block it is not known whether a builder ends it some time."""
    ending = [(run, known) for run, known in zip(runs, chosen, strict=True) if run.turning is None]
    found = [run for run, _ in ending]
    every = len({run.outcome for run in found})
    for run, had in zip(runs, chosen, strict=True):
        if run.turning is None:
            continue
        fixed = {name: option for name, option in had.items() if name not in run.turning}
        outcomes: dict[Outcome, None] = {}
        for other, known in ending:
            if len(outcomes) == every:
                break
            if all(known.get(name, option) == option for name, option in fixed.items()):
                outcomes[other.outcome] = None
        if not outcomes and run.outcome == "through":
            outcomes = {"endless": None} if outermost else {"through": None, "endless": None}
        found += [LevelRun(run.ran, outcome) for outcome in outcomes or (run.outcome,)]
    return found


def _too_many() -> ZeitbuchError:
    return fail(
        "case-many",
        f"expected at most {_WAYS:,} ways through the open decisions, found more",
        "choose more of the cases with --case",
    )

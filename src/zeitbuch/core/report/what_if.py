# What happens when: the steps that run for certain, perhaps, or not, once cases are chosen, steps fail, or results are
# empty. Decisions that are left open are tried in every way, level by level.
"""What happens in a run under given circumstances."""

from __future__ import annotations

from itertools import combinations, product
from math import prod
from typing import Literal

from msgspec import Struct

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.graph.step_lookup import pick_step
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.outcomes import is_case
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Link, Step
from zeitbuch.core.model.words import count_words, join_words
from zeitbuch.core.passes.plan import JoinTree, Node, Stage, Way, nodes_of
from zeitbuch.core.passes.reachability import Reachability, taken_values

from .sentences import failing_words, step_sentence

_WAYS = 4096  # of open decisions of one level that are tried one by one
Odds = Literal["certain", "perhaps", "not"]


class Given(Struct):
    """The circumstances: step -> labels of the cases it takes, steps that fail every time, steps whose result is empty."""

    cases: dict[str, tuple[str, ...]] = {}
    fails: frozenset[str] = frozenset()
    empty: frozenset[str] = frozenset()


class Event(Struct, frozen=True):
    """One step: how sure it is that it runs, and what happens there."""

    id: str
    odds: Odds
    words: str


class Story(Struct, frozen=True):
    """A run in the order of its steps. ``ends`` says how it ends."""

    given: str
    events: tuple[Event, ...]
    ends: str


def case_links(graph: Graph, step: Step) -> list[Link]:
    """The cases of a step behind which one of several ways is taken."""
    return [link for link in graph.leaving.get(step.id, ()) if is_case(link, step.kind)]


def label_of(link: Link) -> str:
    return link.label or link.condition or "otherwise"


def given_of(graph: Graph, cases: list[str], fails: list[str], empty: list[str]) -> Given:
    """Circumstances from words: 'STEP=CASE' or 'CASE', and ids, numbers or names of steps. Raises ZeitbuchError for what the
    flow does not have."""
    found = Given(
        fails=frozenset(pick_step(graph, name).id for name in fails),
        empty=frozenset(pick_step(graph, name).id for name in empty),
    )
    decisions = [step for step in graph.in_order() if step.id in graph.deciding]
    for words in cases:
        hits = _case_of_words(graph, words, decisions)
        step_id, name = hits[0]
        _add_case(graph, found, step_id, name)
    return found


def _case_of_words(graph: Graph, words: str, decisions: list[Step]) -> list[tuple[str, str]]:
    key, sign, label = words.partition("=")
    steps = [pick_step(graph, key)] if sign else decisions
    label = (label if sign else words).strip()
    hits = [
        (step.id, label_of(link))
        for step in steps
        for link in case_links(graph, step)
        if label.casefold() in (label_of(link).casefold(), link.condition.casefold())
    ]
    hits = list(dict.fromkeys(hits))
    if len(hits) != 1:
        there = "; ".join(
            f"{step.title}: {', '.join(dict.fromkeys(label_of(link) for link in case_links(graph, step)))}"
            for step in steps
        )
        said = "several" if hits else "none"
        raise fail(
            "case-unknown",
            f"expected one case '{label}', found {said}",
            f"cases: {there or 'this flow decides nothing'}",
        )
    return hits


def _add_case(graph: Graph, found: Given, step_id: str, name: str) -> None:
    had = found.cases.get(step_id, ())
    if had and name not in had and not graph.steps[step_id].inclusive:
        title = graph.steps[step_id].title
        raise fail(
            "case-unknown",
            f"expected one case of '{title}', found '{had[0]}' and '{name}'",
            "it takes one each time",
        )
    found.cases[step_id] = tuple(dict.fromkeys((*had, name)))


_END_OF = "\x00end of "  # with the id of a loop: whether an item that fails ends it


def _may_go_on(node: Node) -> bool:
    """Whether nothing says what a loop does when an item fails."""
    return bool(node.repeats) and (node.step.repeat is None or node.step.repeat.on_item_fault is None)


class _Run(Struct):
    """What ran on one level, and whether it went through."""

    ran: set[str]
    through: bool


class WhatIfSimulation:
    """Tells what happens in one flow."""

    def __init__(self, graph: Graph, given: Given) -> None:
        self.graph, self.given = graph, given
        self.ways = Reachability(graph)
        self.odds: dict[str, Odds] = {}
        self.nodes = {node.step.id: node for node in nodes_of(self.ways.plan.top)}
        self.tried: dict[int, list[_Run]] = {}

    def tell_story(self) -> Story:
        """The whole run."""
        top = self.ways.plan.top
        self._judge_level(top, "certain")
        events = [
            Event(step.id, self.odds.get(step.id, "not"), self._step_words(step))
            for step in self.graph.in_order()
            if self.ways.graph.steps[step.id].kind != "note" and step.id not in self.graph.host
        ]
        return Story(self._given_words(), tuple(events), self._end_words(top))

    @property
    def goes_through(self) -> Odds:
        """Whether a run comes to its end: in every way that it can go, in some, or in none."""
        runs = self._possible_runs(self.ways.plan.top)
        through = sum(run.through for run in runs)
        return "certain" if through == len(runs) else "perhaps" if through else "not"

    # -- which steps run -------------------------------------------------------------------------------------------

    def _judge_level(self, stage: Stage, outer: Odds) -> None:
        """Sets the odds of a level's steps."""
        runs = self._possible_runs(stage)
        for node in stage.nodes:
            hits = sum(node.step.id in run.ran for run in runs)
            odds: Odds = "certain" if hits == len(runs) else "perhaps" if hits else "not"
            if outer != "certain" and odds == "certain":
                odds = outer
            self.odds[node.step.id] = odds
            if node.inner is not None:
                self._judge_level(node.inner, "not" if odds == "not" or self._is_idle(node) else odds)

    def _is_idle(self, node: Node) -> bool:
        """Whether a loop has nothing to do, because what it goes over is empty."""
        if node.step.id in self.given.empty and node.step.kind == "loop":
            return True
        return node.step.repeat is not None and any(ref.step in self.given.empty for ref in node.step.repeat.refs)

    def _possible_runs(self, stage: Stage) -> list[_Run]:
        """Every way in which the open decisions of a level can go; worked out once a level."""
        if id(stage) in self.tried:
            return self.tried[id(stage)]
        choices: list[list[tuple[str, frozenset[int]]]] = []
        for node in stage.nodes:
            # A case may lead to several steps: its links have one label and are taken together.
            self._choices_of_node(stage, node, choices)
        if prod(map(len, choices)) > _WAYS:
            raise fail(
                "case-many",
                f"expected at most {_WAYS:,} ways through the open decisions, found {prod(map(len, choices)):,}",
                "choose more of the cases with --case",
            )
        self.tried[id(stage)] = [self._run_once(stage, dict(choice)) for choice in product(*choices)]
        return self.tried[id(stage)]

    def _choices_of_node(self, stage: Stage, node: Node, choices: list[list[tuple[str, frozenset[int]]]]) -> None:
        if _may_go_on(node) and self._breaks_inside(node):
            choices.append([(_END_OF + node.step.id, frozenset({ends})) for ends in (0, 1)])
        cases: dict[str, list[int]] = {}
        for way in node.ways:
            if way.share is not None:
                cases.setdefault(label_of(stage.edges[way.edge].link), []).append(way.edge)
        if not node.decides or (len(cases) < 2 and not node.step.inclusive):
            return
        wanted = self.given.cases.get(node.step.id)
        if wanted is not None:
            sets = [wanted]
        elif node.step.inclusive:
            sets = [entry for number in range(len(cases) + 1) for entry in combinations(cases, number)]
        else:
            sets = [(letter,) for letter in cases]
        choices.append(
            [
                (node.step.id, frozenset(index for letter in chosen for index in cases.get(letter, ())))
                for chosen in sets
            ]
        )

    def _run_once(self, stage: Stage, chosen: dict[str, frozenset[int]]) -> _Run:
        run = _Run(set(), True)
        alive: dict[int, bool] = {}
        begun = self._begun_at(stage)
        for place, node in enumerate(stage.nodes):
            if node.incoming is None:
                reached = place in begun if stage is self.ways.plan.top and begun else place in stage.entries
            else:
                reached = self._is_reached(node.incoming, alive) or place in begun
            if not reached:
                continue
            if node.enabled:
                run.ran.add(node.step.id)
            failing = node.enabled and (node.step.id in self.given.fails or self._fails_inside(node, chosen))
            if failing:
                run.through = run.through and node.keeps_failures
            for way in node.ways:
                alive[way.edge] = self._is_taken(node, way, failing, chosen)
        return run

    def _begun_at(self, stage: Stage) -> set[int]:
        begun = (
            {place for _, targets in self.ways.plan.starts for place in targets}
            if stage is self.ways.plan.top
            else set()
        )
        return begun

    def _fails_inside(self, node: Node, chosen: dict[str, frozenset[int]]) -> bool:
        """Whether a scope fails with what is in it. Of a loop the export may say that it goes on to its next item, or that it
        ends; where it says neither, both may be."""
        repeat = node.step.repeat
        if node.repeats and repeat is not None and repeat.on_item_fault == "continue":
            return False
        if _may_go_on(node) and 1 not in chosen.get(_END_OF + node.step.id, ()):
            return False
        return self._breaks_inside(node)

    def _breaks_inside(self, node: Node) -> bool:
        return node.inner is not None and all(not run.through for run in self._possible_runs(node.inner))

    def _is_taken(self, node: Node, way: Way, failing: bool, chosen: dict[str, frozenset[int]]) -> bool:
        if way.back:
            return False
        if failing:
            return way.failure
        if not way.success or not (node.enabled or way.plain):
            return False
        return way.share is None or node.step.id not in chosen or way.edge in chosen[node.step.id]

    def _is_reached(self, tie: JoinTree | int, alive: dict[int, bool]) -> bool:
        if isinstance(tie, int):
            return alive.get(tie, False)
        left, right = self._is_reached(tie.left, alive), self._is_reached(tie.right, alive)
        return left and right if tie.mode == "all" else left or right

    # -- words -----------------------------------------------------------------------------------------------------

    def _given_words(self) -> str:
        names = self.graph.names
        parts = [
            f"{quote_name(names[text])} takes the case {quote_name(letter)}"
            for text, entry in self.given.cases.items()
            for letter in entry
        ]
        parts += [f"{quote_name(names[text])} fails" for text in self._in_order(self.given.fails)]
        parts += [f"{quote_name(names[text])} gives nothing" for text in self._in_order(self.given.empty)]
        return f"When {join_words(parts)}" if parts else "When a run goes well"

    def _in_order(self, ids: frozenset[str]) -> list[str]:
        return [step.id for step in self.graph.in_order() if step.id in ids]

    def _step_words(self, step: Step) -> str:
        """What happens at a step."""
        graph = self.graph
        if step.id in self.given.fails:
            return self._failing_words("It fails", step)
        if self.odds.get(step.id) != "not" and step.id in graph.levels:
            node = self.nodes.get(step.id)
            if node is not None and self._is_idle(node):
                return "It has nothing to go over, and the run goes on behind it."
            if node is not None and self._fails_inside(node, {}):
                return self._failing_words("It fails with what is in it", step)
        if step.kind == "decide":
            return self._decision_words(step, graph)
        words = step_sentence(graph, step).split(" If it fails")[0].split(" If it takes")[0]
        return f"{words} {self._decision_words(step, graph)}" if step.id in graph.deciding else words

    def _decision_words(self, step: Step, graph: Graph) -> str:
        wanted = self.given.cases.get(step.id)
        goes = [f"{quote_name(label_of(link))} to {self._name_words(link.target)}" for link in case_links(graph, step)]
        if wanted is not None:
            links = [link for link in case_links(graph, step) if label_of(link) in wanted]
            backs = set(self.ways.back_links)
            ways = [
                f"{'back' if (link.source, link.target) in backs else 'on'} to {self._name_words(link.target)}"
                for link in links
            ]
            return f"It takes {join_words([quote_name(word) for word in wanted])} and goes {join_words(ways)}."
        tested = [ref for _, ref in taken_values(graph, step) if ref.step in self.given.empty]
        hint = f" by what {quote_name(graph.names[tested[0].step or ''])} gave, which is nothing" if tested else ""
        return f"It decides{hint}: {join_words(goes, 'or')}." if goes else "It decides, but no case leads on."

    def _failing_words(self, words: str, step: Step) -> str:
        return failing_words(self.graph, step, words)

    def _name_words(self, id: str) -> str:
        return f"{self.graph.numbers.get(id, '')} {quote_name(self.graph.names[id])}".strip()

    def _end_words(self, top: Stage) -> str:
        last = [node.step.id for node in top.nodes if all(way.back for way in node.ways)]
        last += [node.step.id for node in top.nodes if node.step.id in self.given.fails and not node.keeps_failures]
        sure = [self._name_words(key) for key in dict.fromkeys(last) if self.odds.get(key) == "certain"]
        may = [self._name_words(key) for key in dict.fromkeys(last) if self.odds.get(key) == "perhaps"]
        parts = self._count_of_steps()
        words = f"{', '.join(parts)}."
        if sure:
            words += f" The run ends behind {join_words(sure)}."
        if may:
            words += f" It {'may also end' if sure else 'ends'} behind {join_words(may, 'or')}."
        return words

    def _count_of_steps(self) -> list[str]:
        counts = {
            name: sum(value == name for key, value in self.odds.items() if key not in self.graph.host)
            for name in ("certain", "perhaps")
        }
        parts = [
            f"{count_words(counts['certain'], 'step')} run for certain"
            if counts["certain"] != 1
            else "1 step runs for certain"
        ]
        if counts["perhaps"]:
            parts.append(f"{counts['perhaps']} perhaps")
        return parts

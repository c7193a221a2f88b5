# What happens when: the steps that run for certain, perhaps, or not, once cases are chosen, steps fail, or results are
# empty. Decisions that are left open are tried in every way, level by level.
"""What happens in a run under given circumstances."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.graph.step_lookup import pick_step
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.outcomes import is_bare, is_case
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Link, Step
from zeitbuch.core.model.words import count_words, join_words
from zeitbuch.core.passes.plan import Node, Stage, nodes_of
from zeitbuch.core.passes.reachability import Reachability, taken_values

from .case_words import case_word
from .possible_runs import Given, PossibleRuns
from .sentences import failing_words, step_sentence

Odds = Literal["certain", "perhaps", "not"]


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
        (step.id, case_word(graph, link))
        for step in steps
        for link in case_links(graph, step)
        if label.casefold() in _words_of_case(graph, link)
    ]
    hits = list(dict.fromkeys(hits))
    if len(hits) != 1:
        there = "; ".join(
            f"{step.title}: {', '.join(dict.fromkeys(case_word(graph, link) for link in case_links(graph, step)))}"
            for step in steps
        )
        said = "several" if hits else "none"
        raise fail(
            "case-unknown",
            f"expected one case '{label}', found {said}",
            f"cases: {there or 'this flow decides nothing'}",
        )
    return hits


def _words_of_case(graph: Graph, link: Link) -> set[str]:
    """What a case may be called: its label or condition; one without either also by where it leads, as assumptions name it."""
    bare = [link.target, graph.names[link.target]] if is_bare(link) else []
    return {word.casefold() for word in (case_word(graph, link), link.condition, *bare)} - {""}


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


class WhatIfSimulation:
    """Tells what happens in one flow."""

    def __init__(self, graph: Graph, given: Given) -> None:
        self.graph, self.given = graph, given
        self.ways = Reachability(graph)
        self.runs = PossibleRuns(graph, given)
        self.odds: dict[str, Odds] = {}
        self.nodes = {node.step.id: node for node in nodes_of(self.runs.plan.top)}

    def tell_story(self) -> Story:
        """The whole run."""
        top = self.runs.plan.top
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
        runs = self.runs.of_level(self.runs.plan.top)
        through = sum(run.outcome not in ("lost", "endless") for run in runs)
        return "certain" if through == len(runs) else "perhaps" if through else "not"

    @property
    def is_endless(self) -> bool:
        """Whether a run may go round for ever."""
        return any(run.outcome == "endless" for run in self.runs.of_level(self.runs.plan.top))

    # -- which steps run -------------------------------------------------------------------------------------------

    def _judge_level(self, stage: Stage, outer: Odds) -> None:
        """Sets the odds of a level's steps."""
        runs = self.runs.of_level(stage)
        for node in stage.nodes:
            hits = sum(node.step.id in run.ran for run in runs)
            odds: Odds = "certain" if hits == len(runs) else "perhaps" if hits else "not"
            if outer == "not" or (outer == "perhaps" and odds == "certain"):
                odds = outer
            self.odds[node.step.id] = odds
            if node.inner is not None:
                self._judge_level(node.inner, "not" if odds == "not" or self.runs.is_idle(node) else odds)

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
        node = self.nodes.get(step.id)
        if self.odds.get(step.id) != "not" and step.id in graph.levels and node is not None:
            told = self._block_words(step, node)
            if told:
                return told
        if step.kind == "decide":
            return self._decision_words(step, graph)
        words = step_sentence(graph, step).split(" If it fails")[0].split(" If it takes")[0]
        if node is not None and self.odds.get(step.id) != "not" and self.runs.makes_nothing(node):
            words = f"{words.removesuffix(' Makes several items of each.')} It makes no items, and nothing goes on behind it."
        return f"{words} {self._decision_words(step, graph)}" if step.id in graph.deciding else words

    def _block_words(self, step: Step, node: Node) -> str:
        """What comes of a step with steps in it, where that is not what its sentence says."""
        if self.runs.is_idle(node):
            return "It has nothing to go over, and the run goes on behind it."
        outcomes = self.runs.outcomes_of(node)
        if outcomes == ["lost"]:
            return self._failing_words("It fails with what is in it", step)
        if "endless" not in outcomes:
            return ""
        sure = outcomes == ["through", "endless"] and self._goes_round(node)
        return f"What is in it {'goes' if sure else 'may go'} round {self._while_words()}; what follows is open."

    def _decision_words(self, step: Step, graph: Graph) -> str:
        wanted = self.given.cases.get(step.id)
        goes = [
            f"{quote_name(case_word(graph, link))} to {self._name_words(link.target)}"
            for link in case_links(graph, step)
        ]
        if wanted is not None:
            links = [link for link in case_links(graph, step) if case_word(graph, link) in wanted]
            backs = set(self.ways.back_links)
            ways = [
                f"{'back' if (link.source, link.target) in backs else 'on'} to {self._name_words(link.target)}"
                for link in links
            ]
            return f"It takes {join_words([quote_name(word) for word in wanted])} and goes {join_words(ways)}."
        tested = [ref for _, ref in taken_values(graph, step) if ref.step in self.given.empty]
        hint = f" by what {quote_name(graph.names[tested[0].step or ''])} gave, which is nothing" if tested else ""
        nothing = (
            ", or it does nothing" if len({case_word(graph, link) for link in case_links(graph, step)}) == 1 else ""
        )
        return f"It decides{hint}: {join_words(goes, 'or')}{nothing}." if goes else "It decides, but no case leads on."

    def _failing_words(self, words: str, step: Step) -> str:
        return failing_words(self.graph, step, words)

    def _name_words(self, id: str) -> str:
        return f"{self.graph.numbers.get(id, '')} {quote_name(self.graph.names[id])}".strip()

    def _odds_of_ends(self, top: Stage) -> dict[str, Odds | None]:
        """The steps behind which the run may end, with how likely it comes to them and ends."""
        odds: dict[str, Odds | None] = {}
        for node in top.nodes:
            stops = self._stops(node)
            if _leads_back_at_most(node) or self.runs.makes_nothing(node) or stops != "not":
                comes = self.odds.get(node.step.id)
                odds[node.step.id] = "perhaps" if comes == "certain" and stops == "perhaps" and node.ways else comes
        return odds

    def _end_words(self, top: Stage) -> str:
        odds = self._odds_of_ends(top)
        sure, may = [
            [self._name_words(key) for key in odds if odds[key] == wanted] for wanted in ("certain", "perhaps")
        ]
        parts = self._count_of_steps()
        words = f"{', '.join(parts)}."
        if len(self.runs.plan.starts) > 1:
            words += f" Which of the {len(self.runs.plan.starts)} triggers starts it is open."
        if sure:
            words += f" The run ends behind {join_words(sure)}."
        if may:
            words += f" It {'may also end' if sure else 'ends'} behind {join_words(may, 'or')}."
        endless = [run.outcome == "endless" for run in self.runs.of_level(top)]
        if any(endless):
            words += f" It {'goes' if all(endless) else 'may go'} round {self._while_words()}."
        return words

    def _while_words(self) -> str:
        given = self.given.cases or self.given.fails or self.given.empty
        return "without end while this is so" if given else "without end"

    def _goes_round(self, node: Node) -> bool:
        """Whether every way through a block goes round for ever."""
        runs = self.runs.of_level(node.inner) if node.inner is not None else []
        return 2 * sum(run.outcome == "endless" for run in runs) == len(runs)

    def _stops(self, node: Node) -> Odds:
        """Whether nothing goes on behind a step for what comes of it."""
        outcomes = self.runs.outcomes_of(node)
        stopping = [one for one in outcomes if one == "ended" or (one == "lost" and not node.keeps_failures)]
        return "certain" if len(stopping) == len(outcomes) else "perhaps" if stopping else "not"

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


def _leads_back_at_most(node: Node) -> bool:
    """Whether a run may end behind a step: no way leads on, and what succeeds does not go back each time."""
    always = any(way.back and way.success and way.share is None for way in node.ways)
    return not always and all(way.back for way in node.ways)

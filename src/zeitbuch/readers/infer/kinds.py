# What each operation of an export is: its words, and how its steps stand in the flows (nothing leads to a trigger, a
# loop holds steps, a decision has several outlets, a model step has a prompt).
"""Classifying the operations of an unknown export."""

from __future__ import annotations

from collections import Counter
from typing import Any, NamedTuple

from zeitbuch.readers.dialects.paths import as_text

from .fields import MODEL, reads_like_prose
from .identity import Identity
from .join_index import Joins
from .steps import Found
from .survey import STAR, Path, find_leaves, value_at, values_at
from .vocabulary import Guess, guess_kinds, word_fits, words_of

ERROR_WORDS = (
    "fail* error* err fault* catch* except* fehler* erreur* echec* error fallo* feil* fout* errore* erro falha* broken oops nope timeout* ko reject* trouble* "
    "abort* rescue* misslung* problem* bad"
)
FAULT_WORDS = "fail* error* err fault* catch* except* fehler* erreur* error fallo* feil* fout* errore* erro falha* timeout* rescue*"  # no answers
NEXT_WORDS = "next goto follow* successor* weiter danach nachste* suivant* siguiente* neste volgende prossim* seguinte* leads to target targets link links"
PLAIN_WORDS = (
    "success* succeed* ok main default* out output* next done then ergebnis erfolg* succes* exito* vellyk* gelukt successo* sucesso* always ferdig "
    "completed complete finished fertig normal std exit result*"
)
ANSWER_WORDS = (
    "yes no true false else otherwise ja nein sonst wahr falsch oui non sinon vrai faux si sino verdadero falso nei ellers sant usant nee anders "
    "waar onwaar altrimenti vero sim nao senao verdadeiro"
)
HELPER_WORDS = (
    "model* modell* llm memory memoria* memoire* gedachtnis* minne tool* werkzeug* outil* herramienta* verktoy* pars* embed* retriev* skill* "
    "helper* attach* language-model fits aid* hilfs* knowledge"
)
_NO_LABELS: frozenset[str] = frozenset()
_LABEL = 30  # letters of what may be a label
_LEAST_FLOWS = 3  # by which a place is judged: one flow begins with something anyhow
HELPERS = frozenset({"model", "memory", "tool", "parse", "retrieve", "embed"})


class Context(NamedTuple):
    """How the steps of one operation stand in the flows."""

    steps: int
    roots: int
    outlets: int
    bodies: int
    prompts: int
    models: int
    branches: int = 0  # that hold steps in several lists
    amid: int = 0  # that links lead to and go on from
    answers: int = 0  # of which links leave by answers, as yes and no are
    lent: int = 0  # that leave by nothing but the ways of helpers

    @property
    def parts_ways(self) -> bool:
        """Whether ways of different names leave them."""
        return self.outlets >= 2 or self.answers >= 0.5 * self.steps


class Verdict(NamedTuple):
    """What an operation is taken for. ``sure`` lies between 0 and 1; ``near`` are the closest other hints; ``by_place``: no word of
    it tells, only where its steps stand."""

    operation: str
    hint: str
    sure: float
    near: tuple[str, ...]
    by_place: bool = False
    evidence: dict[str, float] = {}  # noqa: RUF012  (never changed)
    by_values: bool = False  # no word tells, only what its settings hold

    @property
    def trigger(self) -> bool:
        return self.hint.startswith("on:")

    @property
    def kind(self) -> str:
        return "other" if self.trigger else self.hint


def operation_contexts(found: Found, identity: Identity, joins: Joins) -> dict[str, Context]:
    """The context of every operation."""
    result: dict[str, Context] = {}
    prose: dict[str, Counter[Path]] = {}
    targets, outlets = _ends_of_joins(found, joins)
    sources = [{pair.source for pair in joins.pairs if pair.sample == number} for number in range(len(found.samples))]
    lenders = [_lenders(joins, number) for number in range(len(found.samples))]
    for number, sample in enumerate(found.samples):
        labels = _labels_of_steps(identity, number)
        known = identity.ids[number].keys() | identity.names[number].keys()
        owners = {sight.owner for sight in sample.steps if sight.owner is not None}
        branching = {sight.owner for sight in sample.steps if sight.hold.count(STAR) > 1}
        raws = {id(sight.raw) for sight in sample.steps}
        first = next((place for place, sight in enumerate(sample.steps) if sight.owner is None), 0)
        for index, sight in enumerate(sample.steps):
            mine = labels.get(index, set())
            root = sight.owner is None and (index == first if joins.way == "order" else not mine & targets[number])
            labels_out = max((outlets[number].get(name, _NO_LABELS) for name in mine), key=len, default=_NO_LABELS)
            said = labels_out if len(labels_out) > 1 else _labels_of_pointers(joins, sight.raw)
            answers = any(word_fits(words_of(label), ANSWER_WORDS) for label in said)
            texts = [(path, text) for path, text in _texts_of_step(sight.raw, raws) if text not in known]
            operation = as_text(value_at(sight.raw, found.operation))
            old = result.get(operation, Context(0, 0, 0, 0, 0, 0))
            prose.setdefault(operation, Counter()).update({path for path, text in texts if _like_a_prompt(text)})
            result[operation] = Context(
                old.steps + 1,
                old.roots + root,
                max(old.outlets, len(labels_out)),
                old.bodies + (index in owners),
                0,
                old.models + any(like_a_model(text) for _, text in texts),
                old.branches + (index in branching),
                old.amid + bool(mine & targets[number] and mine & sources[number]),
                old.answers + answers,
                old.lent + bool(mine & lenders[number]),
            )
    # A prompt stands in the same field of most steps of an operation; what a person remarked stands in a few.
    return {name: made._replace(prompts=max(prose[name].values(), default=0)) for name, made in result.items()}


def _lenders(joins: Joins, number: int) -> set[str]:
    """The steps of a flow of which all links leave by outlets that are called what helpers are."""
    outlets: dict[str, set[bool]] = {}
    for pair in joins.pairs:
        if pair.sample == number:
            outlets.setdefault(pair.source, set()).add(
                bool(pair.outlet) and word_fits(words_of(pair.outlet), HELPER_WORDS)
            )
    return {name for name, helping in outlets.items() if helping == {True}}


def _labels_of_pointers(joins: Joins, raw: dict[str, Any]) -> set[str]:
    """What the records of a step say that each name a step to come, where there are several."""
    paths = [path for path in (joins.at, *joins.more) if STAR in path] if joins.way == "pointers" else []
    return {text for path in paths for text in _texts_beside(raw, path) if len(text) < _LABEL}


def _texts_beside(raw: dict[str, Any], path: Path) -> list[str]:
    """The texts of records that stand together, but for those at a path; none of a record alone."""
    first = path.index(STAR)
    entries = [entry for entry in values_at(raw, (*path[:first], STAR)) if type(entry) is dict]
    leaves = [leaf for entry in entries for leaf in find_leaves(entry, depth=2)] if len(entries) > 1 else []
    return [value for at, value in leaves if type(value) is str and at != path[first + 1 :]]


def _ends_of_joins(found: Found, joins: Joins) -> tuple[list[set[str]], list[dict[str, set[str]]]]:
    targets: list[set[str]] = [set() for _ in found.samples]
    outlets: list[dict[str, set[str]]] = [{} for _ in found.samples]
    for pair in joins.pairs:
        if not word_fits(words_of(pair.outlet), HELPER_WORDS):
            targets[pair.sample].add(pair.target)
        if pair.outlet and not word_fits(words_of(pair.outlet), ERROR_WORDS):
            outlets[pair.sample].setdefault(pair.source, set()).add(pair.outlet)
    return targets, outlets


def _labels_of_steps(identity: Identity, number: int) -> dict[int, set[str]]:
    labels: dict[int, set[str]] = {}
    for table in (identity.ids[number], identity.names[number]):
        for name, index in table.items():
            labels.setdefault(index, set()).add(name)
    return labels


def _like_a_prompt(text: str) -> bool:
    return len(text) > 40 and reads_like_prose(text)


def like_a_model(text: str) -> bool:
    """Whether a text looks like the name of a model: a word with a number behind a sign."""
    return bool(MODEL.match(text)) and any(map(str.isdigit, text)) and any(sign in text for sign in "-._/:@")


def _texts_of_step(raw: dict[str, Any], steps: set[int]) -> list[tuple[Path, str]]:
    """The texts of a step with their paths, without those of steps in it."""
    found: list[tuple[Path, str]] = []
    stack: list[tuple[Path, Any]] = [((key,), value) for key, value in raw.items()]
    while stack:
        path, value = stack.pop()
        if type(value) is str:
            found.append((path, value))
        elif id(value) not in steps and type(value) is dict:
            stack += [((*path, key), item) for key, item in value.items()]
        elif type(value) is list:
            stack += [((*path, STAR), item) for item in value]
    return found


def judge_operations(found: Found, identity: Identity, joins: Joins, apart: bool = False) -> dict[str, Verdict]:
    """What every operation is taken for; ``apart``: the triggers of all flows stand apart from the steps."""
    seen = operation_contexts(found, identity, joins)
    return {operation: _judge_operation(operation, context, joins, apart) for operation, context in seen.items()}


def _judge_operation(operation: str, c: Context, joins: Joins, apart: bool) -> Verdict:
    scores = {guess.hint: guess.score for guess in guess_kinds(operation)}
    words = dict(scores)
    rooted = c.roots / c.steps
    _weigh_starts(joins, apart, scores, rooted)
    if c.bodies:
        _weigh_bodies(c, scores)
    if c.lent >= 0.9 * c.steps:  # what lends itself to an agent begins no flow
        scores = {hint: score for hint, score in scores.items() if not hint.startswith("on:")}
    if c.amid >= 0.3 * c.steps:
        scores.pop("note", None)  # what a run goes through is no remark
    if c.answers >= 0.5 * c.steps and scores.pop("parallel", 0.0):
        scores["decide"] = scores.get("decide", 0.0) + 2.5  # one of several answers is no way beside the others
    if c.parts_ways:
        scores["decide"] = scores.get("decide", 0.0) + 1.5
    if c.prompts >= 0.6 * c.steps and c.models >= 0.5 * c.steps:
        _weigh_prompts(scores)
    elif not c.models:
        if c.prompts >= 0.6 * c.steps and "agent" in scores:
            scores["agent"] += 2.5  # its model may be a step of its own
        for hint in ("model", "agent", "embed"):
            if not c.prompts or scores.get(hint, 3.0) < 3:
                scores.pop(hint, None)  # a trade word alone makes no model call
    made = _best_verdict(operation, scores)
    return made._replace(evidence=_evidence_for(made.hint, words, scores, c))


def _evidence_for(hint: str, words: dict[str, float], scores: dict[str, float], c: Context) -> dict[str, float]:
    """What speaks for a kind: the words of the operation, how far it is ahead of the next, what its steps hold."""
    best, second = scores.get(hint, 0.0), max((score for name, score in scores.items() if name != hint), default=0.0)
    model = hint in ("model", "agent")
    return {
        "words": min(1.0, words.get(hint, 0.0) / 5),
        "ahead": max(0.0, (best - second) / best) if best > 0 else 0.0,
        "prompts": (c.prompts / c.steps) * (c.models / c.steps) if model else 0.0,
        "outlets": float(hint == "decide" and (c.parts_ways or c.branches > 0)),
        "body": c.bodies / c.steps if hint in ("loop", "group", "guard", "parallel") else 0.0,
        "often": min(1.0, c.steps / 6),
    }


def _weigh_starts(joins: Joins, apart: bool, scores: dict[str, float], rooted: float) -> None:
    """A trigger begins flows; what stands amid them is none."""
    for hint in list(scores):
        if hint.startswith("on:"):
            if apart and scores[hint] < 8:
                scores[hint] -= 6
            elif rooted >= 0.9:
                scores[hint] += 1.5
            elif rooted < 0.5:
                scores[hint] -= 6
        elif rooted >= 0.9 and joins.way != "order" and hint not in HELPERS:
            scores[hint] -= 0.5


def _weigh_bodies(c: Context, scores: dict[str, float]) -> None:
    """What holds steps is a scope rather than a call."""
    for hint in ("loop", "parallel", "guard", "decide", "group", "agent"):
        if hint in scores:
            scores[hint] += 2.5
    scoped = set(scores) & {"loop", "parallel", "guard", "decide", "group", "agent"}
    for hint in ("read", "write", "send", "http", "shape", "code"):
        if hint in scores and scoped and c.bodies >= 0.6 * c.steps:
            scores[hint] -= 1.0
    if not scores and c.branches >= 0.6 * c.steps:
        scores["decide"] = 2.0
    elif not scores and c.bodies == c.steps > 1:
        scores["group"] = 1.2


def _weigh_prompts(scores: dict[str, float]) -> None:
    for hint in ("model", "agent"):
        if hint in scores:
            scores[hint] += 2.5
    if not scores:
        scores["model"] = 2.0
    if "model" in scores or "agent" in scores:
        for hint in ("send", "write", "read", "shape", "http"):
            if hint in scores:
                scores[hint] -= 1.0


def _best_verdict(operation: str, scores: dict[str, float]) -> Verdict:
    ranked = sorted(
        (Guess(name, share) for name, share in scores.items() if share > 0), key=lambda g: (-g.score, g.hint)
    )
    if not ranked or ranked[0].score < 0.7:
        return Verdict(operation, "other", 0.0, tuple(guess.hint for guess in ranked[:3]))
    best = ranked[0]
    second = ranked[1].score if len(ranked) > 1 else 0.0
    sure = min(0.98, 0.45 + 0.09 * best.score + 0.25 * (best.score - second) / best.score)
    return Verdict(operation, best.hint, round(sure, 2), tuple(guess.hint for guess in ranked[1:3]))


def structural_triggers(
    made: dict[str, Verdict], seen: dict[str, Context], found: Found, joins: Joins, apart: bool
) -> dict[str, Verdict]:
    """Operations that only ever begin flows that nothing else sets off are triggers, unless their words are sure."""
    if apart:
        return made
    if joins.way == "order":
        return _first_operations(made, seen, found)
    result = dict(made)
    for sample in found.samples:
        operations = [as_text(value_at(sight.raw, found.operation)) for sight in sample.steps]
        if any(made[name].trigger for name in operations):
            continue
        for operation in operations:
            _trigger_by_place(made, seen, operation, result)
    return result


def _first_operations(made: dict[str, Verdict], seen: dict[str, Context], found: Found) -> dict[str, Verdict]:
    """Where steps run as they stand: operations that only ever come first are triggers if that holds for every flow."""
    firsts = [as_text(value_at(sample.steps[0].raw, found.operation)) for sample in found.samples if sample.steps]
    alone = all(seen[name].roots == seen[name].steps for name in firsts)
    if len(firsts) < _LEAST_FLOWS or not alone or any(verdict.trigger for verdict in made.values()):
        return made
    result = dict(made)
    for operation in firsts:
        _trigger_by_place(made, seen, operation, result)
    return result


def _trigger_by_place(
    made: dict[str, Verdict], seen: dict[str, Context], operation: str, result: dict[str, Verdict]
) -> None:
    verdict, context = made[operation], seen[operation]
    hint = next((guess.hint for guess in guess_kinds(operation) if guess.trigger is not None), "")
    unsure = verdict.hint == "other" or verdict.sure < 0.6 or bool(hint)
    if context.roots == context.steps and verdict.hint not in HELPERS and unsure:
        result[operation] = Verdict(operation, hint or "on:event", 0.4, (verdict.hint, *verdict.near), not hint)

# What a proposal asks instead of asserting: the likeliest answers with an example of the values, and what each answer changes in the
# dialect. The questions that most hangs on come first.
"""Questions about a proposed dialect, and their answers."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from functools import partial
from typing import get_args

from msgspec import structs

from zeitbuch.core.model.records import StepKind, TriggerKind
from zeitbuch.core.model.words import count_words
from zeitbuch.readers.dialects.link_rules import LinkRule, OrderRule, OutletRule, PointerRule
from zeitbuch.readers.dialects.paths import as_text
from zeitbuch.readers.dialects.rules import Dialect, KindRule

from .claims import Claim
from .evidence import Evidence, literal_pattern, pattern_of
from .fields import Column, find_columns
from .link_tables import order_rule
from .question_records import Answer, Change, Question, keep_same, no_other
from .state_questions import about_condition, about_rounds, about_state, about_switch
from .time_questions import UnitQuestion, unit_questions
from .topic_questions import about_topics
from .value_kinds import kinds_by_values, shown_values
from .vocabulary import effect_of, guess_kinds, modality_of

KIND_QUESTION = "kind "  # how the ids of questions about an operation begin
TRIGGER_QUESTION = "trigger "  # and about what sets a flow off
_MOST_ANSWERS = 3
_TRIGGERS = ("manual", "event", "webhook", "form", "schedule", "polling")
# Kinds that cost money or act outside.
_HEAVY = frozenset({"model", "agent", "send", "delete", "write", "http", "tool"})


def questions_about(e: Evidence, dialect: Dialect) -> list[Question]:
    """All questions, what most hangs on first."""
    claims = {(claim.part, claim.of): claim for claim in e.claims}
    found = [
        *_about_links(e, claims),
        *about_state(e, dialect, claims),
        *about_switch(e),
        *about_condition(e),
        *about_rounds(e),
        *_about_kinds(e, claims),
        *_about_triggers(e, dialect, claims),
        *[_about_time(one) for one in unit_questions(e)],
    ]
    return sorted(found, key=lambda question: -question.weight)


def answer_word(question: Question, said: str) -> str | None:
    """The word of an answer given by number, word or as the owner's own; None when it cannot be used."""
    said = said.strip()
    for number, one in enumerate(question.answers, 1):
        if said in (str(number), one.word):
            return one.word
    return said if question.other(said) is not None else None


def apply_answers(dialect: Dialect, questions: Sequence[Question], answers: Mapping[str, str]) -> Dialect:
    """The dialect changed by answers (words by the id of the question)."""
    for question in questions:
        word = answers.get(question.id)
        if word is not None:
            change = next((one.change for one in question.answers if one.word == word), None) or question.other(word)
            dialect = change(dialect) if change is not None else dialect
    return dialect


# -- links ----------------------------------------------------------------------------------------------------------------


def _orders(e: Evidence) -> tuple[Answer, ...]:
    """How steps may run that nothing links; those that stand in several lists of a flow in two ways."""
    none = Answer(
        "none", "no: they are not linked in these files", lambda dialect: structs.replace(dialect, order=None)
    )
    if not order_rule(e).groups:
        return Answer("order", "yes, one after the other", keep_same), none
    in_turn = Answer("turns", "yes, one after the other", lambda dialect: structs.replace(dialect, order=OrderRule()))
    return Answer("order", "list by list, those of one list side by side", keep_same), in_turn, none


def _about_links(e: Evidence, claims: dict[tuple[str, str], Claim]) -> list[Question]:
    claim = claims[("links", "")]
    joins = e.joins
    if not claim.is_asked and joins.direction > 0:
        return []
    if joins.way == "order":
        if e.holds_steps or e.numbering:
            return []
        if e.topics is not None:
            return [about_topics(e, e.topics)]
        text = "Nothing links the steps. Do they run in the order in which they stand?"
        return [Question("links", text, _first_titles(e), _orders(e), e.total, no_other)]
    join = joins.pairs[0]
    first, second = _title_of(e, join.sample, join.source), _title_of(e, join.sample, join.target)
    answers = (
        Answer("forward", f"'{first}' runs before '{second}'", keep_same),
        Answer("back", f"'{second}' runs before '{first}'", turn_links),
    )
    return [Question("links", "Which of two linked steps runs first?", claim.words, answers, e.total, no_other)]


def _title_of(e: Evidence, sample: int, name: str) -> str:
    index = e.identity.ids[sample].get(name, e.identity.names[sample].get(name))
    if index is None:
        return name
    from .identity import value_of

    return value_of(e.found.samples[sample].steps[index], e.identity.name) or name


def _first_titles(e: Evidence) -> str:
    from .identity import value_of

    titles = [value_of(sight, e.identity.name) or sight.key for sight in e.found.samples[0].steps[:3]]
    return ", then ".join(f"'{title}'" for title in titles)


def turn_links(dialect: Dialect) -> Dialect:
    """The same links the other way round."""
    pointers = [
        structs.replace(rule, reversed=not rule.reversed) if rule.role is None else rule for rule in dialect.pointer
    ]
    outlets = list(dialect.outlet)
    before = dialect.predecessors
    if before is not None:
        pointers.append(PointerRule(at=before.at, target=before.source, via=before.outcome))
        failures = [(word, outcome) for word, outcome in before.outcomes.items() if outcome != "success"]
        outlets += [
            OutletRule(match=literal_pattern(word), role="error", label=word, after=[outcome])
            for word, outcome in failures
        ]
    links = [structs.replace(rule, source=rule.target, target=rule.source) for rule in dialect.links]
    tables = [structs.replace(rule, reversed=not rule.reversed) for rule in dialect.adjacencies]
    return structs.replace(
        dialect,
        pointer=pointers,
        outlet=outlets,
        predecessors=None,
        link=_one_or_all(links),
        adjacency=tables[0] if len(tables) == 1 else tables or None,
    )


def _one_or_all(links: list[LinkRule]) -> LinkRule | list[LinkRule] | None:
    return links[0] if len(links) == 1 else links or None


# -- kinds ----------------------------------------------------------------------------------------------------------------


def _about_kinds(e: Evidence, claims: dict[tuple[str, str], Claim]) -> list[Question]:
    found: list[Question] = []
    shared = e.others_fields
    count = Counter(e.step_operation(sight.raw) for sample in e.found.samples for sight in sample.steps)
    for operation, verdict in e.verdicts.items():
        claim = claims.get(("kind", operation))
        if verdict.trigger or (claim is not None and not claim.is_asked):
            continue
        columns = e.columns_of(operation, shared)
        kinds = _likely_kinds(operation, verdict.near, columns, claim)
        kinds = [kind for kind in kinds if kind != "note" or not e.contexts[operation].amid][:_MOST_ANSWERS]
        answers = tuple(Answer(kind, _KIND_MEANINGS.get(kind, ""), _kind_change(operation, kind)) for kind in kinds)
        weight = count[operation] * (2 if _HEAVY & set(kinds[:1]) else 1)
        title = _example_title(e, operation)
        text = f"What does '{operation}' do ({count_words(count[operation], 'step')}, such as '{title}')?"

        found.append(
            Question(
                KIND_QUESTION + operation,
                text,
                shown_values(columns),
                answers,
                weight,
                partial(_other_kind, operation),
                _OTHER_KINDS,
            )
        )
    return found


def _other_kind(operation: str, said: str) -> Change | None:
    """The change for an answer of the owner's own."""
    if said in get_args(StepKind):
        return _kind_change(operation, said)
    return _trigger_change(operation, said) if said in get_args(TriggerKind) else None


def unasked_question(operation: str) -> Question:
    """What may be answered of an operation that is not asked about: an owner knows better."""
    return Question(KIND_QUESTION + operation, "", "", (), 0.0, partial(_other_kind, operation), _OTHER_KINDS)


_OTHER_KINDS = "kind of step or trigger"
_KIND_MEANINGS = {
    "model": "ask a model", "agent": "let a model choose what to do", "http": "call an address", "send": "send a message", "read": "look something up",
    "write": "store or change something", "delete": "delete something", "code": "run code", "shape": "reshape data", "wait": "wait",
    "approve": "ask a person", "decide": "choose a way", "loop": "repeat for each item", "subflow": "run another flow", "end": "end the flow",
    "group": "hold other steps together", "guard": "catch failures", "tool": "use a tool", "memory": "keep a conversation", "retrieve": "search in texts",
    "embed": "make vectors of texts",
}  # fmt: skip


def _likely_kinds(
    operation: str, near: Sequence[str], columns: dict[tuple[str, ...], Column], claim: Claim | None
) -> list[str]:
    words = [guess.hint for guess in guess_kinds(operation) if guess.kind is not None]
    named = [claim.words] if claim is not None else []
    given = [*named, *words, *[kind for kind in near if not kind.startswith("on:")], *kinds_by_values(columns)]
    return list(dict.fromkeys([*given, "read", "write", "send"]))


def _example_title(e: Evidence, operation: str) -> str:
    from .identity import value_of

    sights = (sight for sample in e.found.samples for sight in sample.steps if e.step_operation(sight.raw) == operation)
    return next((value_of(sight, e.identity.name) or sight.key for sight in sights), operation)


def _kind_change(operation: str, kind: str) -> Change:
    def change(dialect: Dialect) -> Dialect:
        pattern = literal_pattern(operation)
        step_kind: StepKind = kind  # type: ignore[assignment]
        old = next((rule for rule in dialect.kind if rule.operation == pattern), KindRule(operation=pattern))
        modality = modality_of(operation) if kind in ("model", "embed") else "text"
        made = structs.replace(
            old, kind=step_kind, trigger=None, effect=effect_of(step_kind, operation), modality=modality
        )
        return structs.replace(dialect, kind=[*[rule for rule in dialect.kind if rule.operation != pattern], made])

    return change


# -- triggers -------------------------------------------------------------------------------------------------------------


def _about_triggers(e: Evidence, dialect: Dialect, claims: dict[tuple[str, str], Claim]) -> list[Question]:
    rules = {pattern_of(rule): rule for rule in dialect.kind if rule.trigger}
    found: list[Question] = []
    for (part, operation), claim in claims.items():
        rule = rules.get(literal_pattern(operation))
        if rule is None or not claim.is_asked:
            continue
        if part == "trigger kind":
            found.append(_about_trigger(e, operation, claim))
    return found


def _about_trigger(e: Evidence, operation: str, claim: Claim) -> Question:
    columns = _columns_of_trigger(e, operation)
    kinds = list(dict.fromkeys([claim.words, *_timed_kinds(columns), *_TRIGGERS]))[:_MOST_ANSWERS]
    answers = tuple(Answer(kind, _TRIGGER_MEANINGS[kind], _trigger_change(operation, kind)) for kind in kinds)

    def other(said: str) -> Change | None:
        return _trigger_change(operation, said) if said in get_args(TriggerKind) else None

    text = f"What sets a flow off that begins with '{operation}'?" if operation else "What sets these flows off?"
    weight = 2.0 + len(e.found.samples)
    return Question(
        TRIGGER_QUESTION + operation, text, shown_values(columns), answers, weight, other, "kind of trigger"
    )


def _about_time(one: UnitQuestion) -> Question:
    answers = tuple(Answer(*answer) for answer in one.answers)
    return Question(one.id, one.text, one.example, answers, one.weight, no_other)


_TRIGGER_MEANINGS = {
    "manual": "a person starts it", "event": "something happens elsewhere", "webhook": "a call from outside", "form": "a form is sent in",
    "schedule": "the clock", "polling": "a place is looked at again and again", "chat": "a message in a chat", "call": "another flow calls it",
    "fault": "another flow fails", "tool-call": "a model uses it as a tool",
}  # fmt: skip


def _columns_of_trigger(e: Evidence, operation: str) -> dict[tuple[str, ...], Column]:
    shared = e.others_fields
    if e.starts is None:
        base, _, key = operation.rpartition("/")
        if operation in e.verdicts or base not in e.verdicts:
            return e.columns_of(operation, shared)
        return {path: column for path, column in e.columns_of(base, shared).items() if key in path}
    from .starts import operation_of
    from .survey import find_leaves

    taken = {e.starts.operation, e.starts.id, e.starts.name, e.starts.starts, ("@key",)}
    records = [row for _, row in e.starts.records if operation_of(e.starts, row) == operation]
    columns, _ = find_columns(
        [(path, value) for path, value in find_leaves(row) if path not in taken | shared] for row in records
    )
    return columns


def _timed_kinds(columns: dict[tuple[str, ...], Column]) -> tuple[str, ...]:
    """Kinds of triggers that run by the clock, where a number may be how often: with a place to look at, it is looked at."""
    numbers = [
        path for path, column in columns.items() if all(type(value) is int and value > 0 for value in column.values)
    ]
    if not numbers:
        return ()
    return ("polling", "schedule") if len(columns) > len(numbers) else ("schedule", "polling")


def _trigger_change(operation: str, kind: str) -> Change:
    def change(dialect: Dialect) -> Dialect:
        trigger: TriggerKind = kind  # type: ignore[assignment]
        pattern = literal_pattern(operation)
        kinds = [
            structs.replace(rule, trigger=trigger) if pattern_of(rule) == pattern else rule for rule in dialect.kind
        ]
        return structs.replace(dialect, kind=kinds)

    return change


def question_lines(number: int, question: Question) -> list[str]:
    """A question as lines to read: what is asked, an example of the values, the answers by number."""
    lines = [f"{number}. {question.text}"]
    if question.example:
        lines.append(f"   for example: {as_text(question.example)}")
    for place, answer in enumerate(question.answers, 1):
        lines.append(f"   {place}  {answer.word:<8} {answer.meaning}".rstrip())
    return lines

# Rules for steps that name the steps after them or before them.
"""Proposing rules for pointers and predecessors."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from typing import Any

from zeitbuch.readers.dialects.link_rules import PointerRule, PredecessorRule
from zeitbuch.readers.dialects.paths import as_text

from .kinds import ERROR_WORDS, FAULT_WORDS, HELPER_WORDS, HELPERS, NEXT_WORDS, PLAIN_WORDS
from .loop_ways import BODY_WORDS
from .parts import Branching, judge_fields, operator_like
from .survey import STAR, Path, dotted_path, find_leaves, value_at, values_at
from .vocabulary import word_fits, words_of

# Words for what one who answers gives to a colleague.
_HANDING = "handoff* handover* hands-off hand-off hand-over transfer* delegat* escalat* ubergabe* uebergabe* weitergabe* traspas* trasferi*"
_AI = ("agent", "model")


def pointer_rules(b: Branching) -> list[PointerRule]:
    """The rules for pointers within steps."""
    rules: list[PointerRule] = []
    known = [{**mapping, **table} for mapping, table in zip(b.identity.names, b.identity.ids, strict=True)]
    for path in (b.joins.at, *b.joins.more):
        _pointer_rule(b, path, known, rules)
    return rules


def _pointer_rule(b: Branching, path: Path, known: list[dict[str, int]], rules: list[PointerRule]) -> None:
    bare = path
    while bare and bare[-1] == STAR:
        bare = bare[:-1]
    attach, outlet, role = _role_of_pointers(b, known, bare)
    if STAR not in bare:
        rules.append(PointerRule(at=dotted_path(bare), outlet=outlet, role=role, reversed=attach))
        return
    first = bare.index(STAR)
    outer, rest = bare[:first], bare[first + 1 :]
    entries = _entries_at(b, outer)
    outcomes = _outcome_path(entries, rest)
    parts = judge_fields(entries, set(), {rest, outcomes})
    rules.append(
        PointerRule(
            at=dotted_path(outer),
            target=dotted_path(rest),
            via=dotted_path(outcomes),
            label=dotted_path(parts.get("label", ())),
            condition=dotted_path(parts.get("condition", ())),
            outlet=outlet,
            role=role,
            reversed=attach,
        )
    )


def _role_of_pointers(b: Branching, known: list[dict[str, int]], bare: Path) -> tuple[bool, str, Any]:
    pairs = [join for join in b.joins.pairs if _rule_under(join.source, join.target, bare, b, known)]
    hints = [
        (_hint_for(b, known, join.sample, join.source), _hint_for(b, known, join.sample, join.target)) for join in pairs
    ]
    if _lends(hints, words_of(bare[-1])):
        return True, "", "attach"
    words = tuple(word for key in bare for word in words_of(key) if key != STAR)
    if _names_answer(hints, bare):
        return False, bare[-1], "case"
    outlet = bare[-1] if word_fits(words, ERROR_WORDS) else ""
    return False, outlet, _role_by_word(hints, words_of(bare[-1])) or ("error" if outlet else None)


Hints = list[tuple[str, str]]  # what is known of the step that names another, and of the other


def _lends(hints: Hints, words: tuple[str, ...]) -> bool:
    """Whether agents name their helpers, or anything under a word for these."""
    helping = _are_mostly(hints, lambda first, second: first == "agent" and second in HELPERS)
    return helping or (_are_mostly(hints, lambda first, _: first == "agent") and word_fits(words, HELPER_WORDS))


def _names_answer(hints: Hints, bare: Path) -> bool:
    """Whether a field names the step behind one of the answers of people, or one of the ways of decisions: "rejected", "else"."""
    asked = _are_mostly(hints, lambda first, _: first in ("approve", "decide"))
    return asked and STAR not in bare and not word_fits(words_of(bare[-1]), f"{NEXT_WORDS} {FAULT_WORDS}")


def _role_by_word(hints: Hints, words: tuple[str, ...]) -> Any:
    """The role of pointers that their word tells, for steps that may have such; None where it does not."""
    roles: tuple[tuple[str, str, Callable[[str, str], bool]], ...] = (
        ("attach", HELPER_WORDS, lambda first, second: first in HELPERS and second == "agent"),
        ("body", BODY_WORDS, lambda first, _: first == "loop"),
        ("case", _HANDING, lambda first, _: first in _AI),  # to one of them
    )
    return next((role for role, known, fits in roles if word_fits(words, known) and _are_mostly(hints, fits)), None)


def _are_mostly(hints: list[tuple[str, str]], fits: Callable[[str, str], bool]) -> bool:
    return bool(hints) and sum(fits(first, second) for first, second in hints) >= 0.8 * len(hints)


def _entries_at(b: Branching, outer: Path) -> list[dict[Any, Any]]:
    return [
        entry
        for sample in b.found.samples
        for sight in sample.steps
        for entry in values_at(sight.raw, (*outer, STAR))
        if type(entry) is dict
    ]


def predecessor_rule(b: Branching, outcome: Callable[[str], Any]) -> PredecessorRule:
    """The rule for steps that name the steps before them; ``outcome`` judges a word for an outcome."""
    joins = b.joins
    at_ = joins.at if STAR in joins.at else (*joins.at, STAR, *_named_within(b, joins.at))
    if at_[-1] == STAR:
        words = {name for join in joins.pairs for name in join.outlet.replace("/", ",").split(",") if name}
        return PredecessorRule(at=dotted_path(joins.at), outcomes={word: outcome(word) for word in sorted(words)})
    first = at_.index(STAR)
    outer, rest = at_[:first], at_[first + 1 :]
    entries = _entries_at(b, outer)
    judged = _condition_path(entries, rest, b)
    named = _outcome_path(entries, rest, judged)
    words = {as_text(value_at(mapping, named)) for mapping in entries} - {""} if named else set()
    return PredecessorRule(
        at=dotted_path(outer),
        source=dotted_path(rest),
        outcome=dotted_path(named),
        outcomes={word: outcome(word) for word in sorted(words)},
        condition=dotted_path(judged),
    )


def _condition_path(entries: list[dict[str, Any]], target: Path, b: Branching) -> Path:
    """The field of such records that says when: conditions, or values of steps."""
    steps = set().union(*b.identity.ids, *b.identity.names)
    columns = _texts_beside(entries, target)
    return next((path for path, texts in columns.items() if all(_is_judged(text, steps) for text in texts)), ())


def _is_judged(text: str, steps: set[str]) -> bool:
    """Whether a text is a condition: a comparison, or what a step has given."""
    return operator_like(text) or ("." in text and text.partition(".")[0] in steps)


def _texts_beside(entries: list[dict[str, Any]], target: Path) -> dict[Path, list[str]]:
    columns: dict[Path, list[str]] = {}
    for entry in entries:
        for path, value in find_leaves(entry, depth=2):
            if type(value) is str and STAR not in path and path != target:
                columns.setdefault(path, []).append(value)
    return columns


def _named_within(b: Branching, where: Path) -> Path:
    """The field that names a step in the objects of a list that mostly holds bare names."""
    count: Counter[Path] = Counter()
    for number, sample in enumerate(b.found.samples):
        known = {**b.identity.names[number], **b.identity.ids[number]}
        for sight in sample.steps:
            value = value_at(sight.raw, where)
            for entry in value if type(value) is list else ():
                if type(entry) is dict:
                    count.update(
                        pair
                        for pair, value in find_leaves(entry, depth=2)
                        if STAR not in pair and as_text(value) in known
                    )
    return count.most_common(1)[0][0] if count else ()


def _outcome_path(entries: list[dict[str, Any]], target: Path, judged: Path = ()) -> Path:
    """The field of pointer records that repeats a few words for outcomes; not that of their conditions (``judged``)."""
    rated: list[tuple[float, Path]] = []
    for path, values in _texts_beside(entries, target).items():
        if path == judged or sum(operator_like(value) for value in values) > 0.5 * len(values):
            continue
        known = sum(
            word_fits(words_of(value), f"{ERROR_WORDS} {PLAIN_WORDS} {HELPER_WORDS}") for value in values
        ) / len(values)
        repeats = 1 - len(set(values)) / len(values)
        rated.append((known + 0.5 * repeats, path))
    best = max(rated, default=(0.0, ()))
    return best[1] if best[0] >= 0.3 else ()


def _rule_under(source: str, target: str, bare: Path, b: Branching, known: list[dict[str, int]]) -> bool:
    for number, sample in enumerate(b.found.samples):
        index = known[number].get(source)
        if index is not None and any(
            as_text(value) == target for value in _flatten(values_at(sample.steps[index].raw, bare))
        ):
            return True
    return False


def _flatten(values: Any) -> list[Any]:
    found: list[Any] = []
    stack = list(values)
    while stack:
        value = stack.pop()
        if type(value) is list:
            stack += value
        elif type(value) is dict:
            stack += value.values()
        else:
            found.append(value)
    return found


def _hint_for(b: Branching, known: list[dict[str, int]], sample: int, name: str) -> str:
    index = known[sample].get(name)
    return b.hint_for(b.found.samples[sample].steps[index].raw) if index is not None else ""

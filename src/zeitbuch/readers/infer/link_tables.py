# The tables of a dialect for how steps hang together, from what was found.
"""Rules for links of a proposed dialect."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

from zeitbuch.core.model.records import LinkRole
from zeitbuch.readers.dialects.link_rules import (
    AdjacencyRule,
    LinkRule,
    OrderRule,
    OutletRule,
    PointerRule,
    PredecessorRule,
)
from zeitbuch.readers.dialects.rules import TreeRule

from .evidence import Evidence, literal_pattern
from .join_index import Joins
from .kinds import ERROR_WORDS, PLAIN_WORDS
from .parts import Branching, hold_rules
from .pointer_rules import pointer_rules, predecessor_rule
from .survey import STAR, Path, dotted_path, json_path
from .vocabulary import word_fits, words_of

R = TypeVar("R")


def link_tables(e: Evidence, branching: Branching, helpers: Callable[[], list[PointerRule]]) -> dict[str, Any]:
    """The tables for links, by their keys in a dialect; ``helpers`` finds pointers to the helpers of agents."""
    joins = e.joins
    made: dict[str, Any] = {"holds": hold_rules(branching)}
    if joins.way == "records":
        made["link"] = _one_or_all([_link_rule(each) for each in (joins, *joins.also)])
        made["pointer"] = helpers()
    elif joins.way == "adjacency":
        made["adjacency"] = _one_or_all([_adjacency_rule(each) for each in (joins, *joins.also)])
        made["pointer"] = helpers()
    elif joins.way == "pointers":
        made["pointer"] = pointer_rules(branching)
        _claim_choices(e, made["pointer"])
    elif joins.way == "predecessors":
        made |= _predecessor_tables(predecessor_rule(branching, _outcome_of_word))
        made["pointer"] = [*made.get("pointer", []), *helpers()]
    elif made["holds"]:
        made["tree"] = TreeRule()
    elif e.topics is not None:
        made["pointer"] = [PointerRule(at=dotted_path(e.topics.gives), meets=dotted_path(e.topics.takes))]
    else:
        made["order"] = order_rule(e)
    return made


def _claim_choices(e: Evidence, rules: list[PointerRule]) -> None:
    chosen = [f"'{rule.at}'" for rule in rules if rule.role == "case"]
    if chosen:
        e.add_claim("choices", f"of those named at {', '.join(chosen)} one is chosen each time", {})


def order_rule(e: Evidence) -> OrderRule:
    """Steps run in the order in which they stand, list by list."""
    steps_at = e.found.steps_at
    stars = [place for place, part in enumerate(steps_at[:-1]) if part == STAR]
    if e.numbering:
        return OrderRule(by=dotted_path(e.numbering))
    return OrderRule(groups=json_path(steps_at[: stars[-1] + 1]) if stars else None)


def _predecessor_tables(rule: PredecessorRule) -> dict[str, Any]:
    """The table for predecessors. Where they are named with ways out of a decision, they are pointers the other way round."""
    if not rule.outcome or not any(_is_way(word) for word in rule.outcomes):
        return {"predecessors": rule}
    outlets = [
        OutletRule(match=literal_pattern(word), role="error", label=word, after=[outcome])
        for word, outcome in rule.outcomes.items()
        if outcome != "success"
    ]
    return {
        "pointer": [PointerRule(at=rule.at, target=rule.source, via=rule.outcome, reversed=True)],
        "outlet": outlets,
    }


def _is_way(word: str) -> bool:
    """Whether a word is no outcome of a step, but one of its ways."""
    return _outcome_of_word(word) == "success" and not word_fits(words_of(word), PLAIN_WORDS)


def _one_or_all(rules: list[R]) -> R | list[R]:
    return rules[0] if len(rules) == 1 else rules


def _link_rule(joins: Joins) -> LinkRule:
    return LinkRule(
        at=json_path(joins.at), source=dotted_path(joins.source), target=dotted_path(joins.target), outlet=_paths_in_turn(joins.outlets),
        label=dotted_path(joins.label), condition=dotted_path(joins.condition), by=joins.by, role=_role_of_list(joins),
    )  # fmt: skip


def _paths_in_turn(paths: tuple[Path, ...]) -> str | list[str]:
    spelled = [dotted_path(path) for path in paths]
    return spelled if len(spelled) > 1 else "".join(spelled)


def _adjacency_rule(joins: Joins) -> AdjacencyRule:
    return AdjacencyRule(at=json_path(joins.at), target=dotted_path(joins.target), role=_role_of_list(joins))


def _role_of_list(joins: Joins) -> LinkRole | None:
    """What a list of links means as a whole, by its key; None when the outlets say it."""
    key = next((part for part in reversed(joins.at) if part != STAR), "")
    return "error" if word_fits(words_of(key), ERROR_WORDS) else None


def _outcome_of_word(word: str) -> str:
    words = words_of(word)
    if word_fits(words, "timeout timed* late zeituber* expire* deadline over-time overdue tidsavbr*"):
        return "timeout"
    if word_fits(words, "skip* ubersprung* uebersprung* pass* omit* saut* omitido hopp* overgeslagen saltat* bypass*"):
        return "skip"
    return "failure" if word_fits(words, ERROR_WORDS) else "success"

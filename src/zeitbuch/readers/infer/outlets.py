# What the names of ways out mean: failures, helpers, the rounds of loops; those of decisions are cases.
"""Finding what outlets mean."""

from __future__ import annotations

from collections import Counter
from typing import NamedTuple

from zeitbuch.readers.dialects.paths import as_text

from .choices import outlets_of_choices
from .identity import Identity
from .join_index import Joins
from .kinds import ERROR_WORDS, FAULT_WORDS, HELPER_WORDS, HELPERS, PLAIN_WORDS, Verdict
from .loop_ways import ways_into_loops
from .steps import Found
from .survey import value_at
from .vocabulary import word_fits, words_of


class Outlet(NamedTuple):
    """What an outlet means."""

    role: str  # next, case, error, attach, body
    reversed: bool = False


def outlet_meanings(found: Found, identity: Identity, joins: Joins, made: dict[str, Verdict]) -> dict[str, Outlet]:
    """What the outlets of the links mean; those of decisions are cases and are left out."""
    kinds, busy = _hints_of_names(found, identity, made)
    by_outlet = _ends_by_outlet(joins, busy, kinds)
    result: dict[str, Outlet] = {}
    for outlet, ends in by_outlet.items():
        _meaning_of_outlet(outlet, result, ends)
    cases = {outlet: Outlet("case") for outlet in outlets_of_choices(joins, kinds) if outlet not in result}
    return result | cases | {outlet: Outlet("body") for outlet in ways_into_loops(joins, kinds)}


def _hints_of_names(
    found: Found, identity: Identity, made: dict[str, Verdict]
) -> tuple[list[dict[str, str]], list[Counter[str]]]:
    kinds: list[dict[str, str]] = []
    busy: list[Counter[str]] = [Counter() for _ in found.samples]
    for number, sample in enumerate(found.samples):
        table: dict[str, str] = {}
        for names in (identity.names[number], identity.ids[number]):
            for name, index in names.items():
                table[name] = made[as_text(value_at(sample.steps[index].raw, found.operation))].hint
        kinds.append(table)
    return kinds, busy


def _ends_by_outlet(
    joins: Joins, busy: list[Counter[str]], kinds: list[dict[str, str]]
) -> dict[str, list[tuple[str, str, bool]]]:
    for join in joins.pairs:
        busy[join.sample][join.source] += 1
        busy[join.sample][join.target] += 1
    by_outlet: dict[str, list[tuple[str, str, bool]]] = {}
    for join in joins.pairs:
        first, second = kinds[join.sample].get(join.source, ""), kinds[join.sample].get(join.target, "")
        by_outlet.setdefault(join.outlet, []).append(
            (first, second, busy[join.sample][join.source] == 1 or busy[join.sample][join.target] == 1)
        )
    return by_outlet


def _meaning_of_outlet(outlet: str, result: dict[str, Outlet], ends: list[tuple[str, str, bool]]) -> None:
    words = words_of(outlet)
    if outlet and word_fits(words, ERROR_WORDS):
        asked = sum(first in ("approve", "decide") for first, _, _ in ends) >= 0.8 * len(ends)
        result[outlet] = Outlet("case" if asked and not word_fits(words, FAULT_WORDS) else "error")
        return
    to_agent, from_agent = _helping_ends(ends)
    worded = bool(outlet) and word_fits(words, HELPER_WORDS)
    if (worded and to_agent + from_agent >= 0.5 * len(ends)) or (
        outlet and max(to_agent, from_agent) >= 0.9 * len(ends) and _named_helpers(ends)
    ):
        result[outlet] = Outlet("attach", reversed=from_agent > to_agent)
    elif outlet and word_fits(words, PLAIN_WORDS) and sum(first == "decide" for first, _, _ in ends) < 0.5 * len(ends):
        result[outlet] = Outlet("next")


def _helping_ends(ends: list[tuple[str, str, bool]]) -> tuple[int, int]:
    to_agent = sum(
        second in ("agent", "model") and first in (HELPERS | {"agent", "other"}) and lone
        for first, second, lone in ends
    )
    from_agent = sum(first == "agent" and second in (HELPERS | {"other"}) and lone for first, second, lone in ends)
    return to_agent, from_agent


def _named_helpers(ends: list[tuple[str, str, bool]]) -> bool:
    return sum(first in HELPERS or second in HELPERS for first, second, _ in ends) >= 0.9 * len(ends) and any(
        "agent" in (first, second) for first, second, _ in ends
    )

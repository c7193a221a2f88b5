# Steps that are no decisions and yet leave by one of several named ways: a model that says what a guest wants, a person who answers. A way
# for all else among them tells it, answers such as yes and no, or a way that leads back: taken every time, it would never end.
"""Finding the ways out of which one is chosen."""

from __future__ import annotations

from collections import Counter

from zeitbuch.core.graph.reaching import reached_from

from .join_index import Join, Joins
from .kinds import ANSWER_WORDS, ERROR_WORDS, HELPER_WORDS, PLAIN_WORDS
from .loop_ways import onward_of
from .vocabulary import word_fits, words_of

_ELSE_WORDS = "else otherwise other* any default* fallback* unknown none sonst andere* autre* sinon otro* altro* ellers anders outro* senao"
_NO_CHOICE = frozenset({"decide", "parallel", "loop", "agent", "join"})
_ALL_ELSE = "*"
_MOSTLY = 0.9
Ways = dict[tuple[int, str], dict[str, list[str]]]  # sample and step -> outlet -> where it leads


def outlets_of_choices(joins: Joins, kinds: list[dict[str, str]]) -> set[str]:
    """The outlets that are cases of steps which are no decisions by themselves. ``kinds``: what is known of the steps of each flow."""
    ways = _named_ways(joins, kinds)
    onward = [onward_of(joins, number) for number in range(len(kinds))]
    # A rule for an outlet holds for all steps: where others leave by it, of which all ways are taken, it is no case.
    leaving = {(join.sample, join.source, join.outlet) for join in joins.pairs}
    used = Counter(outlet for sample, step, outlet in leaving if kinds[sample].get(step) != "decide")
    chosen: Counter[str] = Counter()
    for (sample, step), outlets in ways.items():
        if len(outlets) > 1 and _is_choice(step, outlets, onward[sample]):
            chosen.update(outlets.keys())
    return {outlet for outlet, count in chosen.items() if count >= _MOSTLY * used[outlet]}


def _named_ways(joins: Joins, kinds: list[dict[str, str]]) -> Ways:
    found: Ways = {}
    for join in joins.pairs:
        if kinds[join.sample].get(join.source, "") not in _NO_CHOICE and _may_be_case(join):
            found.setdefault((join.sample, join.source), {}).setdefault(join.outlet, []).append(join.target)
    return found


def _may_be_case(join: Join) -> bool:
    words = words_of(join.outlet)
    return (
        bool(join.outlet)
        and not any(word_fits(words, known) for known in (ERROR_WORDS, HELPER_WORDS))
        and (not word_fits(words, PLAIN_WORDS) or word_fits(words, _ELSE_WORDS))
    )


def _is_choice(step: str, outlets: dict[str, list[str]], onward: dict[str, list[str]]) -> bool:
    words = [words_of(outlet) for outlet in outlets]
    otherwise = _ALL_ELSE in outlets or any(word_fits(each, _ELSE_WORDS) for each in words)
    answers = all(word_fits(each, ANSWER_WORDS) for each in words)
    back = [step in reached_from(targets, onward) for targets in outlets.values()]
    return otherwise or answers or (any(back) and not all(back))

# A loop that is drawn as one step with several ways out: one leads into its rounds, and what lies there comes back to it.
"""Finding the ways into the bodies of loops."""

from __future__ import annotations

from collections import Counter

from zeitbuch.core.graph.reaching import reached_from

from .join_index import Joins
from .vocabulary import word_fits, words_of

BODY_WORDS = (
    "body each every item* loop* iterat* inside inner do round* korper koerper schleife* inhalt jede* innen corps chaque boucle cuerpo cada bucle "
    "kropp hver lokke* innhold elk lus corpo ogni ciclo dentro laco"
)
_MOSTLY = 0.9


def ways_into_loops(joins: Joins, kinds: list[dict[str, str]]) -> set[str]:
    """The outlets that lead into the rounds of loops: from there, and from no other outlet of theirs, a run comes back to the loop; or,
    where none comes back, a word says so. ``kinds``: what is known of the steps of each flow, by their names."""
    ends = Counter(join.outlet for join in joins.pairs)
    loops, back = _outlets_of_loops(joins, kinds)
    own = [outlet for outlet in loops if outlet and loops[outlet] >= _MOSTLY * ends[outlet]]
    returning = {outlet for outlet in own if back[outlet] >= _MOSTLY * loops[outlet]}
    if returning and (len(returning) < len(loops) or len(loops) == 1):
        return returning
    worded = {outlet for outlet in own if word_fits(words_of(outlet), BODY_WORDS)}
    return worded if len(worded) < len(loops) else set()


def _outlets_of_loops(joins: Joins, kinds: list[dict[str, str]]) -> tuple[Counter[str], Counter[str]]:
    """How often each outlet leaves a loop, and how often a run comes back to the loop from there."""
    leaving = [onward_of(joins, number) for number in range(len(kinds))]
    of_loops = [join for join in joins.pairs if kinds[join.sample].get(join.source) == "loop"]
    back = [join for join in of_loops if join.source in reached_from([join.target], leaving[join.sample])]
    return Counter(join.outlet for join in of_loops), Counter(join.outlet for join in back)


def onward_of(joins: Joins, number: int) -> dict[str, list[str]]:
    """Where each step of a flow leads."""
    found: dict[str, list[str]] = {}
    for join in joins.pairs:
        if join.sample == number:
            found.setdefault(join.source, []).append(join.target)
    return found

# Where loops are drawn as one step with a way into their rounds and a way on, what lies on the first, and not behind the second, is in them.
"""Bodies of loops that ways out lead to."""

from __future__ import annotations

from typing import TYPE_CHECKING

from msgspec import structs

from zeitbuch.core.graph.reaching import reached_from
from zeitbuch.core.model.records import Link
from zeitbuch.readers.input.link_builder import Loose

if TYPE_CHECKING:
    from .draft import Draft

HOLDERS = ("loop", "parallel", "guard", "group")  # kinds that have a body


def put_bodies(draft: Draft) -> None:
    """Puts the steps that lie behind the body of a loop into it. Ways back to the loop begin the next round: they are no links. Where what
    lies there is reached without the loop's rounds too, the way is one like others."""
    inside = _bodies_of(draft)
    scopes: dict[str, str] = {}
    for loop in sorted(inside, key=lambda one: -len(inside[one])):  # a loop within a loop has the smaller body
        scopes |= dict.fromkeys(inside[loop], loop)
    draft.steps = [structs.replace(step, scope=scopes[step.id]) if step.id in scopes else step for step in draft.steps]
    onward = [link for link in draft.links if not _goes_back(link, inside)]
    draft.tell_loose(
        Loose(link.source, link.role, link.label, link.condition, otherwise=link.otherwise)
        for link in draft.links
        if _goes_back(link, inside)
    )
    draft.links = onward
    draft.links += [link for link in draft.bodies if link.target not in inside[link.source]]
    draft.bodies = []


def _goes_back(link: Link, inside: dict[str, set[str]]) -> bool:
    return link.role != "attach" and link.source in inside.get(link.target, ())


def _bodies_of(draft: Draft) -> dict[str, set[str]]:
    """The steps in each loop."""
    leaving: dict[str, set[str]] = {}
    for link in draft.links:
        if link.role != "attach":
            leaving.setdefault(link.source, set()).add(link.target)
    starts: dict[str, list[str]] = {}
    for link in draft.bodies:
        starts.setdefault(link.source, []).append(link.target)
    return {
        loop: reached_from(targets, leaving, loop).keys() - reached_from(leaving.get(loop, ()), leaving, loop).keys()
        for loop, targets in starts.items()
    }

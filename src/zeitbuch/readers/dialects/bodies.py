# Where loops are drawn as one step with a way into their rounds and a way on, what lies on the first, and not behind the second, is in them.
"""Bodies of loops that ways out lead to."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from msgspec import structs

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
    draft.links = [link for link in draft.links if link.source not in inside.get(link.target, ())]
    draft.links += [link for link in draft.bodies if link.target not in inside[link.source]]
    draft.bodies = []


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
        loop: _reached(targets, loop, leaving) - _reached(leaving.get(loop, ()), loop, leaving)
        for loop, targets in starts.items()
    }


def _reached(starts: Iterable[str], loop: str, leaving: dict[str, set[str]]) -> set[str]:
    """What ways lead to from some steps, without going through the loop."""
    found: set[str] = set()
    waiting = list(starts)
    while waiting:
        step = waiting.pop()
        if step != loop and step not in found:
            found.add(step)
            waiting += leaving.get(step, ())
    return found

# The course of a flow as sets of what stands before and behind each part: steps can be taken out of it one by one, and what
# that explains is counted from the arrows nearby alone.
"""Courses of flows, and which steps were moved within them."""

from __future__ import annotations

from collections.abc import Iterable

from zeitbuch.core.model.records import Link

Arrow = tuple[str, str]


def arrows_of(links: Iterable[Link]) -> set[Arrow]:
    """The arrows of a flow's course (helpers of agents are no part of it)."""
    return {(link.source, link.target) for link in links if link.role != "attach"}


class Course:
    """Arrows by both ends."""

    def __init__(self, arrows: Iterable[Arrow]) -> None:
        self.before: dict[str, set[str]] = {}
        self.after: dict[str, set[str]] = {}
        for first, second in arrows:
            self.after.setdefault(first, set()).add(second)
            self.before.setdefault(second, set()).add(first)

    def has_arrow(self, a: str, b: str) -> bool:
        return b in self.after.get(a, ())

    def neighbours_of(self, step: str) -> tuple[set[str], set[str]]:
        """What leads to a step, and what it leads to."""
        return self.before.get(step, set()), self.after.get(step, set())

    def all_arrows(self) -> set[Arrow]:
        """All arrows."""
        return {(first, second) for first, targets in self.after.items() for second in targets}

    def take_out(self, step: str) -> None:
        """What led to a step leads to all that it led to."""
        before = self.before.pop(step, set()) - {step}
        after = self.after.pop(step, set()) - {step}
        for first in before:
            self.after[first].discard(step)
            self.after[first] |= after - {first}
        for second in after:
            self.before[second].discard(step)
            self.before[second] |= before - {second}

    def pairs_through(self, step: str, over: set[str]) -> set[Arrow]:
        """Pairs that are joined by a way through a step, over nothing but it and ``over``."""

        def ends(near: dict[str, set[str]]) -> set[str]:
            found, seen, work = set(), {step}, [step]
            while work:
                for other in near.get(work.pop(), ()):
                    if other not in over and other != step:
                        found.add(other)
                    elif other not in seen:
                        seen.add(other)
                        work.append(other)
            return found

        return {(first, second) for first in ends(self.before) for second in ends(self.after)}

    def bridged_pairs(self, over: set[str]) -> dict[Arrow, str]:
        """Pairs that are joined by a way over these steps alone, with the first step of the way."""
        found: dict[Arrow, str] = {}
        for first in sorted(over):
            into = [left for left in sorted(self.before.get(first, ())) if left not in over]
            if not into:
                continue
            seen, work = {first}, [first]
            while work:
                for other in sorted(self.after.get(work.pop(), ())):
                    if other not in over:
                        for left in into:
                            found.setdefault((left, other), first)
                    elif other not in seen:
                        seen.add(other)
                        work.append(other)
        return found


def _gain_without(old: Course, new: Course, step: str) -> int:
    """How many differing arrows fewer there are without a step."""
    one, two = old.neighbours_of(step), new.neighbours_of(step)
    gone = {(first, step) for first in one[0] | two[0]} | {(step, second) for second in one[1] | two[1]}
    bridges = _bridge_arrows(step, one, two)
    before = sum(old.has_arrow(*arrow) != new.has_arrow(*arrow) for arrow in gone | bridges)
    after = _differing_after(old, new, bridges, one, two)
    return before - after


def _bridge_arrows(step: str, one: tuple[set[str], set[str]], two: tuple[set[str], set[str]]) -> set[tuple[str, str]]:
    """Arrows that would stand where the step was."""
    return {
        (first, second)
        for side in (one, two)
        for first in side[0]
        for second in side[1]
        if first != second and step not in (first, second)
    }


def _differing_after(
    old: Course,
    new: Course,
    bridges: set[tuple[str, str]],
    one: tuple[set[str], set[str]],
    two: tuple[set[str], set[str]],
) -> int:
    after = 0
    for first, second in bridges:
        was = old.has_arrow(first, second) or (first in one[0] and second in one[1])
        now = new.has_arrow(first, second) or (first in two[0] and second in two[1])
        after += was != now
    return after


def find_moved_steps(old: Course, new: Course, kept: dict[str, int], least: int) -> list[str]:
    """The fewest steps whose moving explains most of the arrows that differ, each at least ``least`` of them. ``kept`` are
    the steps of both versions with their order. Takes them out of both courses."""
    chosen: list[str] = []
    while True:
        differing = old.all_arrows() ^ new.all_arrows()
        if len(differing) < least:
            return chosen
        best = _best_move(old, new, kept, least, differing)
        if best is None:
            return chosen
        chosen.append(best)
        old.take_out(best)
        new.take_out(best)


def _best_move(
    old: Course, new: Course, kept: dict[str, int], least: int, differing: set[tuple[str, str]]
) -> str | None:
    """The step whose moving explains most of the differing arrows, if it is enough."""
    best, most = None, least - 1
    for step in sorted({name for arrow in differing for name in arrow if name in kept}, key=kept.__getitem__):
        before, after = old.neighbours_of(step)[0], new.neighbours_of(step)[0]
        if not before or not after or before & after:
            continue
        gain = _gain_without(old, new, step)
        if gain > most:
            best, most = step, gain
    return best

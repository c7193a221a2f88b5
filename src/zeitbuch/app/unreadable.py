# A file that could not be read says nothing about its flows: they are not gone, and nobody may say so. What held them before is
# found by the name of the file within its source.
"""Flows whose file could not be read."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import NamedTuple

from zeitbuch.core.diff.records import UnreadableFlow
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Estate, Flow, Origin
from zeitbuch.readers.input.sources import Input, name_of

from .sources import name_in_state


def names_within(inputs: Iterable[Input]) -> dict[str, str]:
    """Inputs by name, with their names below the folder that holds them all; a single one has none."""
    names = [name_of(one) for one in inputs if not isinstance(one, Problem)]
    # `git:REV:path` and `@3:path` name a state and a file in it.
    inner = {name: name_in_state(name) for name in names}
    if len(inner) < 2:
        return dict.fromkeys(inner, "")
    root = os.path.commonpath([Path(path).parent for path in inner.values()]) if _same_kind(inner) else ""
    return {name: os.path.relpath(path, root or ".") for name, path in inner.items()}


def _same_kind(inner: dict[str, str]) -> bool:
    return len({Path(path).is_absolute() for path in inner.values()}) == 1


Place = tuple[str, str | None]  # a file, and the member when it is a package; no member: the whole file


def unread_places(problems: Iterable[Problem]) -> set[Place]:
    """The files and members of packages that an error names, and those that hold no flow: where one stood before, it was not removed
    by that, a download may have brought another thing. What else stands in them may be whole, and nobody can say so."""
    origins = [
        problem.origin
        for problem in problems
        if problem.origin is not None and (problem.severity == "error" or problem.code == "other-kind")
    ]
    return {(origin.source, origin.member) for origin in origins}


class Side(NamedTuple):
    """The files of one version: their names within their source, and the places that could not be read, by these names."""

    within: dict[str, str]
    unread: set[Place]
    faulty: tuple[str, ...] = ()  # the files and members among them that an error names, as they are shown

    def places_of(self, flow: Flow) -> Place | None:
        """Where a flow of this version stands, by the names within its source."""
        name = self.within.get(flow.origin.source) if flow.origin is not None else None
        return (name, flow.origin.member) if name is not None and flow.origin is not None else None


def side_of(inputs: Iterable[Input], problems: Sequence[Problem]) -> Side:
    """The files of a version that was read."""
    within = names_within(inputs)
    unread = {(within[name], member) for name, member in unread_places(problems) if name in within}
    named = [problem.origin for problem in problems if problem.severity == "error" and problem.origin is not None]
    faulty = dict.fromkeys(str(Origin(one.source, member=one.member)) for one in named if one.source in within)
    return Side(within, unread, tuple(faulty))


def readable_sides(
    old: Estate, new: Estate, first: Side, second: Side
) -> tuple[Estate, Estate, tuple[UnreadableFlow, ...]]:
    """Both versions without the flows whose file could not be read in the other one: they were neither removed nor added, and no other
    flow is taken for them."""
    kept, lost = part_unreadable(old.flows, new.flows, first.places_of, second.unread)
    others, early = part_unreadable(new.flows, old.flows, second.places_of, first.unread)
    told = [UnreadableFlow(flow.id, flow.title, "new", flow.origin) for flow in lost]
    told += [UnreadableFlow(flow.id, flow.title, "old", flow.origin) for flow in early]
    return Estate(tuple(kept)), Estate(tuple(others)), tuple(told)


def part_unreadable(
    flows: Sequence[Flow], others: Sequence[Flow], place_of: Callable[[Flow], Place | None], unread: set[Place]
) -> tuple[list[Flow], list[Flow]]:
    """Flows of one version, apart from those that stood in a place which could not be read in the other one and are not elsewhere in
    it by their id."""
    if not unread:
        return list(flows), []
    ids = {flow.id for flow in others}
    kept: list[Flow] = []
    lost: list[Flow] = []
    for flow in flows:
        place = place_of(flow)
        is_lost = flow.id not in ids and place is not None and stood_in(unread, *place)
        (lost if is_lost else kept).append(flow)
    return kept, lost


def stood_in(unread: set[Place], name: str | None, member: str | None) -> bool:
    """Whether a flow of this file and member stood in a place that could not be read."""
    return name is not None and not unread.isdisjoint({(name, member), (name, None)})

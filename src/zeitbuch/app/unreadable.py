# A file that could not be read says nothing about its flows: they are not gone, and nobody may say so. What held them before is
# found by the name of the file within its source.
"""Flows whose file could not be read."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import NamedTuple

from msgspec import structs

from zeitbuch.core.diff.flow_matching import FlowMatching
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Flow
from zeitbuch.readers.input.sources import Input, name_of


def names_within(inputs: Iterable[Input]) -> dict[str, str]:
    """Inputs by name, with their names below the folder that holds them all; a single one has none."""
    names = [name_of(one) for one in inputs if not isinstance(one, Problem)]
    # `git:REV:path` and `@3:path` name a state and a file in it.
    inner = {name: name.rpartition(":")[2] if name.startswith(("git:", "@")) else name for name in names}
    if len(inner) < 2:
        return dict.fromkeys(inner, "")
    root = os.path.commonpath([Path(path).parent for path in inner.values()]) if _same_kind(inner) else ""
    return {name: os.path.relpath(path, root or ".") for name, path in inner.items()}


def _same_kind(inner: dict[str, str]) -> bool:
    return len({Path(path).is_absolute() for path in inner.values()}) == 1


Place = tuple[str, str | None]  # a file, and the member when it is a package; no member: the whole file


def unread_places(problems: Iterable[Problem]) -> set[Place]:
    """The files and members of packages that an error names. What else stands in them may be whole, and nobody can say so."""
    origins = [problem.origin for problem in problems if problem.severity == "error" and problem.origin is not None]
    return {(origin.source, origin.member) for origin in origins}


class Side(NamedTuple):
    """The files of one version: their names within their source, and the places that could not be read, by these names."""

    within: dict[str, str]
    unread: set[Place]


def side_of(inputs: Iterable[Input], problems: Iterable[Problem]) -> Side:
    """The files of a version that was read."""
    within = names_within(inputs)
    unread = {(within[name], member) for name, member in unread_places(problems) if name in within}
    return Side(within, unread)


def without_unread(matching: FlowMatching, old: Side, new: Side) -> tuple[FlowMatching, list[Problem]]:
    """The matching without flows that were neither removed nor added: their file could not be read in the other version."""
    removed, unread_new = _apart(matching.removed, old.within, new.unread)
    added, unread_old = _apart(matching.added, new.within, old.unread)
    problems = [_unread_problem(flow, "new") for flow in unread_new]
    problems += [_unread_problem(flow, "old") for flow in unread_old]
    return structs.replace(matching, removed=tuple(removed), added=tuple(added)), problems


def stood_in(unread: set[Place], name: str | None, member: str | None) -> bool:
    """Whether a flow of this file and member stood in a place that could not be read."""
    return name is not None and not unread.isdisjoint({(name, member), (name, None)})


def _apart(flows: Sequence[Flow], within: dict[str, str], unread: set[Place]) -> tuple[list[Flow], list[Flow]]:
    kept: list[Flow] = []
    lost: list[Flow] = []
    for flow in flows:
        origin = flow.origin
        is_lost = origin is not None and stood_in(unread, within.get(origin.source), origin.member)
        (lost if is_lost else kept).append(flow)
    return kept, lost


def _unread_problem(flow: Flow, side: str) -> Problem:
    message = (
        f"expected both versions of flow '{flow.title}', found that its file could not be read whole in the {side} one"
    )
    return Problem("flow-unread", "warning", message, flow.origin, "it is not compared: mend the file first")

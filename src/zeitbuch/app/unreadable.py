# A file that could not be read says nothing about its flows: they are not gone, and nobody may say so. What held them before is
# found by the name of the file within its source.
"""Flows whose file could not be read."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import NamedTuple

from msgspec import structs

from zeitbuch.core.diff.matching import FlowMatching
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Flow, Origin
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


def unreadable_files(problems: Iterable[Problem], flows: Iterable[Flow], within: dict[str, str]) -> set[str]:
    """The files, by their names within, that an error names and that gave no flow."""
    return {within[name] for name in unread_sources(problems, flows) if name in within}


def unread_sources(problems: Iterable[Problem], flows: Iterable[Flow]) -> set[str]:
    """The sources that an error names and that gave no flow."""
    giving = {flow.origin.source for flow in flows if flow.origin is not None}
    named = {
        problem.origin.source for problem in problems if problem.severity == "error" and problem.origin is not None
    }
    return named - giving


class Side(NamedTuple):
    """The files of one version: their names within their source, and which of these could not be read."""

    within: dict[str, str]
    unread: set[str]


def without_unread(matching: FlowMatching, old: Side, new: Side) -> tuple[FlowMatching, list[Problem]]:
    """The matching without flows that were neither removed nor added: their file could not be read in the other version."""
    removed, unread_new = _apart(matching.removed, old.within, new.unread)
    added, unread_old = _apart(matching.added, new.within, old.unread)
    problems = [_unread_problem(flow, "new") for flow in unread_new] + [
        _unread_problem(flow, "old") for flow in unread_old
    ]
    return structs.replace(matching, removed=tuple(removed), added=tuple(added)), problems


def _apart(flows: Sequence[Flow], within: dict[str, str], unread: set[str]) -> tuple[list[Flow], list[Flow]]:
    lost = [flow for flow in flows if flow.origin is not None and within.get(flow.origin.source) in unread]
    return [flow for flow in flows if not any(flow is one for one in lost)], lost


def _unread_problem(flow: Flow, side: str) -> Problem:
    message = f"expected both versions of flow '{flow.title}', found that its file could not be read in the {side} one"
    origin = Origin(flow.origin.source, flow.origin.pointer) if flow.origin is not None else None
    return Problem("flow-unread", "warning", message, origin, "it is not compared: mend the file first")

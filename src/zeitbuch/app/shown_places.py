# A page that people sign names no machine: where a flow stands is told from the folder that all exports have in common, whatever path, package
# or recorded state they were read from.
"""Places of exports as documents show them."""

from __future__ import annotations

import os
import posixpath
from collections.abc import Sequence

from msgspec import structs

from zeitbuch.core.model.records import Flow, Origin


def with_shown_places(flows: Sequence[Flow], all_flows: Sequence[Flow]) -> list[Flow]:
    """The flows with places told from the folder that the exports of all flows have in common."""
    files = {_file_of(flow.origin) for flow in all_flows if flow.origin is not None}
    folders = [posixpath.dirname(file) for file in files]
    try:
        root = posixpath.commonpath(folders) if folders else ""
    except ValueError:  # absolute and relative ones
        root = ""
    return [_shown(flow, root) for flow in flows]


def _file_of(origin: Origin) -> str:
    """The path within its package, its recorded state or the folders of this machine."""
    if origin.member is not None:
        return posixpath.normpath(origin.member)
    path = origin.source.partition(":")[2] if origin.source.startswith(("@", "git:")) else origin.source
    return posixpath.normpath(path.replace(os.sep, "/"))


def _shown(flow: Flow, root: str) -> Flow:
    if flow.origin is None:
        return flow
    file = _file_of(flow.origin)
    name = posixpath.relpath(file, root) if root else file

    def at(origin: Origin | None) -> Origin | None:
        return Origin(name, origin.pointer, None, origin.line, origin.column) if origin is not None else None

    return structs.replace(
        flow,
        origin=at(flow.origin),
        steps=tuple([structs.replace(step, origin=at(step.origin)) for step in flow.steps]),
        triggers=tuple([structs.replace(trigger, origin=at(trigger.origin)) for trigger in flow.triggers]),
    )

# The native form: the model itself as YAML or JSON, `zeitbuch: 1` at the root. Each flow is decoded by itself, so
# that a fault in one leaves the others readable.
"""The native form: reading, and the plain values that writing it needs."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

import msgspec
from msgspec import structs

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import FORMAT_VERSION, Content, Flow, Origin
from zeitbuch.readers.input.limits import count_values

ROOT = "zeitbuch"
_AT = re.compile(r" - at `\$(?P<path>[^`]*)`")


def is_native(document: Any) -> bool:
    """Whether the document says that it is in the native form."""
    return isinstance(document, dict) and ROOT in document


def _pointer_of_path(path: str) -> str:
    return re.sub(r"\[(\d+)\]|\.([^.\[]+)|\[\.\.\.\]", lambda m: "/" + (m[1] or m[2] or "*"), path)


def flows(document: dict[str, Any], base: Origin) -> Iterator[Flow | Problem]:
    """The flows of a native document, a problem in place of each that is not one."""
    version = document[ROOT]
    if version != FORMAT_VERSION:
        yield Problem(
            "native-version",
            "error",
            f"expected `{ROOT}: {FORMAT_VERSION}`, found {version!r}",
            base,
            "convert the file with the version of Zeitbuch that wrote it",
        )
        return
    listed = document.get("flows")
    unknown = sorted(set(document) - {ROOT, "flows", "$schema"})  # the last is for editors
    if not isinstance(listed, list) or unknown:
        found = f"unknown keys {', '.join(unknown)}" if unknown else type(listed).__name__
        yield Problem(
            "native-form",
            "error",
            f"expected a list under `flows` beside `{ROOT}`, found {found}",
            base,
            "`zeitbuch schema flow` prints the form",
        )
        if not isinstance(listed, list):
            return
    for place, raw in enumerate(listed):
        pointer = f"/flows/{place}"
        try:
            flow = msgspec.convert(raw, Flow)
        except msgspec.ValidationError as error:
            hit = _AT.search(str(error))
            yield Problem(
                "native-form",
                "error",
                _AT.sub("", str(error)).replace("Object ", "the record "),
                base.at(pointer + (_pointer_of_path(hit["path"]) if hit else "")),
                "`zeitbuch schema flow` prints the form",
            )
            continue
        yield _place_flow(flow, base, pointer, raw)


def _place_flow(flow: Flow, base: Origin, pointer: str, raw: Any) -> Flow:
    """The flow with origins. A content count that the native form carries from an export is kept."""
    content = flow.content if flow.content.values else Content(values=count_values(raw))
    return structs.replace(
        flow,
        content=content,
        format=flow.format or "native",
        origin=base.at(pointer),
        triggers=tuple(
            structs.replace(trigger, origin=base.at(f"{pointer}/triggers/{index}"))
            for index, trigger in enumerate(flow.triggers)
        ),
        steps=tuple(
            structs.replace(step, origin=base.at(f"{pointer}/steps/{index}")) for index, step in enumerate(flow.steps)
        ),
        links=tuple(
            structs.replace(link, origin=base.at(f"{pointer}/links/{index}")) for index, link in enumerate(flow.links)
        ),
    )

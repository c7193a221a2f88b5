# Definitions that stand as JSON text inside another flow's parameter: someone pasted a whole flow into a setting, or a
# builder stores its sub-flows that way. They are read like files of their own.
"""Flows embedded as JSON text."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, NamedTuple

import msgspec
from msgspec import structs

from zeitbuch.core.model.records import Flow
from zeitbuch.readers.input.pointers import escape_key

SHORTEST = 60  # characters: no flow is shorter
_HINT = b"{\\"  # an object within a text: what follows the brace is escaped


class Embedded(NamedTuple):
    """One text that holds JSON, where it stands, and what is in it."""

    pointer: str
    raw: bytes
    value: Any


def might_embed(raw: bytes, yaml: bool) -> bool:
    """A quick look at the bytes: False means that no walk is needed."""
    return b'{"' in raw if yaml else _HINT in raw


def find_embedded(document: Any) -> Iterator[Embedded]:
    """All texts of a document that hold a JSON object or list of objects."""
    stack: list[tuple[str, Any]] = [("", document)]
    while stack:
        pointer, value = stack.pop()
        if type(value) is dict:
            stack += [(f"{pointer}/{escape_key(str(key))}", item) for key, item in reversed(value.items())]
        elif type(value) is list:
            stack += [(f"{pointer}/{item}", v) for item, v in reversed(list(enumerate(value)))]
        elif type(value) is str and len(value) >= SHORTEST and value.lstrip()[:1] in ("{", "["):
            try:
                raw = value.encode()
                found = msgspec.json.decode(raw)
            except (msgspec.DecodeError, UnicodeEncodeError, RecursionError):
                continue
            if isinstance(found, dict) or (isinstance(found, list) and found and isinstance(found[0], dict)):
                yield Embedded(pointer, raw, found)


def call_embedded(flow: Flow, inner: list[tuple[str, list[Flow]]]) -> Flow:
    """The flow with its steps calling the definitions that stand inside them."""
    steps = []
    for step in flow.steps:
        place = step.origin.pointer if step.origin is not None else None
        held = next((items for pointer, items in inner if place is not None and pointer.startswith(place + "/")), None)
        if held and (step.calls is None or step.calls.lstrip()[:1] in ("{", "[")):
            step = structs.replace(step, calls=held[0].id)
        steps.append(step)
    return structs.replace(flow, steps=tuple(steps))

# Definitions that stand as JSON text inside another flow's parameter: someone pasted a whole flow into a setting, or a
# builder stores its sub-flows that way. They are read like files of their own.
"""Flows embedded as JSON text."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, NamedTuple

import msgspec
from msgspec import structs

from zeitbuch.core.model.records import Binding, Flow
from zeitbuch.core.model.words import join_words
from zeitbuch.readers.input.pointers import escape_key

SHORTEST = 60  # characters: no flow is shorter
_BRACE = ord("{")


class Embedded(NamedTuple):
    """One text that holds JSON, where it stands, and what is in it."""

    pointer: str
    raw: bytes
    value: Any


def might_embed(raw: bytes, yaml: bool) -> bool:
    """A quick look at the bytes: False means that no walk is needed. Within a text what follows a brace is escaped."""
    if yaml:
        return b'{"' in raw
    # Looking for one letter is so much quicker than for two that the brace is looked for only before each escape.
    at = raw.find(b"\\", 1)
    while at > 0:
        if raw[at - 1] == _BRACE:
            return True
        at = raw.find(b"\\", at + 1)
    return False


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


class Inside(NamedTuple):
    """The flows that stand as one text within another, and where."""

    pointer: str
    text: str
    flows: list[Flow]


def call_embedded(flow: Flow, inner: list[Inside]) -> Flow:
    """The flow with its steps calling the definitions that stand inside them. An input that is such a text says which flow it is:
    the text itself, and what it refers to, belong to that flow."""
    steps = []
    for step in flow.steps:
        place = step.origin.pointer if step.origin is not None else None
        held = [one for one in inner if place is not None and one.pointer.startswith(place + "/")]
        if held:
            titles = {one.text: join_words([f"‘{found.title}’" for found in one.flows]) for one in held}
            step = structs.replace(step, inputs=tuple([_named_input(binding, titles) for binding in step.inputs]))
            if step.calls is None or step.calls.lstrip()[:1] in ("{", "["):
                step = structs.replace(step, calls=held[0].flows[0].id)
        steps.append(step)
    return structs.replace(flow, steps=tuple(steps))


def _named_input(binding: Binding, titles: dict[str, str]) -> Binding:
    title = titles.get(binding.value) if type(binding.value) is str else None
    if title is None:
        return binding
    return structs.replace(binding, value=f"the definition of {title}, read as a flow", refs=(), decided="fixed")

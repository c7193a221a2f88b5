# The table by which changes are judged. One row a type: what it is about, how much it weighs, whether it can move calls
# or cost. What has no row is no change: layout, time stamps, order of keys.
"""Types of changes and their weights."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

Weight = Literal["risk", "meaning", "note"]
Topic = Literal[
    "flow", "trigger", "step", "link", "prompt", "model", "input", "connection", "failure", "rights", "unread", "note"
]


class Kind(Struct, frozen=True):
    """``weight``: risk asks for a close look, meaning changes what happens, note changes only what people read.
    ``cost`` says that calls or cost may move."""

    topic: Topic
    weight: Weight
    cost: bool = False


def _k(topic: Topic, weight: Weight, cost: bool = False) -> Kind:
    return Kind(topic, weight, cost)


KINDS: dict[str, Kind] = {
    "flow added": _k("flow", "risk", True),
    "flow removed": _k("flow", "risk", True),
    "flow split": _k("flow", "meaning"),
    "flows merged": _k("flow", "meaning"),
    "flow moved": _k("flow", "note"),
    "flow renamed": _k("flow", "note"),
    "state": _k("flow", "risk", True),
    "environment": _k("flow", "meaning", True),
    "owner": _k("flow", "note"),
    "description": _k("flow", "note"),
    "variable": _k("flow", "meaning"),
    "trigger added": _k("trigger", "risk", True),
    "trigger removed": _k("trigger", "risk", True),
    "trigger": _k("trigger", "risk", True),
    "trigger renamed": _k("trigger", "note"),
    "schedule": _k("trigger", "risk", True),
    "trigger condition": _k("trigger", "risk", True),
    "batch": _k("trigger", "meaning", True),
    "step added": _k("step", "risk", True),
    "step removed": _k("step", "risk", True),
    "step moved": _k("step", "meaning", True),
    "step renamed": _k("step", "note"),
    "scope": _k("step", "meaning", True),
    "kind": _k("step", "risk", True),
    "enabled": _k("step", "risk", True),
    "join": _k("step", "meaning", True),
    "loop": _k("step", "meaning", True),
    "called flow": _k("step", "risk", True),
    "other setting": _k("step", "meaning"),
    "link added": _k("link", "meaning", True),
    "link removed": _k("link", "meaning", True),
    "link rewired": _k("link", "meaning", True),
    "case": _k("link", "meaning", True),
    "condition": _k("link", "risk", True),
    "prompt": _k("prompt", "risk", True),
    "model": _k("model", "risk", True),
    "model setting": _k("model", "meaning", True),
    "input": _k("input", "meaning", True),
    "input decider": _k("input", "risk", True),
    "connection": _k("connection", "risk"),
    "endpoint": _k("connection", "risk"),
    "secret": _k("connection", "risk"),
    "retry": _k("failure", "meaning", True),
    "timeout": _k("failure", "meaning"),
    "on error": _k("failure", "risk", True),
    "error route added": _k("failure", "risk", True),
    "error route removed": _k("failure", "risk", True),
    "effect widened": _k("rights", "risk"),
    "effect narrowed": _k("rights", "meaning"),
    "rights widened": _k("rights", "risk"),
    "rights narrowed": _k("rights", "note"),
    "approval removed": _k("rights", "risk", True),
    "approval bypassed": _k("rights", "risk"),
    "unread content": _k("unread", "meaning"),
    "note": _k("note", "note"),
}
TOPICS: tuple[Topic, ...] = (
    "flow", "trigger", "step", "link", "prompt", "model", "input", "connection", "failure", "rights", "unread", "note",
)  # fmt: skip

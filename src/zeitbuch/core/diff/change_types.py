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


# What a change concerns, in the order in which it must be looked at.
Concern = Literal["approvals and rights", "people or money", "failure", "models and prompts", "cost", "rest"]
CONCERNS: tuple[Concern, ...] = (
    "approvals and rights", "people or money", "failure", "models and prompts", "cost", "rest",
)  # fmt: skip
_OF_TOPIC: dict[str, Concern] = {
    "rights": "approvals and rights", "failure": "failure", "model": "models and prompts", "prompt": "models and prompts",
}  # fmt: skip


class Kind(Struct, frozen=True):
    """``weight``: risk asks for a close look, meaning changes what happens, note changes only what people read.
    ``cost`` says that calls or cost may move, ``concern`` what it concerns (of a step that acts outside, that)."""

    topic: Topic
    weight: Weight
    cost: bool = False
    concern: Concern = "rest"


def _change_kind(topic: Topic, weight: Weight, cost: bool = False, concern: Concern | None = None) -> Kind:
    return Kind(topic, weight, cost, concern or _OF_TOPIC.get(topic, "rest"))


CHANGE_KINDS: dict[str, Kind] = {
    "flow added": _change_kind("flow", "risk", True),
    "flow removed": _change_kind("flow", "risk", True),
    "flow split": _change_kind("flow", "meaning"),
    "flows merged": _change_kind("flow", "meaning"),
    "flow moved": _change_kind("flow", "note"),
    "flow renamed": _change_kind("flow", "note"),
    "state": _change_kind("flow", "risk", True),
    "environment": _change_kind("flow", "meaning", True),
    "owner": _change_kind("flow", "note"),
    "description": _change_kind("flow", "note"),
    "variable": _change_kind("flow", "meaning"),
    "trigger added": _change_kind("trigger", "risk", True),
    "trigger removed": _change_kind("trigger", "risk", True),
    "trigger": _change_kind("trigger", "risk", True),
    "trigger renamed": _change_kind("trigger", "note"),
    "schedule": _change_kind("trigger", "risk", True),
    "trigger condition": _change_kind("trigger", "risk", True),
    "sample data": _change_kind("step", "meaning", True),
    "batch": _change_kind("trigger", "meaning", True),
    "authentication": _change_kind("trigger", "risk", False, "approvals and rights"),
    "step added": _change_kind("step", "risk", True),
    "step removed": _change_kind("step", "risk", True),
    "step moved": _change_kind("step", "meaning", True),
    "step renamed": _change_kind("step", "note"),
    "scope": _change_kind("step", "meaning", True),
    "kind": _change_kind("step", "risk", True),
    "enabled": _change_kind("step", "risk", True),
    "join": _change_kind("step", "meaning", True),
    "loop": _change_kind("step", "meaning", True),
    "called flow": _change_kind("step", "risk", True),
    "wait": _change_kind("step", "meaning"),
    "pieces": _change_kind("step", "meaning", True),
    "order": _change_kind("step", "meaning"),
    "concurrency": _change_kind("step", "meaning"),
    "other setting": _change_kind("step", "meaning"),
    "link added": _change_kind("link", "meaning", True),
    "link removed": _change_kind("link", "meaning", True),
    "link rewired": _change_kind("link", "meaning", True),
    "case": _change_kind("link", "meaning", True),
    "outcomes": _change_kind("link", "risk", True),
    "condition": _change_kind("link", "risk", True),
    "prompt": _change_kind("prompt", "risk", True),
    "model": _change_kind("model", "risk", True),
    "model setting": _change_kind("model", "meaning", True),
    "input": _change_kind("input", "meaning", True),
    "input role": _change_kind("input", "meaning"),
    "input decider": _change_kind("input", "risk", True, "approvals and rights"),
    "connection": _change_kind("connection", "risk"),
    "endpoint": _change_kind("connection", "risk"),
    "secret": _change_kind("connection", "risk", False, "approvals and rights"),
    "retry": _change_kind("failure", "meaning", True),
    "timeout": _change_kind("failure", "meaning"),
    "on error": _change_kind("failure", "risk", True),
    "fault handler": _change_kind("failure", "risk", True),
    "error route added": _change_kind("failure", "risk", True),
    "error route removed": _change_kind("failure", "risk", True),
    "effect widened": _change_kind("rights", "risk"),
    "effect narrowed": _change_kind("rights", "meaning"),
    "rights widened": _change_kind("rights", "risk"),
    "rights narrowed": _change_kind("rights", "note"),
    "approval": _change_kind("rights", "risk", True),
    "approval outcome": _change_kind("rights", "risk", True),
    "approval removed": _change_kind("rights", "risk", True),
    "approval bypassed": _change_kind("rights", "risk"),
    "unread content": _change_kind("unread", "meaning"),
    "note": _change_kind("note", "note"),
}
TOPICS: tuple[Topic, ...] = (
    "flow", "trigger", "step", "link", "prompt", "model", "input", "connection", "failure", "rights", "unread", "note",
)  # fmt: skip

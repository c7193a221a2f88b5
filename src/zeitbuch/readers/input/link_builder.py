# What readers of nested and of standard forms share: arrows on their way, values taken for what they should be, and what
# an HTTP method does outside.
"""Small parts that several readers need."""

from __future__ import annotations

from typing import Any, NamedTuple

from zeitbuch.core.model.records import Effect, LinkRole, Outcome


class Loose(NamedTuple):
    """An arrow that has left a step and not yet arrived."""

    source: str
    role: LinkRole = "next"
    label: str = ""
    condition: str = ""
    after: tuple[Outcome, ...] = ()
    otherwise: bool = False


# RFC 9110, clause 9: safe methods read
METHOD_EFFECTS: dict[str, Effect] = {
    "get": "read", "head": "read", "options": "read", "post": "write", "put": "write", "patch": "write", "delete": "delete",
}  # fmt: skip


def as_dict(value: Any) -> dict[str, Any]:
    """The value when it is an object, else an empty one."""
    return value if isinstance(value, dict) else {}


def as_list(value: Any) -> list[Any]:
    """The value when it is a list, else an empty one."""
    return value if isinstance(value, list) else []

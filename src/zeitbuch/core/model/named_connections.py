"""The connections of a flow, those that only its parts name among them."""

from __future__ import annotations

from .records import Connection, Flow, Step, Trigger


def named_connections(flow: Flow) -> list[Connection]:
    """The connections that a flow lists, then those that its triggers and steps name and it does not list, by their ids alone."""
    listed = {one.id for one in flow.connections}
    parts: list[Step | Trigger] = [*flow.triggers, *flow.steps]
    named = dict.fromkeys(part.connection for part in parts if part.connection)
    return [*flow.connections, *[Connection(id=name) for name in named if name not in listed]]

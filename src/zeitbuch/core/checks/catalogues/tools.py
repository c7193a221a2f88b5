"""The tools that agents may choose."""

from __future__ import annotations

from collections.abc import Iterator

from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.checks.families.outside import acting_tools
from zeitbuch.core.checks.views import FlowView
from zeitbuch.core.model.kinds import NOT_TOOLS
from zeitbuch.core.model.records import Step
from zeitbuch.core.model.sheet import Column

from .records import Catalogue, Entry, Uses


def _rows(estate: EstateView) -> Iterator[Entry]:
    for flow in estate.flows:
        view = FlowView(flow, estate)
        for host in flow.steps:
            tools = view.graph.used_by(host.id) if host.kind == "agent" else []
            alone = {tool.id for tool in acting_tools(view, host)} if tools else set()
            for tool in tools:
                if tool.enabled and tool.kind not in NOT_TOOLS:
                    yield _row(view, host, tool, tool.id in alone)


def _row(view: FlowView, host: Step, tool: Step, is_alone: bool) -> Entry:
    uses = Uses()
    uses.add(view.flow, host)
    about = tool.note or next((one.description for one in tool.inputs if one.description), "")
    marks = ["acts, and nobody approves it"] if is_alone else []
    marks += [] if about else ["no description"]
    connection = next((one for one in view.flow.connections if one.id == tool.connection), None)
    return {
        "name": tool.title, "agent": host.title, "effect": tool.effect, "operation": tool.operation,
        "connection": (connection.name or connection.id) if connection is not None else tool.connection or "",
        "by_model": [one.name for one in tool.inputs if one.decided == "model"],
        "given": [one.name for one in tool.inputs if one.decided != "model"], **uses.columns, "marks": marks,
    }  # fmt: skip


CATALOGUE = Catalogue(
    "tools", "tools of agents, what they may do and who decides their inputs", (
        Column("name", "tool"), Column("agent", "agent"), Column("effect", "effect"), Column("by_model", "the model decides", "list"),
        Column("given", "given", "list", rank=1), Column("connection", "connection", rank=1), Column("operation", "operation", rank=3),
    ), _rows,
)  # fmt: skip

# The content of a document, independent of its format. The same flow gives the same blocks; nothing here knows the date.
"""Documents for review: a page for each flow."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from zeitbuch.core.assumptions.money import evidence_words, money_words
from zeitbuch.core.assumptions.values import EVIDENCE_WORDS
from zeitbuch.core.estimate.records import EstateEstimate, FlowEstimate
from zeitbuch.core.graph import phrases
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.facts import FLOW_FACTS, facts_of
from zeitbuch.core.model.kinds import EFFECTS
from zeitbuch.core.model.named_connections import named_connections
from zeitbuch.core.model.records import Connection, Flow, Step
from zeitbuch.core.model.sheet import Column, Sheet, number_text, percent_text
from zeitbuch.core.model.words import join_words, triggers_words
from zeitbuch.core.passes.reachability import taken_values
from zeitbuch.core.passes.steps_that_run import steps_that_may_run
from zeitbuch.core.pricing.units import UNITS

from .blocks import Block, Bullets, Facts, Heading, Page, Paragraph, Picture, Table
from .inventory import inventory_row
from .step_sections import steps_section


def _flow_facts(flow: Flow) -> Facts:
    pairs = [
        ("State", flow.state),
        ("Owner", ", ".join(flow.owners) or "not named in the export"),
        ("Trigger", triggers_words(flow)),
        *facts_of(flow, FLOW_FACTS, {}),
        ("Folder", flow.folder),
        ("Environment", flow.environment),
        ("Last change", flow.changed[:10]),
        ("Pattern", inventory_row(flow).pattern),
        ("Read", f"{percent_text(flow.content.read_share)} of {flow.content.values:,} values of the export"),
        (
            "Export",
            str(flow.origin) if flow.origin else "",
        ),
    ]
    return Facts(tuple((key, value) for key, value in pairs if value))


def _connection_blocks(graph: Graph) -> list[Block]:
    flow = graph.flow
    connections = named_connections(flow)
    if not connections:
        return [Paragraph("The export names none.", quiet=True)]
    running = steps_that_may_run(graph)
    rows = [_connection_row(flow, connection, running) for connection in connections]
    columns = (
        Column("name", "connection"),
        Column("service", "service"),
        Column("account", "account"),
        Column("does", "the flow there"),
        Column("users", "used by", "count"),
    )
    return [Table(Sheet(columns, tuple(rows)))]


def _connection_row(flow: Flow, connection: Connection, running: frozenset[str]) -> tuple[Any, ...]:
    steps = [step for step in flow.steps if step.connection == connection.id]
    acting = [step for step in steps if step.id in running]
    triggers = sum(trigger.connection == connection.id for trigger in flow.triggers)
    effects = ", ".join(dict.fromkeys(verb for step in acting if (verb := EFFECTS[step.effect].verb)))
    idle = "nothing as it stands" if steps and not acting and not triggers else "nothing known"
    return (
        connection.name or connection.id,
        connection.service,
        connection.account,
        effects or (idle if steps or triggers else "not used"),
        len(steps) + triggers,
    )


def _variable_blocks(graph: Graph) -> list[Block]:
    flow = graph.flow
    if not flow.variables:
        return []
    users: dict[str, dict[str, None]] = {}
    for step in graph.in_order():
        for _, ref in taken_values(graph, step):
            if ref.variable is not None:
                users.setdefault(ref.variable, {})[_numbered(graph, step)] = None
    columns = (
        Column("name", "variable"),
        Column("value", "value"),
        Column("description", "meaning"),
        Column("users", "used by", "list"),
    )
    rows = tuple(
        (
            variable.name,
            phrases.value_words(variable.value, (), {}),
            variable.description,
            list(users.get(variable.name, ())) or ["no step, as far as the export says"],
        )
        for variable in flow.variables
    )
    return [Heading(2, "Variables", "variables"), Table(Sheet(columns, rows))]


def _cost_blocks(found: FlowEstimate, result: EstateEstimate) -> list[Block]:
    unit = result.currency
    per_month = "unknown" if found.bill_month is None else money_words(found.bill_month, unit)
    runs = "unknown" if found.runs is None else f"{found.runs:,.0f}"
    pairs = [
        ("Model calls per run", number_text(found.calls)),
        ("Cost per run", money_words(found.cost, unit)),
        (f"Runs in {result.month}", f"{runs} ({found.runs_why})" if found.runs_why else runs),
        (f"Cost in {result.month}", per_month),
        ("A run is based on", evidence_words(found.evidence)),
    ]
    if found.bill_month is not None:
        pairs.append(("The month is based on", evidence_words(found.evidence_month)))
    if money_words(found.with_called) != money_words(found.cost):
        pairs.insert(2, ("With the flows it calls", money_words(found.with_called, unit)))
    blocks: list[Block] = [Facts(tuple(pairs))]
    columns = (
        Column("step", "step"), Column("what", "what"), Column("quantity", "per run", "count"), Column("cost", f"{unit}", "money"),
        Column("evidence", "based on"), Column("why", "where it comes from"),
    )  # fmt: skip
    rows = _rows_of_parts(found)
    if rows:
        total = ("per run", "", "", money_words(found.cost) if found.cost.unknown else found.cost.amount, "", "")
        blocks.append(Table(Sheet(columns, tuple(rows), total)))
    blocks += [Paragraph(name, quiet=True) for name in found.notes]
    return blocks


def _rows_of_parts(found: FlowEstimate) -> list[tuple[Any, ...]]:
    rows: list[tuple[Any, ...]] = []
    for step in found.steps:
        for place, part in enumerate(step.parts):
            rows.append(
                (
                    f"{step.number} {step.name}" if place == 0 else "",
                    UNITS[part.unit].title,
                    part.quantity,
                    part.cost,
                    EVIDENCE_WORDS[part.evidence],
                    part.why,
                )
            )
    return rows


def flow_page(
    graph: Graph,
    name: str,
    result: EstateEstimate | None,
    sheet: Sequence[Block] = (),
    sign_off: Sequence[Block] = (),
    neighbours: Sequence[Block] = (),
    usage: Sequence[Block] = (),
) -> Page:
    """The document of one flow: the first sheet with its sign-off, and behind it the map, the flows around it, every step, what usage logs
    have of it, and where all of it comes from."""
    flow = graph.flow
    blocks: list[Block] = [Heading(1, flow.title), *sheet, *sign_off]
    blocks += [Heading(2, "Map", "map"), Picture(f"Map of {flow.title}"), _flow_facts(flow)]
    blocks += neighbours
    blocks += [Heading(2, "Triggers", "triggers")]
    lines = phrases.triggers_list(flow)
    blocks.append(Bullets(tuple(lines)) if lines else Paragraph("The export names no trigger."))
    blocks += [Heading(2, "Connections", "connections"), *_connection_blocks(graph), *_variable_blocks(graph)]
    blocks += [Heading(2, "Steps", "steps"), *steps_section(graph)]
    found = (
        next((flow_estimate for flow_estimate in result.flows if flow_estimate.id == flow.id), None)
        if result is not None
        else None
    )
    if found is not None and result is not None:
        blocks += [Heading(2, "Calls and cost", "cost"), *_cost_blocks(found, result)]
    blocks += [*usage, *_unread_blocks(graph), *_place_blocks(graph)]
    return Page(name, flow.title, tuple(blocks))


def _numbered(graph: Graph, step: Step) -> str:
    return f"{graph.numbers.get(step.id, '')} {phrases.quote_name(step.title)}".strip()


def _unread_blocks(graph: Graph) -> list[Block]:
    """What was not understood, and who must judge it."""
    flow = graph.flow
    lines = [f"Of the flow: {', '.join(flow.unread)}."] if flow.unread else []
    lines += [f"Of the file, around its flows: {', '.join(flow.around)}."] if flow.around else []
    lines += [f"Of {_numbered(graph, step)}: {', '.join(step.unread)}." for step in graph.in_order() if step.unread]
    if not lines:
        return []
    judge = join_words(list(flow.owners)) or "whoever answers for the flow"
    said = "These parts of the export have no place in this description. Whether any of them matters is for "
    said += f"{judge} to judge, or for somebody who knows the builder."
    return [Heading(2, "Not understood", "unread"), Paragraph(said), Bullets(tuple(lines))]


def _place_blocks(graph: Graph) -> list[Block]:
    """Where in the export each trigger and step stands."""
    flow = graph.flow
    parts = [(one.title, one.origin) for one in flow.triggers]
    parts += [(_numbered(graph, step), step.origin) for step in graph.in_order() if step.kind != "note"]
    rows = tuple(
        (title, f"line {origin.line}" if origin.line else origin.pointer)
        for title, origin in parts
        if origin is not None
    )
    if not any(place for _, place in rows):
        return []
    columns = (
        Column("part", "trigger or step"),
        Column("place", f"place in {flow.origin.file}" if flow.origin else "place"),
    )
    return [Heading(2, "Places in the export", "places"), Table(Sheet(columns, rows))]

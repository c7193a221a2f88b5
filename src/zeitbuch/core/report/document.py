# The content of a document, independent of its format: blocks that writers turn into Markdown or HTML. The same
# flow gives the same blocks; nothing here knows the date.
"""Documents for review: a page for each flow, and an index."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal

from msgspec import Struct

from zeitbuch.core.assumptions.money import evidence_words, money_words
from zeitbuch.core.assumptions.values import EVIDENCE_WORDS
from zeitbuch.core.estimate.records import EstateEstimate, FlowEstimate
from zeitbuch.core.graph import phrases
from zeitbuch.core.graph.topology import Graph, model_of
from zeitbuch.core.model.facts import FLOW_FACTS, STEP_FACTS, facts_of, input_role_words
from zeitbuch.core.model.kinds import EFFECTS, KINDS
from zeitbuch.core.model.records import Connection, Flow, ModelUse, Step
from zeitbuch.core.model.sheet import Column, Sheet, number_text, percent_text
from zeitbuch.core.model.words import count_words, triggers_words
from zeitbuch.core.pricing.units import UNITS

from . import sentences
from .inventory import inventory_row


class Heading(Struct, frozen=True, tag=True):
    """``level`` 1 to 4; ``anchor`` is unique on its page."""

    level: int
    text: str
    anchor: str = ""


class Paragraph(Struct, frozen=True, tag=True):
    """Plain text; ``quiet`` for remarks."""

    text: str
    quiet: bool = False


class Facts(Struct, frozen=True, tag=True):
    """Pairs of a word and what is to be said of it."""

    pairs: tuple[tuple[str, str], ...]


class Bullets(Struct, frozen=True, tag=True):
    """A list of lines."""

    items: tuple[str, ...]


class Outline(Struct, frozen=True, tag=True):
    """Lines with their depth (0: outermost), each below what it belongs to."""

    lines: tuple[tuple[int, str], ...]


class Table(Struct, frozen=True, tag=True):
    """A sheet within the page."""

    sheet: Sheet


class Quote(Struct, frozen=True, tag=True):
    """Text shown word for word, such as a prompt."""

    label: str
    text: str


class Picture(Struct, frozen=True, tag=True):
    """The place of the map."""

    alt: str


class Links(Struct, frozen=True, tag=True):
    """The index: (title, page name, remark)."""

    items: tuple[tuple[str, str, str], ...]


class SignLine(Struct, frozen=True):
    """What one role signs; by whom, when, with which verdict and where it is signed, or empty for the pen."""

    role: str
    sentence: str
    by: str = ""
    on: str = ""
    verdict: str = ""
    signed: str = ""


class Signatures(Struct, frozen=True, tag=True):
    """The lines that reviewers sign, for the state with this fingerprint."""

    fingerprint: str
    lines: tuple[SignLine, ...] = ()

    def rows(self) -> list[tuple[str, ...]]:
        """The cells of its table, the head first."""
        heads = ("role", "what is signed", "name", "date", "verdict", "signature")
        return [heads, *[(one.role, one.sentence, one.by, one.on, one.verdict, one.signed) for one in self.lines]]

    def remark(self) -> str:
        """What the signatures hold for."""
        words = f"This document describes the state with the fingerprint {self.fingerprint[:16]}. Moving boxes leaves it valid; a changed prompt, model, "
        return words + "link or setting does not. Verdicts: approved, approved with changes, refused."


NoteBlock = Paragraph | Bullets | Outline | Quote


class Aside(Struct, frozen=True, tag=True):
    """What somebody added: who or where from, and the text."""

    label: str
    blocks: tuple[NoteBlock, ...]


Block = Heading | Paragraph | Facts | Bullets | Outline | Table | Quote | Picture | Links | Signatures | Aside


class Page(Struct, frozen=True):
    """One document: file name without suffix, title, blocks."""

    name: str
    title: str
    blocks: tuple[Block, ...]
    kind: Literal["flow", "group", "index"] = "flow"


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


def _connection_blocks(flow: Flow) -> list[Block]:
    if not flow.connections:
        return [Paragraph("The export names none.", quiet=True)]
    rows: list[tuple[Any, ...]] = []
    for connection in flow.connections:
        _connection_row(flow, connection, rows)
    columns = (
        Column("name", "connection"),
        Column("service", "service"),
        Column("account", "account"),
        Column("does", "the flow there"),
        Column("users", "used by", "count"),
    )
    return [Table(Sheet(columns, tuple(rows)))]


def _connection_row(flow: Flow, connection: Connection, rows: list[tuple[Any, ...]]) -> None:
    users = sum(step.connection == connection.id for step in flow.steps) + sum(
        trigger.connection == connection.id for trigger in flow.triggers
    )
    effects = dict.fromkeys(
        EFFECTS[step.effect].verb
        for step in flow.steps
        if step.connection == connection.id and EFFECTS[step.effect].verb
    )
    rows.append(
        (
            connection.name or connection.id,
            connection.service,
            connection.account,
            ", ".join(effects) or ("nothing known" if users else "not used"),
            users,
        )
    )


def _variable_blocks(flow: Flow) -> list[Block]:
    if not flow.variables:
        return []
    columns = (Column("name", "variable"), Column("value", "value"), Column("description", "meaning"))
    rows = tuple(
        (variable.name, phrases.value_words(variable.value, (), {}), variable.description)
        for variable in flow.variables
    )
    return [Heading(2, "Variables", "variables"), Table(Sheet(columns, rows))]


def step_anchor(graph: Graph, step: Step) -> str:
    """Where a step stands on its page."""
    return f"step-{graph.numbers.get(step.id, step.id)}"


def step_blocks(graph: Graph, step: Step, level: int = 3) -> list[Block]:
    """A step in plain words: sentence, inputs and who decides them, cases, prompt and settings."""
    names = graph.names
    title = f"{graph.numbers.get(step.id, '')} {step.title}".strip()
    blocks: list[Block] = [Heading(level, title, step_anchor(graph, step))]
    blocks.append(Paragraph(sentences.step_sentence(graph, step)))
    tags = [KINDS[step.kind].words, f"operation {step.operation}" if step.operation else "", EFFECTS[step.effect].verb]
    blocks.append(Paragraph(" · ".join(t for t in tags if t), quiet=True))
    if facts := [*facts_of(step, STEP_FACTS, names), *sentences.silence_facts(graph, step)]:
        blocks.append(Facts(tuple(facts)))
    if step.note:
        blocks.append(Quote("Note in the export", step.note))
    _case_blocks(graph, step, blocks)
    if step.inputs:
        _input_block(step, names, blocks)
    use = model_of(graph, step)
    if use is not None and step.kind in ("model", "agent", "embed"):
        _model_blocks(use, blocks, names)
    if step.unread:
        blocks.append(Paragraph(f"Not understood in the export: {', '.join(step.unread)}", quiet=True))
    onward = "" if step.kind == "decide" else sentences.next_words(graph, step)
    if onward:
        blocks.append(Paragraph(onward, quiet=True))
    return blocks


def _case_blocks(graph: Graph, step: Step, blocks: list[Block]) -> None:
    if step.id in graph.deciding:
        columns = (Column("case", "case"), Column("condition", "if"), Column("goes", "goes on at"))
        found = sentences.cases_of(graph, step)
        if found:
            blocks.append(Table(Sheet(columns, tuple(found))))


def _input_block(step: Step, names: dict[str, str], blocks: list[Block]) -> None:
    columns: tuple[Column, ...] = (Column("input", "input"), Column("value", "value"), Column("by", "decided by"))
    rows: list[tuple[str, ...]] = [
        (
            second.name,
            phrases.value_words(second.value, second.refs, names) if second.decided != "model" else "",
            phrases.decider_words(second, names),
        )
        for second in step.inputs
    ]
    if any(second.role or second.secured for second in step.inputs):
        columns = (*columns, Column("role", "is"))
        roles = [input_role_words(second.role, second.secured) for second in step.inputs]
        rows = [(*row, role) for row, role in zip(rows, roles, strict=True)]
    blocks.append(Table(Sheet(columns, tuple(rows))))


def _model_blocks(use: ModelUse, blocks: list[Block], names: dict[str, str]) -> None:
    settings = [
        ("Model", use.name or "not named in the export"),
        ("Temperature", "" if use.temperature is None else f"{use.temperature:g}"),
        ("Longest answer", "" if use.max_output is None else count_words(use.max_output, "token")),
        ("Most turns", "" if use.max_turns is None else str(use.max_turns)),
    ]
    blocks.append(Facts(tuple((key, value) for key, value in settings if value)))
    for prompt in use.prompts:
        blocks.append(Quote(f"Prompt ({prompt.role})", phrases.prompt_text(prompt, names)))


def _cost_blocks(found: FlowEstimate, result: EstateEstimate) -> list[Block]:
    unit = result.currency
    per_month = "unknown" if found.cost_month is None else money_words(found.cost_month, unit)
    runs = "unknown" if found.runs is None else f"{found.runs:,.0f}"
    pairs = [
        ("Model calls per run", number_text(found.calls)),
        ("Cost per run", money_words(found.cost, unit)),
        (f"Runs in {result.month}", f"{runs} ({found.runs_why})" if found.runs_why else runs),
        (f"Cost in {result.month}", per_month),
        ("Cost is based on", evidence_words(found.evidence)),
    ]
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
    flow: Flow,
    name: str,
    result: EstateEstimate | None,
    sheet: Sequence[Block] = (),
    sign_off: Sequence[Block] = (),
    neighbours: Sequence[Block] = (),
) -> Page:
    """The document of one flow: the first sheet with its sign-off, and behind it the map, the flows around it, every step, and where
    all of it comes from."""
    graph = Graph(flow)
    blocks: list[Block] = [Heading(1, flow.title), *sheet, *sign_off]
    blocks += [Heading(2, "Map", "map"), Picture(f"Map of {flow.title}"), _flow_facts(flow)]
    blocks += neighbours
    blocks += [Heading(2, "Triggers", "triggers")]
    lines = phrases.triggers_list(flow)
    blocks.append(Bullets(tuple(lines)) if lines else Paragraph("The export names no trigger."))
    blocks += [Heading(2, "Connections", "connections"), *_connection_blocks(flow), *_variable_blocks(flow)]
    blocks.append(Heading(2, "Steps", "steps"))
    for step in graph.in_order():
        if step.kind != "note":
            blocks += step_blocks(graph, step)
    found = (
        next((flow_estimate for flow_estimate in result.flows if flow_estimate.id == flow.id), None)
        if result is not None
        else None
    )
    if found is not None and result is not None:
        blocks += [Heading(2, "Calls and cost", "cost"), *_cost_blocks(found, result)]
    if flow.unread or flow.around:
        blocks.append(Heading(2, "Not understood", "unread"))
        if flow.unread:
            blocks.append(
                Paragraph("Parts of the export that have no place in this description: " + ", ".join(flow.unread))
            )
        if flow.around:
            blocks.append(Paragraph("Parts of the file around its flows: " + ", ".join(flow.around)))
    return Page(name, flow.title, tuple(blocks))

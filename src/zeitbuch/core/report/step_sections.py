# Every step with all that is said of it, each within the step that holds it; the tools of an agent that are no more than a call stand in a table of the agent.
"""Steps of a document."""

from __future__ import annotations

from collections.abc import Sequence

from zeitbuch.core.graph import phrases
from zeitbuch.core.graph.topology import Graph, model_of
from zeitbuch.core.model.facts import STEP_FACTS, facts_of, input_role_words
from zeitbuch.core.model.kinds import EFFECTS, KINDS
from zeitbuch.core.model.records import Binding, ModelUse, Step
from zeitbuch.core.model.sheet import Column, Sheet
from zeitbuch.core.model.words import count_words, join_words

from . import sentences
from .blocks import Block, Facts, Heading, Paragraph, Quote, Table

_OUTERMOST, _DEEPEST = 3, 6  # levels of headings


def steps_section(graph: Graph) -> list[Block]:
    """All steps in order, nested as they stand in each other."""
    blocks: list[Block] = []
    for step in graph.in_order():
        if step.kind == "note" or is_listed_tool(graph, step):
            continue
        depth = len(graph.scope_path(graph.card_of(step.id))) - 1 + (step.id in graph.host)
        tools = [helper for helper in graph.used_by(step.id) if is_listed_tool(graph, helper)]
        blocks += step_blocks(graph, step, min(_OUTERMOST + depth, _DEEPEST), tools)
    return blocks


def is_listed_tool(graph: Graph, step: Step) -> bool:
    """Whether a step is a tool of agents of which a row of a table says all there is."""
    hosts = graph.hosts_of(step.id)
    if not hosts or any(graph.steps[host].kind != "agent" for host in hosts):
        return False
    use = model_of(graph, step)
    more = (
        step.note
        or step.unread
        or step.id in graph.deciding
        or graph.used_by(step.id)
        or (use is not None and use.prompts)
    )
    return not more and step.kind not in ("model", "agent", "memory") and not _facts_of(graph, step)


def _facts_of(graph: Graph, step: Step) -> list[tuple[str, str]]:
    return [*facts_of(step, STEP_FACTS, graph.names), *sentences.silence_facts(graph, step)]


def _tools_table(graph: Graph, tools: Sequence[Step]) -> Table:
    columns = (
        Column("tool", "tool"), Column("does", "does"), Column("model", "the model decides"), Column("fixed", "fixed"), Column("data", "from data"),
        Column("operation", "operation"),
    )  # fmt: skip
    rows = []
    for tool in tools:
        effect = EFFECTS[tool.effect].verb
        sentence = sentences.step_sentence(graph, tool)
        rows.append(
            (
                f"{graph.numbers.get(tool.id, '')} {tool.title}".strip(),
                f"{sentence} ({effect})" if effect else sentence,
                *[
                    join_words([_input_words(graph, one) for one in tool.inputs if one.decided == by])
                    for by in ("model", "fixed", "data")
                ],
                tool.operation,
            )
        )
    kept = [place for place in range(len(columns)) if any(row[place] for row in rows)]
    return Table(
        Sheet(tuple(columns[place] for place in kept), tuple(tuple(row[place] for place in kept) for row in rows))
    )


def _input_words(graph: Graph, one: Binding) -> str:
    """'amount (The amount to pay back)', 'limit: 200', each with its role."""
    role = input_role_words(one.role, one.secured)
    name = f"{one.name} [{role}]" if role else one.name
    if one.decided == "model":
        about = ", ".join(part for part in (one.type, one.description) if part)
        return f"{name} ({about})" if about else name
    return f"{name}: {phrases.value_words(one.value, one.refs, graph.names)}"


def section_anchor(graph: Graph, step: Step) -> str:
    """Where on its page a step is told of: at its own heading, or at that of its agent."""
    return step_anchor(graph, graph.steps[graph.host[step.id]] if is_listed_tool(graph, step) else step)


def step_anchor(graph: Graph, step: Step) -> str:
    """Where a step stands on its page."""
    return f"step-{graph.numbers.get(step.id, step.id)}"


def step_blocks(graph: Graph, step: Step, level: int = _OUTERMOST, tools: Sequence[Step] = ()) -> list[Block]:
    """A step in plain words: sentence, inputs and who decides them, cases, prompt and settings, and a table of ``tools``."""
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
    if tools:
        blocks.append(_tools_table(graph, tools))
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
        if sentences.leaves_rest_open(graph, step):
            found.append((sentences.REST, "", sentences.NO_WAY))
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
        ("Model", (use.name or "not named in the export") + (f", the value of {use.variable}" if use.variable else "")),
        ("Temperature", "" if use.temperature is None else f"{use.temperature:g}"),
        ("Longest answer", "" if use.max_output is None else count_words(use.max_output, "token")),
        ("Most turns", "" if use.max_turns is None else str(use.max_turns)),
    ]
    blocks.append(Facts(tuple((key, value) for key, value in settings if value)))
    for prompt in use.prompts:
        blocks.append(Quote(f"Prompt ({prompt.role})", phrases.prompt_text(prompt, names)))

# The words of a document for the terminal: a whole flow shortly, or one step with everything.
"""Explanations of a flow or a step."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zeitbuch.core.graph.pattern_class import pattern_of, pattern_reason
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.facts import FLOW_FACTS, facts_of
from zeitbuch.core.model.records import Step
from zeitbuch.core.model.words import count_words, triggers_words
from zeitbuch.core.passes.reachability import Reachability

from . import sentences
from .blocks import Block, Bullets, Facts, Heading, Page, Paragraph
from .step_sections import step_blocks

if TYPE_CHECKING:
    from .what_if import Story


def story_page(graph: Graph, story: Story) -> Page:
    """What happens when, as blocks."""
    blocks: list[Block] = [
        Heading(1, f"{graph.flow.title}: {story.given[:1].lower()}{story.given[1:]}"),
        Paragraph(story.ends),
    ]
    lines = []
    for event in story.events:
        number = graph.numbers.get(event.id, "")
        indent = "  " * number.count(".")
        if event.odds != "not":
            mark = "perhaps: " if event.odds == "perhaps" else ""
            lines.append(f"{indent}{number} {mark}{graph.names[event.id]}: {event.words}")
    blocks.append(Bullets(tuple(lines)))
    idle = [
        f"{graph.numbers.get(event.id, '')} {graph.names[event.id]}".strip()
        for event in story.events
        if event.odds == "not"
    ]
    if idle:
        blocks.append(Paragraph(f"Not run: {', '.join(idle)}.", quiet=True))
    return Page("explain", graph.flow.title, tuple(blocks))


def explanation_page(graph: Graph, step: Step | None = None) -> Page:
    """The explanation as blocks."""
    flow = graph.flow
    if step is not None:
        return _step_page(graph, step)
    blocks: list[Block] = [Heading(1, flow.title)]
    if flow.description:
        blocks.append(Paragraph(flow.description))
    blocks.append(Paragraph(sentences.summary_sentences(graph)))
    pairs = [("Trigger", triggers_words(flow)), ("Owner", ", ".join(flow.owners)), ("State", flow.state)]
    ways = Reachability(graph)
    pairs += [
        *facts_of(flow, FLOW_FACTS, {}),
        ("Pattern", f"{pattern_of(flow)}: {pattern_reason(graph)}"),
        ("Longest way", count_words(len(ways.longest), "step")),
        ("Nothing leads to", ", ".join(graph.names[text] for text in ways.unreachable)),
        ("Nobody uses", ", ".join(graph.names[text] for text in ways.dead_ends)),
    ]
    blocks += [Facts(tuple((key, value) for key, value in pairs if value)), Heading(2, "Steps")]
    lines = _step_lines(graph)
    blocks.append(Bullets(tuple(lines)))
    return Page("explain", flow.title, tuple(blocks))


def _step_page(graph: Graph, step: Step) -> Page:
    found: list[Block] = step_blocks(graph, step, level=2)
    ways = Reachability(graph)
    takes = [ways.read_words(read) for read in ways.reads if read.reader == step.id]
    gives = [f"{graph.names[read.reader]}: {read.where}" for read in ways.reads if read.source == step.id]
    for title, lines in (("Takes", takes), ("Is used by", gives)):
        if lines:
            found += [Heading(3, title), Bullets(tuple(dict.fromkeys(lines)))]
    return Page("explain", step.title, tuple(found))


def _case_words(label: str, condition: str) -> str:
    """'late (hour > 6)', 'late' or 'if hour > 6'."""
    if not label:
        return f"if {condition}"
    return f"{label} ({condition})" if condition and condition != label else label


def _step_lines(graph: Graph) -> list[str]:
    lines = []
    for item in graph.in_order():
        if item.kind == "note":
            continue
        number = graph.numbers.get(item.id, "")
        indent = "  " * number.count(".")
        cases = "".join(
            f"\n{indent}   {_case_words(label, condition)}: goes on at {goes}"
            for label, condition, goes in sentences.cases_of(graph, item)
        )
        cases += f"\n{indent}   {sentences.REST}: {sentences.NO_WAY}" if sentences.leaves_rest_open(graph, item) else ""
        lines.append(f"{indent}{number} {item.title}: {sentences.step_sentence(graph, item)}{cases}")
    return lines

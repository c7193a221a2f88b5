# The words of a document for the terminal: a whole flow shortly, or one step with everything.
"""Explanations of a flow or a step."""

from __future__ import annotations

from typing import TYPE_CHECKING

from . import prose
from .document import Block, Bullets, Facts, Heading, Page, Paragraph, step_blocks
from .model import Step
from .pattern_words import pattern_reason
from .problems import fail
from .topology import Graph, pattern_of
from .ways import Ways
from .words import plural, triggers_words

if TYPE_CHECKING:
    from .happens import Story


def pick_step(graph: Graph, key: str) -> Step:
    """The step with this id, number or name. Raises ZeitbuchError with the steps there are when none fits."""
    low = key.casefold()
    for step in graph.flow.steps:
        if step.id == key or graph.numbers.get(step.id) == key:
            return step
    named = [s for s in graph.flow.steps if s.title.casefold() == low] or [
        s for s in graph.flow.steps if low in s.title.casefold()
    ]
    if len(named) == 1:
        return named[0]
    listed = named or [s for s in graph.in_order() if s.kind != "note"]
    steps = ", ".join(f"{graph.numbers.get(s.id, '')} {s.title}".strip() for s in listed[:12])
    found = f"{plural(len(named), 'step')} of that name" if named else "none"
    raise fail("step-unknown", f"expected the id, number or name of a step, found {found}: '{key}'", f"steps: {steps}")


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
    idle = [f"{graph.numbers.get(e.id, '')} {graph.names[e.id]}".strip() for e in story.events if e.odds == "not"]
    if idle:
        blocks.append(Paragraph(f"Not run: {', '.join(idle)}.", quiet=True))
    return Page("explain", graph.flow.title, tuple(blocks))


def page(graph: Graph, step: Step | None = None) -> Page:
    """The explanation as blocks."""
    flow = graph.flow
    if step is not None:
        found: list[Block] = step_blocks(graph, step, level=2)
        ways = Ways(graph)
        takes = [ways.words(r) for r in ways.reads if r.reader == step.id]
        gives = [f"{graph.names[r.reader]}: {r.where}" for r in ways.reads if r.source == step.id]
        for title, lines in (("Takes", takes), ("Is used by", gives)):
            if lines:
                found += [Heading(3, title), Bullets(tuple(dict.fromkeys(lines)))]
        return Page("explain", step.title, tuple(found))
    blocks: list[Block] = [Heading(1, flow.title)]
    if flow.description:
        blocks.append(Paragraph(flow.description))
    blocks.append(Paragraph(prose.summary(graph)))
    pairs = [("Set off by", triggers_words(flow)), ("Owner", ", ".join(flow.owners)), ("State", flow.state)]
    ways = Ways(graph)
    pairs += [
        ("Pattern", f"{pattern_of(flow)}: {pattern_reason(graph)}"),
        ("Longest way", plural(len(ways.longest), "step")),
        ("Nothing leads to", ", ".join(graph.names[s] for s in ways.unreachable)),
        ("Nobody uses", ", ".join(graph.names[s] for s in ways.dead_ends)),
    ]
    blocks += [Facts(tuple((k, v) for k, v in pairs if v)), Heading(2, "Steps")]
    lines = []
    for item in graph.in_order():
        if item.kind == "note":
            continue
        number = graph.numbers.get(item.id, "")
        indent = "  " * number.count(".")
        cases = "".join(
            f"\n{indent}   {label}{f' ({condition})' if condition and condition != label else ''}: goes on at {goes}"
            for label, condition, goes in (prose.cases(graph, item) if item.kind == "decide" else [])
        )
        lines.append(f"{indent}{number} {item.title}: {prose.step_sentence(graph, item)}{cases}")
    blocks.append(Bullets(tuple(lines)))
    return Page("explain", flow.title, tuple(blocks))

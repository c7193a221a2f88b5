# Flows as text for other programs: DOT (Graphviz) and Mermaid. Names are quoted so that they stay text.
"""Maps as DOT and as Mermaid text."""

from __future__ import annotations

import re
from collections.abc import Callable

from zeitbuch.core.graph.outline import way_words
from zeitbuch.core.graph.topology import Graph, attached_role, model_of
from zeitbuch.core.layout.cards import Showing
from zeitbuch.core.model.kinds import EFFECTS, KINDS
from zeitbuch.core.model.outcomes import takes_faults
from zeitbuch.core.model.records import Link
from zeitbuch.core.model.words import trigger_words
from zeitbuch.writers.escape.text import make_inert
from zeitbuch.writers.theme.terminal import TextLook

from .drawing import MapDrawing


def _node_lines(graph: Graph, id: str, showing: Showing) -> list[str]:
    """The lines of a node: number and name, kind and effect, remarks."""
    trigger = graph.triggers.get(id)
    if trigger is not None:
        words = trigger_words(trigger)
        return [trigger.title, words] if trigger.name else [words]
    step = graph.steps[id]
    lines = [f"{graph.numbers.get(id, '')} {step.title}".strip()]
    if showing.detail != "names":
        use = model_of(graph, step)
        facts = [use.name if use is not None and use.name else KINDS[step.kind].words, EFFECTS[step.effect].verb]
        lines.append(", ".join(name for name in facts if name))
        lines += [f"{attached_role(graph, helper)}: {helper.title}" for helper in graph.helpers_of(id)]
    meter = showing.meters.get(id)
    return [*lines, *showing.remarks.get(id, ()), *([meter[0]] if meter is not None else [])]


def dot_quoted(text: str) -> str:
    """A text as a quoted DOT id or label that means itself."""
    return '"' + make_inert(text, keep_lines=False).replace("\\", "\\\\").replace('"', '\\"') + '"'


def to_dot(graph: Graph, showing: Showing, direction: str = "down") -> str:
    """The flow in the DOT language: scopes as clusters, links of scopes clipped at their frames."""
    ids = {id: f"n{index}" for index, id in enumerate([*graph.triggers, *graph.steps])}
    out = [
        f"digraph {dot_quoted(graph.flow.title)} {{",
        f"  compound=true; rankdir={'LR' if direction == 'right' else 'TB'};",
        '  node [shape=box, fontname="DejaVu Sans", fontsize=10]; edge [fontname="DejaVu Sans", fontsize=9];',
    ]

    def node(id: str, lead: str) -> None:
        label = "\\n".join(dot_quoted(line)[1:-1] for line in _node_lines(graph, id, showing))
        step = graph.steps.get(id)
        shape = ", shape=oval" if step is None else ""
        double = ", peripheries=2" if step is not None and step.kind in ("model", "agent", "embed") else ""
        heavy = ", penwidth=2.5" if id in showing.marked else ""
        out.append(f'{lead}{ids[id]} [label="{label}"{shape}{double}{heavy}];')

    def level(scope: str | None, lead: str) -> None:
        for step in graph.levels[scope].steps:
            if step.kind == "note":
                continue
            if step.id in graph.levels:
                label = "\\n".join(dot_quoted(line)[1:-1] for line in _node_lines(graph, step.id, showing))
                out.append(f'{lead}subgraph cluster_{ids[step.id]} {{\n{lead}  label="{label}";')
                if not [s for s in graph.levels[step.id].steps if s.kind != "note"]:
                    out.append(f'{lead}  {ids[step.id]} [label="nothing inside"];')
                level(step.id, lead + "  ")
                out.append(f"{lead}}}")
            else:
                node(step.id, lead)

    for trigger in graph.triggers:
        node(trigger, "  ")
    level(None, "  ")

    def end(id: str, last: bool) -> str:
        inside = [step.id for step in graph.levels[id].steps if step.kind != "note"] if id in graph.levels else []
        return end(inside[-1 if last else 0], last) if inside else id

    for link in graph.flow.links:
        _link_line(graph, link, ids, end, out, showing)
    return "\n".join([*out, "}"]) + "\n"


def _link_line(
    graph: Graph, link: Link, ids: dict[str, str], end: Callable[[str, bool], str], out: list[str], showing: Showing
) -> None:
    if link.role == "attach" or link.source not in ids or link.target not in ids:
        return
    first, second = end(link.source, True), end(link.target, False)
    within = link.source in graph.scope_path(link.target)
    if within:
        return
    facts = []
    key = link.source, link.target, link.label
    words = (way_words(graph, link), showing.link_words.get(key, ""))
    text = " · ".join(part for part in words if part)
    if key in showing.heavy:
        facts.append("penwidth=2.8")
    if text:
        facts.append(f"label={dot_quoted(text)}")
    if first != link.source:
        facts.append(f"ltail=cluster_{ids[link.source]}")
    if second != link.target:
        facts.append(f"lhead=cluster_{ids[link.target]}")
    if takes_faults(link):
        facts.append("style=dashed, arrowhead=tee")
    out.append(f"  {ids[first]} -> {ids[second]}{' [' + ', '.join(facts) + ']' if facts else ''};")


_MARKUP = re.compile(r"[^0-9A-Za-z .,:()/+=äöüÄÖÜß·‘’–-]")


def mermaid_text(text: str) -> str:
    """A text within double quotes of Mermaid: everything that could be markup becomes a numbered character."""
    words = make_inert(text, keep_lines=False)
    return "".join(letter if letter.isalnum() or not _MARKUP.match(letter) else f"#{ord(letter)};" for letter in words)


def to_mermaid(graph: Graph, showing: Showing, direction: str = "down") -> str:
    """The flow as a Mermaid flowchart."""
    ids = {id: f"n{index}" for index, id in enumerate([*graph.triggers, *graph.steps])}
    out = [f"flowchart {'LR' if direction == 'right' else 'TB'}"]

    def label(id: str) -> str:
        return "<br/>".join(mermaid_text(line) for line in _node_lines(graph, id, showing))

    def level(scope: str | None, lead: str) -> None:
        for step in graph.levels[scope].steps:
            if step.kind == "note":
                continue
            if [s for s in graph.levels[step.id].steps if s.kind != "note"] if step.id in graph.levels else []:
                out.append(f'{lead}subgraph {ids[step.id]} ["{label(step.id)}"]')
                level(step.id, lead + "  ")
                out.append(f"{lead}end")
            elif step.kind == "decide":
                out.append(f'{lead}{ids[step.id]}{{"{label(step.id)}"}}')
            else:
                out.append(f'{lead}{ids[step.id]}["{label(step.id)}"]')

    for trigger in graph.triggers:
        out.append(f'  {ids[trigger]}(["{label(trigger)}"])')
    level(None, "  ")
    for link in graph.flow.links:
        if (
            link.role == "attach"
            or link.source not in ids
            or link.target not in ids
            or link.source in graph.scope_path(link.target)
        ):
            continue
        error = takes_faults(link)
        text = way_words(graph, link)
        arrow = "-.->" if error else "-->"
        said = f'|"{mermaid_text(text)}"|' if text else ""
        out.append(f"  {ids[link.source]} {arrow}{said} {ids[link.target]}")
    return "\n".join(out) + "\n"


def write_dot(drawing: MapDrawing, look: TextLook) -> str:
    """The graph in the DOT language."""
    return to_dot(drawing.view.graph, drawing.showing, drawing.direction)


def write_mermaid(drawing: MapDrawing, look: TextLook) -> str:
    """The graph as Mermaid text."""
    return to_mermaid(drawing.view.graph, drawing.showing, drawing.direction)

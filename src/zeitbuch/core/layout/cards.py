# What stands on a card and how large it is. Text is measured by the function handed in (the writers know fonts),
# wrapped to two lines, and cut only with its full text at hand.
"""Cards of a map from the steps of a flow."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

from msgspec import Struct

from zeitbuch.core.graph.open_frames import numbers_within
from zeitbuch.core.graph.outline import way_words
from zeitbuch.core.graph.topology import Edge, Graph, attached_role, model_of
from zeitbuch.core.model.kinds import EFFECTS, KINDS
from zeitbuch.core.model.outcomes import takes_faults
from zeitbuch.core.model.records import Step, Trigger
from zeitbuch.core.model.references import replace_refs
from zeitbuch.core.model.words import trigger_words

from .geometry import AttachedRow, Card, Line, Mark, Style, Tab

Measure = Callable[[str, float, bool], float]  # text, size, bold -> width

NAME, SMALL = 12.5, 10.0
TEXT_WIDTH = 208.0
SPINE = 8.0
PAD = 10.0
TAB_PAD = 9.0
TAB_GAP = 6.0
ROW_HEIGHT = 19.0
LEADING = {NAME: 16.0, SMALL: 14.0}
METER = 7.0
PROMPT_LINES = 6
INK = {"role": 52.0}


Detail = Literal["names", "settings", "prompts"]


class Showing(Struct, frozen=True):
    """What cards show beside a step's own text. ``meters`` gives a figure in words and its length on the scale (0 to 1)."""

    detail: Detail = "settings"
    remarks: dict[str, tuple[str, ...]] = {}
    marked: frozenset[str] = frozenset()
    meters: dict[str, tuple[str, float]] = {}
    scale: str = ""
    tab: float = 150.0  # the most that a tab's text takes
    turned: bool = False  # from left to right
    marks: dict[str, Mark] = {}  # what a comparison says of steps, and of links (source, target, label)
    links: dict[tuple[str, str, str], Mark] = {}
    link_words: dict[tuple[str, str, str], str] = {}  # what the tabs of links (source, target, label) say more
    heavy: frozenset[tuple[str, str, str]] = frozenset()  # links that are drawn heavier
    told: dict[str, tuple[tuple[str, str], ...]] = {}  # what logs have of steps, for the panel of a page
    points: dict[str, tuple[str, ...]] = {}  # what is wrong there, for the panel of a page


PLAIN = Showing()


def cut_text(text: str, width: float, size: float, bold: bool, measure: Measure) -> str:
    """The longest beginning of a text that fits, with an ellipsis when it is not all of it."""
    if measure(text, size, bold) <= width:
        return text
    low, high = 0, min(len(text), 400)
    while low < high:
        middle = (low + high + 1) // 2
        if measure(text[:middle].rstrip() + "…", size, bold) <= width:
            low = middle
        else:
            high = middle - 1
    return text[:low].rstrip() + "…"


def wrap_text(text: str, width: float, size: float, bold: bool, measure: Measure, most: int) -> list[str]:
    """A text on at most ``most`` lines; the last is cut when it does not end there."""
    words = text.split()
    whole = " ".join(words)
    if measure(whole, size, bold) <= width:
        return [whole]
    lines: list[str] = []
    while words and len(lines) < most - 1:
        line = ""
        while words:
            longer = f"{line} {words[0]}".strip()
            if measure(longer, size, bold) > width:
                break
            line = longer
            words.pop(0)
        if not line:
            break
        lines.append(line)
    if words:
        lines.append(cut_text(" ".join(words), width, size, bold, measure))
    return lines or [""]


def _card_lines(name: str, details: list[str], measure: Measure) -> list[Line]:
    lines = [
        Line(t, NAME, bold=True, full=name if t.endswith("…") else "")
        for t in wrap_text(name, TEXT_WIDTH, NAME, True, measure, 2)
    ]
    for detail in details:
        lines.append(_small_line(detail, measure, quiet=True))
    return lines


def _small_line(words: str, measure: Measure, quiet: bool = False) -> Line:
    text = cut_text(words, TEXT_WIDTH, SMALL, False, measure)
    return Line(text, SMALL, quiet=quiet, full=words if text != words else "")


def _outlet_tabs(graph: Graph, edges: list[tuple[int, Edge]], measure: Measure, showing: Showing) -> list[Tab]:
    """One tab for each outlet that has something to say: cases, labels, error routes, steps within a block that ways leave."""
    tabs: list[Tab] = []
    names = graph.names
    numbers = dict(zip([key for key, _ in edges], numbers_within(graph, [edge for _, edge in edges]), strict=True))
    x = PAD
    # What goes on lies left of what fails, and what goes back outermost, where its line does not cross the others.
    for key, edge in sorted(edges, key=lambda e: (e[1].back, takes_faults(e[1].link))):
        link = edge.link
        style: Style = (
            "error" if takes_faults(link) else "back" if edge.back else "case" if link.role == "case" else "next"
        )
        words = link.label or replace_refs(link.condition, link.refs, names) or way_words(graph, link)
        if numbers[key]:
            words = f"{words or 'then'} (from {numbers[key]})"
        if not words:
            continue
        text = cut_text(" ".join(words.split()), showing.tab, SMALL, False, measure)
        more = showing.link_words.get((link.source, link.target, link.label), "")
        text += f" · {more}" if more else ""
        width = measure(text, SMALL, False) + 2 * TAB_PAD
        condition = replace_refs(link.condition, link.refs, names)
        full = words if not condition or condition == words else f"{words}: {condition}"
        tabs.append(Tab(key, text, full, style, x, width))
        x += width + TAB_GAP
    return tabs


def card_size(lines: list[Line], rows: list[AttachedRow], tabs: list[Tab], measure: Measure) -> tuple[float, float]:
    """Width and height of a card for what it holds."""
    # The order number stands in the upper right corner, beside the first line.
    text = max(
        [measure(line.text, line.size, line.bold) + (24.0 if i == 0 else 0.0) for i, line in enumerate(lines)] or [0.0]
    )
    row = max([measure(r.text, SMALL, False) + INK["role"] + 46 for r in rows] or [0.0])
    tab = tabs[-1].x + tabs[-1].width + PAD - SPINE - 2 * PAD if tabs else 0.0
    width = SPINE + 2 * PAD + max(text, row, tab, 110.0)
    height = PAD + sum(LEADING[line.size] for line in lines) + PAD - 3 + ROW_HEIGHT * len(rows) + (5 if rows else 0)
    return round(width, 2), round(height, 2)


def _detail_lines(graph: Graph, step: Step) -> list[str]:
    """What a card says below the name."""
    details: list[str] = []
    if step.kind == "other":
        details.append(f"unclassified: {step.operation or 'no operation'}")
    _kind_lines(graph, step, details)
    if step.retry is not None:
        details.append(f"tries again {step.retry.attempts}x")
    if step.calls:
        details.append(f"calls {step.calls}")
    effect = EFFECTS[step.effect].verb
    if effect:
        own = step.kind == step.effect and details[-1] == KINDS[step.kind].words
        details[-1] = effect if own else f"{details[-1]} · {effect}"
    if not step.enabled:
        details.append("switched off")
    return details


def _kind_lines(graph: Graph, step: Step, details: list[str]) -> None:
    use = model_of(graph, step)
    if use is not None and use.name:
        kind = "agent" if step.kind == "agent" else use.modality if use.modality != "text" else "model"
        details.append(f"{kind}: {use.name}")
    elif step.kind != "other":
        details.append(KINDS[step.kind].words)
    if step.repeat is not None and (step.repeat.items or step.repeat.until):
        repeat = step.repeat
        words = f"for each of {repeat.items}" if repeat.items else f"until {repeat.until}"
        details[-1] = replace_refs(words, repeat.refs, graph.names)
    elif step.condition and step.kind == "decide":
        details[-1] = replace_refs(f"by {step.condition}", step.refs, graph.names)


def _prompt_lines(graph: Graph, step: Step, measure: Measure) -> list[Line]:
    """The beginning of a step's prompts, with placeholders in words."""
    if step.model is None:
        return []
    text = "  ".join(replace_refs(p.text, p.refs, graph.names) for p in step.model.prompts)
    lines = wrap_text(text, TEXT_WIDTH, SMALL, False, measure, PROMPT_LINES) if text.strip() else []
    return [Line(t, SMALL, full=text if t.endswith("…") else "") for t in lines]


def step_card(
    graph: Graph,
    step: Step,
    outgoing: list[tuple[int, Edge]],
    measure: Measure,
    showing: Showing = PLAIN,
    branch: str = "",
) -> Card:
    """The card of a step (also the title of a scope's frame); ``branch`` names the branch that begins with it."""
    names_only = showing.detail == "names"
    details = [] if names_only else _detail_lines(graph, step)
    rows = _helper_rows(graph, step, measure, names_only)
    lines, meter = _lines_of_card(graph, step, measure, showing, branch, details)
    tabs = _outlet_tabs(graph, outgoing, measure, showing)
    width, height = card_size(lines, rows, tabs, measure)
    height += METER if meter is not None else 0.0
    return Card(
        id=step.id,
        number=graph.numbers.get(step.id, ""),
        kind=step.kind,
        effect=step.effect,
        frame="double" if step.kind in ("model", "agent", "embed") else "dotted" if step.kind == "other" else "plain",
        lines=tuple(lines),
        rows=tuple(rows),
        tabs=tuple(tabs),
        width=width,
        height=height,
        full=f"{step.title} ({step.operation or KINDS[step.kind].words})",
        enabled=step.enabled,
        meter=meter[1] if meter is not None else None,
        marked=step.id in showing.marked,
        mark=showing.marks.get(step.id, ""),
    )


def _helper_rows(graph: Graph, step: Step, measure: Measure, names_only: bool) -> list[AttachedRow]:
    rows = []
    for helper in () if names_only else graph.helpers_of(step.id):
        inner = (
            helper.model.name
            if helper.kind == "model" and helper.model is not None and helper.model.name
            else helper.title
        )
        host = graph.host[helper.id]
        if host != step.id:  # a tool of a tool
            inner = f"{graph.steps[host].title}: {inner}"
        text = cut_text(inner, TEXT_WIDTH - 40, SMALL, False, measure)
        rows.append(
            AttachedRow(
                helper.id,
                attached_role(graph, helper),
                text,
                f"{helper.title} ({helper.operation or helper.kind})",
                helper.effect,
            )
        )
    return rows


def _lines_of_card(
    graph: Graph, step: Step, measure: Measure, showing: Showing, branch: str, details: list[str]
) -> tuple[list[Line], tuple[str, float] | None]:
    lines = _card_lines(step.title, details, measure)
    if showing.detail == "prompts":
        lines += _prompt_lines(graph, step, measure)
    meter = showing.meters.get(step.id)
    for remark in (*showing.remarks.get(step.id, ()), *((meter[0],) if meter is not None else ())):
        lines.append(_small_line(remark, measure))
    if branch:
        lines.append(_small_line(branch, measure, quiet=True))
    return lines, meter


def trigger_card(trigger: Trigger, measure: Measure) -> Card:
    """The card of a trigger."""
    lines = _card_lines(
        trigger.title if trigger.name else trigger_words(trigger),
        [trigger_words(trigger)] if trigger.name else [],
        measure,
    )
    width, height = card_size(lines, [], [], measure)
    return Card(
        id=trigger.id, number="", kind="trigger", effect="none", frame="start", lines=tuple(lines), rows=(), tabs=(),
        width=width, height=height, full=f"{trigger.title}: {trigger_words(trigger)}", enabled=trigger.enabled,
    )  # fmt: skip

# The map for a terminal: an outline with lines, cut to the width, never wider.
"""Maps as text."""

from __future__ import annotations

from zeitbuch.core.graph.outline import Item, outline_flow
from zeitbuch.core.graph.topology import Graph, attached_role, model_of
from zeitbuch.core.layout.cards import Showing
from zeitbuch.core.layout.views import View
from zeitbuch.core.model.kinds import EFFECTS, KINDS
from zeitbuch.core.model.records import Step
from zeitbuch.core.model.references import replace_refs
from zeitbuch.core.model.words import trigger_words
from zeitbuch.writers.escape.text import make_inert
from zeitbuch.writers.table.grid import cell_width
from zeitbuch.writers.theme.terminal import TextLook

from .drawing import MapDrawing

_LEAST = 24  # cells that a name keeps, however deep it stands


def to_tree(view: View, width: int, showing: Showing) -> str:
    """The flow as a tree of lines, at most ``width`` cells wide."""
    graph = view.graph
    head = [graph.flow.title, view.facts]
    tree = _Tree(graph, width, showing)
    for item in outline_flow(graph):
        tree.add_item(item, "", "")
    foot = ["", _fit_line(showing.scale.partition(", longest bar")[0], width)] if showing.scale else []
    return "\n".join([*[_fit_line(name, width) for name in head], "", *tree.lines, *foot]) + "\n"


def _fit_line(text: str, width: int) -> str:
    text = make_inert(text, keep_lines=False)
    if cell_width(text) <= width:
        return text
    low, high = 0, min(len(text), width)
    while low < high:
        middle = (low + high + 1) // 2
        low, high = (middle, high) if cell_width(text[:middle]) < width else (low, middle - 1)
    return text[:low].rstrip() + "…"


class _Tree:
    def __init__(self, graph: Graph, width: int, showing: Showing) -> None:
        self.graph, self.width, self.showing = graph, max(width, 40), showing
        self.link_words = {(source, target): words for (source, target, _), words in showing.link_words.items()}
        self.lines: list[str] = []

    def _add_line(self, lead: str, text: str) -> None:
        # Very deep outlines keep the right part of their lines, so that names can still be read.
        over = cell_width(lead) - (self.width - _LEAST)
        if over > 0:
            lead = "…" + lead[over + 1 :]
        self.lines.append(lead + _fit_line(text, self.width - cell_width(lead)))

    def add_item(self, item: Item, lead: str, rest: str) -> None:
        """Draws an item; ``lead`` stands before its line, ``rest`` before those below it."""
        names, numbers = self.graph.names, self.graph.numbers
        match item.part:
            case "trigger":
                trigger = self.graph.triggers[item.id]
                words = trigger_words(trigger)
                to = ", ".join(numbers.get(g.id, "") + (f" ({g.words})" if g.words else "") for g in item.below)
                self._add_line(
                    lead,
                    f"○ {trigger.title}"
                    + (f" ({words})" if words != trigger.title else "")
                    + (f" → {to}" if to else ""),
                )
                return
            case "goto":
                sign = "↑ back to" if item.back else "→"
                self._add_line(lead, f"{sign} {numbers.get(item.id, '')} {names.get(item.id, item.id)}")
            case "step":
                self._add_step(item.id, lead, rest)
            case _:
                raise AssertionError(item.part)
        self._add_below(item, rest)

    def _add_below(self, item: Item, rest: str) -> None:
        helpers = self.graph.attached.get(item.id, []) if self.showing.detail != "names" else []
        self._add_helpers(helpers, rest, bool(item.below))
        for place, child in enumerate(item.below):
            last = place == len(item.below) - 1
            corner, line = ("└─ ", "   ") if last else ("├─ ", "│  ")
            if child.part == "goto":
                self.add_item(child, rest + corner, rest + line)
            elif child.part == "inside" and not child.words:
                for number, inner in enumerate(child.below):
                    self.add_item(inner, rest + (line if number else corner), rest + line)
            else:
                self._add_branch(child, rest + corner, rest + line, item.id)

    def _add_branch(self, item: Item, lead: str, rest: str, source: str = "") -> None:
        words = f"branch {item.words}" if item.part == "inside" else item.words or "then"
        if item.below and (more := self.link_words.get((source, item.below[0].id))):
            words += f" · {more}"
        mark = "! " if item.error else ""
        if len(item.below) == 1 and item.below[0].part == "goto":
            goto = item.below[0]
            sign = "↑ back to" if goto.back else "→"
            name = f"{self.graph.numbers.get(goto.id, '')} {self.graph.names.get(goto.id, goto.id)}"
            self._add_line(lead, f"{mark}{words} {sign} {name}")
            return
        self._add_line(lead, f"{mark}{words}")
        for child in item.below:
            self.add_item(child, rest, rest)

    def _add_helpers(self, helpers: list[Step], rest: str, more: bool) -> None:
        """A line for each, with what is attached to it below; ``more`` lines of the same branch follow."""
        for place, helper in enumerate(helpers):
            corner, line = ("├─ ", "│  ") if more or place < len(helpers) - 1 else ("└─ ", "   ")
            self._add_line(rest + corner, self._helper_words(helper))
            self._add_helpers(self.graph.attached.get(helper.id, []), rest + line, False)

    def _helper_words(self, step: Step) -> str:
        effect = EFFECTS[step.effect].verb
        role = attached_role(self.graph, step)
        name = step.model.name if step.kind == "model" and step.model is not None and step.model.name else step.title
        return f"{role}: {name}" + (f" ({effect})" if effect else "")

    def _add_step(self, id: str, lead: str, rest: str) -> None:
        graph, step = self.graph, self.graph.steps[id]
        number = graph.numbers.get(id, "")
        text = f"{number} {step.title}"
        if self.showing.detail != "names":
            text = _facts_of_step(graph, step, text)
        text += "".join(f" · {r}" for r in self.showing.remarks.get(id, ()))
        meter = self.showing.meters.get(id)
        if meter is not None:
            text += f" · {meter[0]}"
        if id in self.showing.marked:
            text = f"▶ {text}"
        self._add_line(lead, text)
        if self.showing.detail == "prompts" and step.model is not None:
            for prompt in step.model.prompts:
                for line in replace_refs(prompt.text, prompt.refs, graph.names).strip().splitlines()[:6]:
                    self._add_line(rest + "   | ", line)


def _facts_of_step(graph: Graph, step: Step, text: str) -> str:
    use = model_of(graph, step)
    facts = [use.name if use is not None and use.name else KINDS[step.kind].words, EFFECTS[step.effect].verb]
    if step.repeat is not None and (step.repeat.items or step.repeat.until):
        said = f"for each of {step.repeat.items}" if step.repeat.items else f"until {step.repeat.until}"
        facts = [replace_refs(said, step.repeat.refs, graph.names)]
    if not step.enabled:
        facts.append("switched off")
    text += f" · {', '.join(f for f in facts if f)}"
    return text


def write_text(drawing: MapDrawing, look: TextLook) -> str:
    """A tree in the terminal. A file is as wide as its longest line; a terminal is not."""
    return to_tree(drawing.view, 1000 if look.file else look.width, drawing.showing)

# How a flow goes, told along its ways: what follows what, the cases of a decision below it, the place where ways meet again named once.
"""The course of a flow in lines."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from zeitbuch.core.graph.outline import Item, outline_flow
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.outcomes import takes_faults
from zeitbuch.core.model.records import Step
from zeitbuch.core.report.sentences import NO_WAY, REST, leaves_rest_open
from zeitbuch.core.report.step_phrases import step_phrase


def course_lines(graph: Graph) -> list[tuple[int, str]]:
    """The course in lines with their depth, each below what it belongs to."""
    items = [item for item in outline_flow(graph) if item.part != "trigger"]
    return list(_lines(graph, items, 0))


def _lines(graph: Graph, items: Sequence[Item], depth: int) -> Iterator[tuple[int, str]]:
    for place, item in enumerate(items):
        yield from _line(graph, item, depth, place == len(items) - 1)


def _line(graph: Graph, item: Item, depth: int, last: bool) -> Iterator[tuple[int, str]]:
    if item.part == "goto":
        yield depth, _onward(graph, item)
        return
    if item.part != "step":
        yield from _branch(graph, item, depth)
        return
    step = graph.steps[item.id]
    inside = [below for below in item.below if below.part == "inside"]
    onward = _onward_of(graph, item)
    aside = [below for below in item.below if below.part == "branch" and below is not onward]
    end = _end_words(graph, item, onward) or ("" if last or _leads_on(graph, step) else "; there this way ends")
    colon = ":" if inside or (aside and step.id in graph.deciding) else ""
    only = "only then: " if depth == 0 and _is_aside(graph, step) else ""
    yield depth, f"{only}{graph.numbers.get(item.id, '')} {step_phrase(graph, step)}{end}{colon}".strip()
    for below in (*inside, *aside):
        yield from _branch(graph, below, depth + 1)
    if leaves_rest_open(graph, step):
        yield depth + 1, f"{REST}: {NO_WAY}"
    if onward is not None and not end:
        yield from _lines(graph, onward.below, depth)


def _onward_of(graph: Graph, item: Item) -> Item | None:
    """What follows a step that decides nothing: no branch of it, the main way goes on below it."""
    if item.id in graph.deciding:
        return None
    return next((below for below in item.below if below.part == "branch" and not below.words and not below.error), None)


def _end_words(graph: Graph, item: Item, onward: Item | None) -> str:
    """'; then on to 7 ‘Book it’' for a way that goes on at a place told elsewhere."""
    gotos = [below for below in (*item.below, *(onward.below if onward is not None else ())) if below.part == "goto"]
    return f"; then {_onward(graph, gotos[0])}" if len(gotos) == 1 else ""


def _leads_on(graph: Graph, step: Step) -> bool:
    """Whether anything follows a step; of an end its own phrase says that nothing does."""
    return step.kind == "end" or any(link.role in ("next", "case") for link in graph.leaving.get(step.id, ()))


def _is_aside(graph: Graph, step: Step) -> bool:
    """Whether only failures and silence lead to a step."""
    arriving = [link for link in graph.arriving.get(step.id, ()) if link.role != "attach"]
    return bool(arriving) and all(takes_faults(link) and "skip" not in link.after for link in arriving)


def _branch(graph: Graph, item: Item, depth: int) -> Iterator[tuple[int, str]]:
    """What is inside a step, or one way out of it; a way that only leads elsewhere stands in one line."""
    words = item.words.replace("on error", "when it fails", 1) or ("when it fails" if item.error else "")
    if item.part == "branch" and len(item.below) == 1 and item.below[0].part == "goto":
        yield depth, f"{_head(words)}{_onward(graph, item.below[0])}"
        return
    if item.part == "branch" or words:
        yield depth, _head(words).rstrip()
        depth += 1
    yield from _lines(graph, item.below, depth)


def _head(words: str) -> str:
    return f"{words}: " if words else "then: "


def _onward(graph: Graph, item: Item) -> str:
    return f"{'back' if item.back else 'on'} to {_name(graph, item.id)}"


def _name(graph: Graph, key: str) -> str:
    return f"{graph.numbers.get(key, '')} {quote_name(graph.names[key])}".strip()

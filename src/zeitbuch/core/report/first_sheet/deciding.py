# Who decides what: an owner signs for what a model may choose by itself, and for what nobody looks at.
"""Who decides what in a flow."""

from __future__ import annotations

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Ref, Step
from zeitbuch.core.model.words import join_words
from zeitbuch.core.report.step_phrases import asked_people, value_of

_NO_ARTICLE = ("the ", "a ", "an ", "what ", "which ", "how ", "where ", "who ", "whether ", "when ")
_LIMITS = ("limit", "max", "maximum", "most", "cap", "ceiling")


def deciding_lines(graph: Graph) -> list[str]:
    """Sentences: what models decide, what follows from data, which limits are fixed, who is asked."""
    lines = []
    chosen = [words for step in graph.in_order() if (words := _chosen_in(graph, step))]
    by_answer = [
        words for step in graph.in_order() if step.kind == "decide" and (words := _chosen_by_answer(graph, step))
    ]
    labels = {ref.step for step in graph.in_order() if step.kind == "decide" for ref in _refs_of(graph, step)}
    written = [quote_name(step.title) for step in graph.in_order() if _words_something(graph, step, labels)]
    asks = [step for step in graph.in_order() if step.kind == "approve" and step.enabled]
    calls = any(step.calls for step in graph.flow.steps if step.enabled)
    if by_answer or chosen:
        alone = (
            "" if asks or calls else " alone"
        )  # where somebody is asked, here or in a flow called, it may not be alone
        lines.append(f"A model{alone} decides {join_words([*by_answer, *chosen])}.")
    if written:
        lines.append(f"A model words what {join_words(written)} {'gives' if len(written) == 1 else 'give'}.")
    lines += _limit_lines(graph)
    for step in asks:
        lines.append(f"{asked_people(graph, step) or 'A person'} decides at {quote_name(step.title)}.")
    if not asks and (chosen or by_answer or written):
        lines.append("Nobody approves anything in this flow itself." if calls else "Nobody approves anything.")
    return lines


def _words_something(graph: Graph, step: Step, labels: set[str | None]) -> bool:
    """Whether a model writes what others read: a model that an agent uses is no step of its own, a label that a decision reads no text."""
    writes = step.kind == "agent" or (step.kind == "model" and step.id not in labels)
    return writes and step.enabled and step.id not in graph.host


def _refs_of(graph: Graph, step: Step) -> list[Ref]:
    """What a decision goes by."""
    return [*step.refs, *[ref for link in graph.leaving.get(step.id, ()) for ref in link.refs]]


def _chosen_in(graph: Graph, step: Step) -> str:
    """'amount of ‘Pay a refund’ (the amount to pay back)': the inputs of a step that a model chooses."""
    given = [one.description or one.name for one in step.inputs if one.decided == "model"]
    names = [_noun(name) for name in given]
    return f"{join_words(names)} of {quote_name(step.title)}" if names and step.enabled else ""


def _noun(text: str) -> str:
    """'The amount to pay back' -> 'the amount to pay back'; a question stays one."""
    low = f"{text[:1].lower()}{text[1:]}"
    return low if low.startswith(_NO_ARTICLE) else f"the {low}"


def _chosen_by_answer(graph: Graph, step: Step) -> str:
    """'which way ‘Desk’ goes (by what ‘Whose matter is it?’ answers)'."""
    sources = {ref.step for ref in _refs_of(graph, step)}
    models = [graph.steps[key] for key in sources if key in graph.steps and graph.steps[key].kind in ("model", "agent")]
    if not models or not step.enabled:
        return ""
    return f"which way {quote_name(step.title)} goes (by what {join_words([quote_name(one.title) for one in models])} answers)"


def _limit_lines(graph: Graph) -> list[str]:
    """Limits that stand fixed beside what a model chooses."""
    found = []
    for step in graph.in_order():
        if step.effect in ("none", "read") or not any(one.decided == "model" for one in step.inputs):
            continue
        for one in step.inputs:
            value = value_of(graph, one) if any(word in one.name.casefold() for word in _LIMITS) else ""
            if value:
                found.append(f"{one.name} of {quote_name(step.title)} is fixed: {value}.")
    return [line[:1].upper() + line[1:] for line in found]

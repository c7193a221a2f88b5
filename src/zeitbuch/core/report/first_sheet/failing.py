# What happens when something fails or nobody answers: first what leads somewhere, then what everything else does. The words of a single step are
# those of `explain`.
"""Failures and silence of a flow."""

from __future__ import annotations

from collections.abc import Sequence

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Step
from zeitbuch.core.model.words import join_words, span_words
from zeitbuch.core.report.sentences import failing_words, late_words, silence_facts
from zeitbuch.core.report.step_phrases import asked_people, step_phrase

_NOBODY = ", and nobody is told."
_OTHERS = "Any other failure ends its branch, and nobody is told."
_NONE = "No failure has a route and nothing is tried again: the branch ends, and nobody is told."
_PLAIN = "Nothing takes the fault, and the branch ends there."


def failing_lines(graph: Graph, handlers: Sequence[str] = ()) -> list[str]:
    """Sentences: steps with a route, a retry or a guard around them, approvals that nobody answers, and all others;
    ``handlers`` are the flows that take what fails (names)."""
    told: dict[str, list[str]] = {}
    late: dict[str, list[str]] = {}
    others = 0
    for step in graph.in_order():
        if step.kind == "note" or step.id in graph.host or not step.enabled or step.kind == "approve":
            continue
        words = failing_words(graph, step)
        if words.endswith(_PLAIN):
            others += 1
        else:
            told.setdefault(words.removeprefix("It fails"), []).append(quote_name(step.title))
        if words := late_words(graph, step):
            late.setdefault(words, []).append(quote_name(step.title))
    lines = [f"When {join_words(names, 'or')} fails{_tail(words)}" for words, names in told.items()]
    lines += [f"When {join_words(names, 'or')} takes too long: {words}." for words, names in late.items()]
    lines += [
        line
        for step in graph.in_order()
        if step.kind == "approve" and step.enabled
        for line in _silence_lines(graph, step)
    ]
    if others:
        said = _OTHERS if lines else _NONE
        lines.append(said.replace(_NOBODY, ".") if handlers else said)
    return [*lines, *_handler_lines(handlers)]


def _tail(words: str) -> str:
    """': the run goes on at ...' as the rest of a sentence."""
    text = words.lstrip(":. ")
    return f": {text[:1].lower()}{text[1:]}" if text else "."


def _silence_lines(graph: Graph, step: Step) -> list[str]:
    who = asked_people(graph, step) or "whoever is asked"
    said = step.approval.silence if step.approval is not None else None
    within = f" within {span_words(step.timeout)}" if step.timeout is not None else ""
    head = f"When {who} does not answer {quote_name(step.title)}{within}"
    routes = [link for link in graph.leaving.get(step.id, ()) if "timeout" in link.after]
    if routes:
        ways = [f"{step_phrase(graph, graph.steps[link.target])}{_and_then(graph, link.target)}" for link in routes]
        return [f"{head}: {join_words(ways)}."]
    meaning = {
        "approves": "it is taken as a yes",
        "rejects": "it is taken as a no",
        "escalates": "somebody else is asked",
        "waits": "the run waits on",
    }
    if said is not None:
        return [f"{head}: {meaning[said]}."]
    return [f"{head}: {words}." for _, words in silence_facts(graph, step)]


def _and_then(graph: Graph, key: str) -> str:
    """Where the run goes on behind the step that follows silence: a reminder that leads to the act is no stop."""
    after = [link.target for link in graph.leaving.get(key, ()) if link.role == "next"]
    return (
        f", and the run goes on at {join_words([_named(graph.steps[one]) for one in after if one in graph.steps])}"
        if after
        else ""
    )


def _named(step: Step) -> str:
    return quote_name(step.title)


def _handler_lines(handlers: Sequence[str]) -> list[str]:
    be = "is" if len(handlers) == 1 else "are"
    return [f"When a run fails {join_words([quote_name(name) for name in handlers])} {be} started."] if handlers else []

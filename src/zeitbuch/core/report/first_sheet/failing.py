# What happens when something fails or nobody answers: first what leads somewhere, then what everything else does. The words of a single step are
# those of `explain`.
"""Failures and silence of a flow."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.outcomes import takes_outcome
from zeitbuch.core.model.records import Step
from zeitbuch.core.model.words import join_words, span_words
from zeitbuch.core.report.sentences import failing_words, late_words, retry_of, retry_words, silence_words
from zeitbuch.core.report.step_phrases import asked_people, step_phrase

_NOBODY = ", and nobody is told."
_OTHERS = "Any other failure ends its branch, and nobody is told."
_NONE = "No failure has a route and nothing is tried again: the branch ends, and nobody is told."
_PLAIN = "Nothing takes the fault, and the branch ends there."
_MEANING = {
    "approves": "it is taken as a yes",
    "rejects": "it is taken as a no",
    "escalates": "somebody else is asked",
    "waits": "the run waits on",
}


def failing_lines(graph: Graph, running: frozenset[str], handlers: Sequence[str] = ()) -> list[str]:
    """Sentences: steps with a route, a retry or a guard around them, approvals that nobody answers, and all others. ``running``: the
    steps that some run comes to; ``handlers`` are the flows that take what fails (names)."""
    told: dict[str, list[str]] = {}
    late: dict[str, list[str]] = {}
    others = 0
    steps = [step for step in graph.in_order() if step.id in running and step.kind != "note"]
    for step in [one for one in steps if one.id not in graph.host]:
        words = failing_words(graph, step)
        if words.endswith(_PLAIN):
            others += 1
        else:
            told.setdefault(words.removeprefix("It fails"), []).append(quote_name(step.title))
        words = late_words(graph, step)
        if words and step.kind != "approve":
            late.setdefault(words, []).append(quote_name(step.title))
    lines = [f"When {join_words(names, 'or')} fails{_tail(words)}" for words, names in told.items()]
    lines += [f"When {join_words(names, 'or')} takes too long: {words}." for words, names in late.items()]
    lines += [line for step in steps if (line := _retried_tool(graph, step))]
    lines += [f"When {who} does not answer {words}." for who, words in _silences(graph, steps)]
    if others:
        said = _OTHERS if lines else _NONE
        lines.append(said.replace(_NOBODY, ".") if handlers else said)
    return [*lines, *_handler_lines(handlers)]


def _retried_tool(graph: Graph, step: Step) -> str:
    """What is tried again of what is attached to another step; what that makes of a failure no export says."""
    again = retry_of(step)
    if step.id not in graph.host or again is None:
        return ""
    host = quote_name(graph.steps[graph.host[step.id]].title)
    return f"When {quote_name(step.title)} fails: {retry_words(again)}; what {host} then does the export does not say."


def _tail(words: str) -> str:
    """': the run goes on at ...' as the rest of a sentence."""
    text = words.lstrip(":. ")
    return f": {text[:1].lower()}{text[1:]}" if text else "."


def _silences(graph: Graph, steps: Sequence[Step]) -> Iterator[tuple[str, str]]:
    """Who does not answer, and what follows then."""
    for step in steps:
        if step.kind == "approve" and (words := _silence_words(graph, step)):
            within = f" within {span_words(step.timeout)}" if step.timeout is not None else ""
            yield asked_people(graph, step) or "whoever is asked", f"{quote_name(step.title)}{within}: {words}"


def _silence_words(graph: Graph, step: Step) -> str:
    """What follows when nobody answers: where ways for that lead, what the export says that it means, else what becomes of a step that
    runs out of time."""
    routes = [link for link in graph.leaving.get(step.id, ()) if takes_outcome(link, "timeout")]
    if routes:
        ways = [f"{step_phrase(graph, graph.steps[link.target])}{_and_then(graph, link.target)}" for link in routes]
        return join_words(list(dict.fromkeys(ways)))
    said = step.approval.silence if step.approval is not None else None
    return _MEANING[said] if said is not None else silence_words(graph, step)


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

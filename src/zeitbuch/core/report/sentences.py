# Plain sentences for flows and steps, made from the graph: the same words in `explain` and in documents.
"""Plain-language sentences for flows, steps and inputs."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from zeitbuch.core.graph.fault_routes import FaultRoute, fault_route
from zeitbuch.core.graph.phrases import capitalise, connection_name, quote_name
from zeitbuch.core.graph.topology import Graph, ai_steps, model_of
from zeitbuch.core.model import outcomes
from zeitbuch.core.model.kinds import EFFECT_ROWS, NOT_TOOLS, TRIGGERS
from zeitbuch.core.model.records import Flow, Link, Retry, Step, Trigger
from zeitbuch.core.model.references import replace_refs
from zeitbuch.core.model.words import count_words, join_words, schedule_words, span_words, times_words
from zeitbuch.core.passes.steps_that_run import steps_that_may_run

from .case_words import case_word
from .step_phrases import asked_people, step_words


def when_words(trigger: Trigger) -> str:
    """'When a check every 5 minutes finds something new'."""
    row = TRIGGERS[trigger.kind]
    text = row.start_with_event.format(event=trigger.event) if trigger.event and row.start_with_event else row.start
    if trigger.schedule is not None and row.is_clocked:
        clock = schedule_words(trigger.schedule)
        text = f"When a check {clock} finds something new" if trigger.kind == "polling" else capitalise(clock)
    return f"{text} (if {trigger.condition})" if trigger.condition else text


def _outside_words(graph: Graph, steps: Sequence[Step]) -> list[str]:
    """'reads from A and B', 'sends through C' ..."""
    found = []
    for row in EFFECT_ROWS[1:]:
        acting = [step for step in steps if step.effect == row.effect]
        if acting:
            names = list(dict.fromkeys(quote_name(connection_name(graph.flow, step) or step.title) for step in acting))
            found.append(f"{row.phrase} {join_words(names)}")
    return found


def summary_sentences(graph: Graph) -> str:
    """What a flow does, in two sentences: how large it is, and what those of its steps do that some run comes to."""
    flow = graph.flow
    steps = [step for step in graph.in_order() if step.kind != "note"]
    using = {step.id for step in ai_steps(flow)}
    called = [step for step in steps if step.id in using]
    running = steps_that_may_run(graph)
    first = f"{_start_words(flow)}; it has {count_words(len(steps), 'step')}"
    if called:
        first += _called_words(graph, called, len(steps), running)
    return _outcome_words(graph, [step for step in steps if step.id in running], first)


def _start_words(flow: Flow) -> str:
    """'When a form is sent, the flow starts'; of triggers that are switched off none starts it."""
    words = [when_words(trigger) for trigger in flow.triggers if trigger.enabled]
    if words:
        start = join_words([words[0], *[f"{more[:1].lower()}{more[1:]}" for more in words[1:]]], "or")
    elif flow.triggers:
        return "Its triggers are switched off, so that by itself the flow does not start"
    else:
        return "The export names no trigger and does not say when the flow starts"
    return f"{start}, the flow starts"


def _called_words(graph: Graph, called: list[Step], of: int, running: frozenset[str]) -> str:
    """', 2 of them with AI (fulmar-mini-2): ‘Whose matter is it?’ and ‘Refund agent’ (does not run)'."""
    models = list(dict.fromkeys(use.name for step in called if (use := model_of(graph, step)) is not None and use.name))
    told = f", {len(called)} of them with AI" if len(called) < of else ", all with AI"
    if models:
        told += f" ({join_words(models)})"
    names = [f"{quote_name(step.title)}{'' if step.id in running else ' (does not run)'}" for step in called]
    return f"{told}: {join_words(names)}"


def _outcome_words(graph: Graph, steps: list[Step], first: str) -> str:
    parts = _outside_words(graph, steps)
    people = [quote_name(step.title) for step in steps if step.kind == "approve"]
    second = f"It {join_words(parts)}" if parts else "It changes nothing outside, as far as the export says"
    if people:
        second += f"; a person decides at {join_words(people)}"
    subflows = list(dict.fromkeys(quote_name(graph.called_title(step)) for step in steps if step.calls))
    if subflows:
        second += f"; it calls the flow {join_words(subflows)}"
    return f"{first}. {second}."


def _target_words(graph: Graph, link: Link) -> str:
    number = graph.numbers.get(link.target, "")
    return f"{number} {quote_name(graph.names[link.target])}".strip()


def cases_of(graph: Graph, step: Step) -> list[tuple[str, str, str]]:
    """(label, condition, where it goes) of each case of a step behind which one of several ways is taken; none of any other. A case that has
    a condition may have no label."""
    found = []
    for link in graph.leaving.get(step.id, ()) if step.id in graph.deciding else ():
        if outcomes.is_case(link, step.kind):
            condition = replace_refs(link.condition, link.refs, graph.names)
            if link.otherwise and link.label and not condition:
                condition = "no other case fits"
            found.append((link.label or _word_without_label(graph, link), condition, _target_words(graph, link)))
    return found


def _word_without_label(graph: Graph, link: Link) -> str:
    return "" if link.condition else case_word(graph, link)


REST, NO_WAY = "anything else", "no way leads on"
_UNSTATED = "not stated in the export"


def leaves_rest_open(graph: Graph, step: Step) -> bool:
    """Whether a decision has no way for what fits none of its cases."""
    return outcomes.leaves_rest_open(graph.leaving.get(step.id, ()), step.kind)


def on_error(graph: Graph, step: Step) -> str:
    """What happens when a step fails, as a sentence; empty when it just ends the branch and has no retries."""
    found = fault_route(graph, step)
    said = _words_after(graph, step, found) if found.at == step.id and found.end in ("route", "continues") else ""
    again = retry_of(step)
    parts = [retry_words(again)] if again is not None else []
    if said or parts:
        parts.append(said or _beyond_words(graph, found))
    late = late_words(graph, step)
    sentences = [f"If it fails, {', and then '.join(parts)}."] if parts else []
    return " ".join([*sentences, f"If it takes too long, {late}."] if late else sentences)


def late_words(graph: Graph, step: Step) -> str:
    """What follows when a step runs out of time, where it has other ways for that than for failures."""
    late = fault_route(graph, step, "timeout")
    if late.end != "route" or late.at != step.id or late.targets == fault_route(graph, step).targets:
        return ""
    return _words_after(graph, step, late)


def failing_words(graph: Graph, step: Step, head: str = "It fails") -> str:
    """What follows when a step fails, also where nothing takes the fault: '``head``: the run goes on at ...'."""
    found = fault_route(graph, step)
    own = found.at == step.id and found.end in ("route", "continues")
    again = retry_of(step)
    if again is not None:
        said = _words_after(graph, step, found) if own else _beyond_words(graph, found)
        return f"{head}: {retry_words(again)}, and then {said}."
    return f"{head}: {_words_after(graph, step, found)}." if own else f"{head}. {_lost_words(graph, found)}"


def _words_after(graph: Graph, step: Step, found: FaultRoute) -> str:
    if found.end == "continues":
        return "the run goes on as if nothing had happened"
    links = [link for link in graph.leaving.get(found.at, ()) if link.target in found.targets]
    return f"the run goes on at {join_words(list(dict.fromkeys([_target_words(graph, link) for link in links])))}"


def _lost_words(graph: Graph, found: FaultRoute) -> str:
    again = _again_words(graph, found)
    if found.end == "nothing":
        ending = [quote_name(graph.names[key]) for key in found.through if graph.steps[key].kind == "loop"]
        said = f"nothing takes the fault{f'; {ending[0]} ends' if ending else ', and the branch ends there'}."
        return f"{again}, and then {said}" if again else capitalise(said)
    said = _beyond_words(graph, found)
    return f"Nothing takes the fault; {said}." if found.end in ("next item", "unknown") and not again else f"{said}."


def _again_words(graph: Graph, found: FaultRoute) -> str:
    """'‘Block’ around it is tried again once': a block that fails with what is in it is tried again as a whole."""
    retried = [(key, retry) for key in found.through if (retry := retry_of(graph.steps[key])) is not None]
    words = [
        f"{quote_name(graph.names[key])} around it {retry_words(retry).removeprefix('it ')}" for key, retry in retried
    ]
    return join_words(words)


def _beyond_words(graph: Graph, found: FaultRoute) -> str:
    """What becomes of a fault that a step does not take itself: '‘Block’ around it takes the fault, and the run goes on at ...'."""
    again = _again_words(graph, found)
    said = _end_words(graph, found)
    if again and retry_of(graph.steps[found.at]) is not None:  # the one named last
        said = said.removeprefix(f"{quote_name(graph.names[found.at])} around it ")
    return f"{again}, and then {said}" if again else said


def _end_words(graph: Graph, found: FaultRoute) -> str:
    name = quote_name(graph.names[found.at])
    if found.end == "nothing":
        return "the branch ends"
    repeat = graph.steps[found.at].repeat
    following = "round" if repeat is not None and repeat.until is not None and not repeat.items else "item"
    if found.end == "unknown":
        return f"the export does not say whether {name} goes on with its next {following}"
    if found.end == "next item":
        return f"{name} goes on with its next {following}"
    kind = graph.steps[found.at].kind
    does = "takes the fault" if kind == "guard" else "ends" if kind == "loop" else "fails with it"
    around = "" if kind == "loop" else " around it"
    return f"{name}{around} {does}, and {_words_after(graph, graph.steps[found.at], found)}"


def retry_of(step: Step) -> Retry | None:
    """How a step is tried again, if it is."""
    return step.retry if step.retry is not None and step.retry.attempts else None


def retry_words(retry: Retry) -> str:
    """'it is tried again up to 2 times, 30 seconds apart'."""
    wait = span_words(retry.wait) if retry.wait else ""
    spaced = f" after {wait}" if retry.attempts == 1 else f", {wait} apart"
    return f"it is tried again {times_words(retry.attempts)}{spaced if wait else ''}"


def step_sentence(graph: Graph, step: Step) -> str:
    """What a step does, in one or two sentences."""
    own = SENTENCES.get(step.kind)
    text = own(graph, step) if own is not None else capitalise(step_words(graph, step))
    if step.kind == "end" and step.ends == "run":
        text += ", for all branches that would come after it"
    text += "." if not text.endswith(".") else ""
    if step.per_item:
        text += " Runs once for each item that arrives."
    if step.yields != "same":
        text += " Makes several items of each." if step.yields == "many" else " Gathers all items into one."
    if not step.enabled:
        text = f"Switched off: {text}"
    return f"{text} {on_error(graph, step)}".strip()


def _model_name(graph: Graph, step: Step) -> str:
    use = model_of(graph, step)
    return use.name if use is not None and use.name else "a model not named in the export"


def _inside(graph: Graph, step: Step) -> list[Step]:
    """What a block runs."""
    return [inner for inner in graph.children.get(step.id, []) if inner.kind != "note" and inner.enabled]


def _agent_sentence(graph: Graph, step: Step) -> str:
    use = model_of(graph, step)
    helpers = [helper for helper in graph.used_by(step.id) if helper.enabled]
    tools = [quote_name(helper.title) for helper in helpers if helper.kind not in NOT_TOOLS]
    memory = [quote_name(helper.title) for helper in helpers if helper.kind == "memory"]
    text = f"Hands the task to an agent on {_model_name(graph, step)}"
    text += f" that may use {join_words(tools, 'or')}" if tools else " without tools"
    text += f", remembers by {join_words(memory)}" if memory else ""
    text += f", in at most {count_words(use.max_turns, 'turn')}" if use is not None and use.max_turns else ""
    return text


def _decide_sentence(graph: Graph, step: Step) -> str:
    by = f" by {replace_refs(step.condition, step.refs, graph.names)}" if step.condition else ""
    return f"Decides{by} {'which of its cases go on' if step.inclusive else 'which one way to go'}"


def _loop_sentence(graph: Graph, step: Step) -> str:
    repeat = step.repeat
    if repeat is None:
        return "Repeats what is inside it"
    inside = count_words(len(_inside(graph, step)), "step")
    if repeat.items:
        text = f"For each of {replace_refs(repeat.items, repeat.refs, graph.names)}, runs {inside}"
    elif repeat.until:
        text = f"Repeats {inside} until {replace_refs(repeat.until, repeat.refs, graph.names)}"
    elif repeat.count is not None:
        text = f"Repeats what is inside it {count_words(repeat.count, 'time')}"
    else:
        text = "Repeats what is inside it"
    return text + (f", at most {count_words(repeat.cap, 'time')}" if repeat.cap else "")


def _parallel_sentence(graph: Graph, step: Step) -> str:
    level = graph.levels.get(step.id)
    entries = [quote_name(entry.title) for entry in level.entry_steps() if entry.enabled] if level is not None else []
    if not entries:
        return "Runs branches side by side"
    return f"Runs {join_words(entries)} side by side and waits for all"


def _guard_sentence(graph: Graph, step: Step) -> str:
    runs = f"Runs {count_words(len(_inside(graph, step)), 'step')}"
    leaving = graph.leaving.get(step.id, ())
    if step.on_fault == "continue" or any(outcomes.takes_outcome(link, "failure") for link in leaving):
        return f"{runs} and catches what fails in them"
    return f"{runs}; what follows when something in it fails the export does not say"


def _group_sentence(graph: Graph, step: Step) -> str:
    inside = [inner for inner in graph.children.get(step.id, []) if inner.kind != "note"]
    return f"Holds {count_words(len(inside), 'step')} together"


def _approve_sentence(graph: Graph, step: Step) -> str:
    limit = f", within {span_words(step.timeout)}" if step.timeout is not None else ""
    return f"Asks {asked_people(graph, step) or 'a person'} to decide{limit}"


def silence_facts(graph: Graph, step: Step) -> list[tuple[str, str]]:
    """That nothing says what happens when a person who is asked does not answer: neither a word of the export nor anything that takes what
    runs out of time."""
    silent = step.approval is None or step.approval.silence is None
    if step.kind != "approve" or not silent or fault_route(graph, step, "timeout").end not in ("nothing", "unknown"):
        return []
    return [("Without an answer", _UNSTATED)]


def silence_words(graph: Graph, step: Step) -> str:
    """What becomes of an approval that nobody answers, where the export has no word for it: what becomes of a step that runs out of time."""
    found = fault_route(graph, step, "timeout")
    if found.end in ("nothing", "unknown"):
        again = _again_words(graph, found)
        return f"{again}; what follows then is {_UNSTATED}" if again else _UNSTATED
    return _words_after(graph, step, found) if found.at == step.id else _beyond_words(graph, found)


# Kinds of which a sentence of its own says more than half a one.
SENTENCES: dict[str, Callable[[Graph, Step], str]] = {
    "agent": _agent_sentence,
    "decide": _decide_sentence,
    "loop": _loop_sentence,
    "parallel": _parallel_sentence,
    "guard": _guard_sentence,
    "group": _group_sentence,
    "approve": _approve_sentence,
}


def next_words(graph: Graph, step: Step) -> str:
    """Where the run goes after a step, for steps that are not decisions."""
    links = [link for link in graph.leaving.get(step.id, ()) if link.role == "next"]
    if not links:
        return ""
    return "Then " + join_words([_target_words(graph, link) for link in links]) + "."

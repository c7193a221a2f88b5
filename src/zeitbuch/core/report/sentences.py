# Plain sentences for flows and steps, made from the graph: the same words in `explain` and in documents.
"""Plain-language sentences for flows, steps and inputs."""

from __future__ import annotations

from zeitbuch.core.graph.phrases import capitalise, connection_name, quote_name
from zeitbuch.core.graph.topology import Graph, model_of
from zeitbuch.core.model.records import AI_KINDS, Link, Step, Trigger
from zeitbuch.core.model.references import replace_refs
from zeitbuch.core.model.words import count_words, join_words, schedule_words, span_words


def when_words(trigger: Trigger) -> str:
    """'When a check every 5 minutes finds something new'."""
    match trigger.kind:
        case "schedule":
            text = capitalise(schedule_words(trigger.schedule)) if trigger.schedule else "At times not stated"
        case "polling":
            often = schedule_words(trigger.schedule) if trigger.schedule else "now and then"
            text = f"When a check {often} finds something new"
        case "webhook":
            text = f"When a web request comes in{' to ' + trigger.event if trigger.event else ''}"
        case "event":
            text = f"When the event {quote_name(trigger.event)} happens" if trigger.event else "When an event happens"
        case "form":
            text = f"When the form {quote_name(trigger.event)} is sent" if trigger.event else "When a form is sent"
        case "chat":
            text = "When someone writes in the chat"
        case "manual":
            text = "When someone starts it by hand"
        case "call":
            text = "When another flow calls it"
        case "fault":
            text = "When another flow fails"
        case "tool-call":
            text = "When an agent calls it as a tool"
    return f"{text} (if {trigger.condition})" if trigger.condition else text


def _outside_words(graph: Graph) -> list[str]:
    """'reads from A and B', 'sends through C' ..."""
    ways = (
        ("read", "reads from"),
        ("write", "writes to"),
        ("send", "sends through"),
        ("delete", "deletes in"),
        ("spend", "spends through"),
    )
    found = []
    for effect, words in ways:
        steps = [step for step in graph.in_order() if step.effect == effect]
        if steps:
            names = list(dict.fromkeys(quote_name(connection_name(graph.flow, step) or step.title) for step in steps))
            found.append(f"{words} {join_words(names)}")
    return found


def summary_sentences(graph: Graph) -> str:
    """What a flow does, in two sentences."""
    flow = graph.flow
    steps = [step for step in graph.in_order() if step.kind != "note"]
    called = [step for step in steps if (step.kind in AI_KINDS and step.id not in graph.host) or step.kind == "agent"]
    start = join_words(
        [
            when_words(trigger) if index == 0 else when_words(trigger)[:1].lower() + when_words(trigger)[1:]
            for index, trigger in enumerate(flow.triggers)
        ],
        "or",
    )
    start = start or "Nothing in the export says what sets it off; when it is started"
    first = f"{start}, the flow runs {count_words(len(steps), 'step')}"
    if called:
        models = list(
            dict.fromkeys(use.name for step in called if (use := model_of(graph, step)) is not None and use.name)
        )
        first += f", {len(called)} of them with AI" if len(called) < len(steps) else ", all with AI"
        if models:
            first += f" ({join_words(models)})"
        first += f": {join_words([quote_name(step.title) for step in called])}"
    parts = _outside_words(graph)
    people = [quote_name(step.title) for step in steps if step.kind == "approve"]
    second = f"It {join_words(parts)}" if parts else "It changes nothing outside"
    if people:
        second += f"; a person decides at {join_words(people)}"
    subflows = list(dict.fromkeys(quote_name(step.calls) for step in steps if step.calls))
    if subflows:
        second += f"; it calls the flow {join_words(subflows)}"
    return f"{first}. {second}."


def _target_words(graph: Graph, link: Link) -> str:
    number = graph.numbers.get(link.target, "")
    return f"{number} {quote_name(graph.names[link.target])}".strip()


def cases_of(graph: Graph, step: Step) -> list[tuple[str, str, str]]:
    """(label, condition, where it goes) of each case of a decision."""
    found = []
    for link in graph.flow.links:
        if link.source == step.id and link.role != "error" and link.role != "attach":
            condition = replace_refs(link.condition, link.refs, graph.names)
            found.append((link.label or "otherwise", condition, _target_words(graph, link)))
    return found


def on_error(graph: Graph, step: Step) -> str:
    """What happens when a step fails, as a sentence; empty when it just ends the branch and has no retries."""
    parts = []
    if step.retry is not None:
        if step.retry.attempts == 1:
            again = "once" + (f" after {span_words(step.retry.wait)}" if step.retry.wait else "")
        else:
            again = f"up to {step.retry.attempts} times" + (
                f", {span_words(step.retry.wait)} apart" if step.retry.wait else ""
            )
        parts.append(f"it is tried again {again}")
    leading = [link for link in graph.flow.links if link.source == step.id and link.role == "error"]
    routes = [_target_words(graph, link) for link in leading]
    if routes:
        parts.append(f"the run goes on at {join_words(routes)}")
    elif step.on_fault == "continue":
        parts.append("the run goes on as if nothing had happened")
    elif parts:
        parts.append("the branch ends")
    late = (
        bool(routes)
        and step.retry is None
        and all("timeout" in link.after and "failure" not in link.after for link in leading)
    )
    return f"If it {'takes too long' if late else 'fails'}, {', and then '.join(parts)}." if parts else ""


def step_sentence(graph: Graph, step: Step) -> str:
    """What a step does, in one or two sentences."""
    place = connection_name(graph.flow, step)
    position = f" {quote_name(place)}" if place else ""
    use = model_of(graph, step)
    model = use.name if use is not None and use.name else "a model not named in the export"
    names = graph.names
    inside = [s for s in graph.children.get(step.id, []) if s.kind != "note"]
    match step.kind:
        case "model":
            doing = {
                "text": "Asks",
                "vision": "Shows images to",
                "speech": "Has text spoken by",
                "image": "Has an image made by",
                "transcription": "Has speech written down by",
                "embedding": "Has text embedded by",
            }
            text = f"{doing[use.modality if use is not None else 'text']} {model}"
            if use is not None and use.task:
                text += f" (task: {use.task})"
        case "agent":
            tools = [
                quote_name(h.title)
                for h in graph.attached.get(step.id, [])
                if h.kind not in ("model", "memory", "parse")
            ]
            memory = [quote_name(h.title) for h in graph.attached.get(step.id, []) if h.kind == "memory"]
            text = f"Hands the task to an agent on {model}"
            text += f" that may use {join_words(tools, 'or')}" if tools else " without tools"
            text += f", remembers by {join_words(memory)}" if memory else ""
            text += f", in at most {count_words(use.max_turns, 'turn')}" if use is not None and use.max_turns else ""
        case "embed":
            text = f"Turns text into vectors with {model}"
        case "decide":
            by = f" by {replace_refs(step.condition, step.refs, names)}" if step.condition else ""
            text = f"Decides{by} {'which of its cases go on' if step.inclusive else 'which one way to go'}"
        case "loop":
            repeat = step.repeat
            words = "Repeats what is inside it"
            if repeat is not None and repeat.count is not None and not repeat.items:
                words = f"Repeats what is inside it {count_words(repeat.count, 'time')}"
            if repeat is not None and repeat.items:
                words = f"For each of {replace_refs(repeat.items, repeat.refs, names)}, runs {count_words(len(inside), 'step')}"
            elif repeat is not None and repeat.until:
                words = (
                    f"Repeats {count_words(len(inside), 'step')} until {replace_refs(repeat.until, repeat.refs, names)}"
                )
            text = words + (f", at most {repeat.cap} times" if repeat is not None and repeat.cap else "")
        case "parallel":
            text = (
                f"Runs {join_words([quote_name(s.title) for s in graph.levels[step.id].entry_steps()])} side by side and waits for all"
                if inside
                else "Runs branches side by side"
            )
        case "guard":
            text = f"Runs {count_words(len(inside), 'step')} and catches what fails in them"
        case "group":
            text = f"Holds {count_words(len(inside), 'step')} together"
        case "subflow":
            text = f"Calls the flow {quote_name(step.calls)}" if step.calls else "Calls another flow"
        case "approve":
            text = "Waits until a person decides"
        case "other":
            text = (
                f"Runs {quote_name(step.operation)}, an operation that no rule classifies"
                if step.operation
                else "Does something the export does not name"
            )
        case "join" if step.operation.split(" ")[0].endswith("Event"):
            text = "An event, from which the run goes on"
        case _:
            verbs = {
                "read": "Reads from", "write": "Writes to", "send": "Sends through", "delete": "Deletes in", "http": "Calls a service through",
                "retrieve": "Searches in", "parse": "Reads a document of", "code": "Runs code", "shape": "Reshapes the data",
                "wait": "Waits", "join": "Brings branches together", "end": "Ends the run here", "memory": "Keeps the conversation",
                "tool": "Offers a tool of", "note": "A note",
            }  # fmt: skip
            text = verbs[step.kind] + position
            for ending in (" to", " from", " through", " in", " of"):
                text = text.removesuffix(ending) if not position else text
    if step.kind == "end" and step.ends == "run":
        text += ", for all branches that would come after it"
    text += "." if not text.endswith(".") else ""
    if step.per_item:
        text += " Runs once for each item that arrives."
    if step.yields != "same":
        text += " Makes several items of each." if step.yields == "many" else " Gathers all items into one."
    if not step.enabled:
        text = f"Switched off: {text}"
    error = on_error(graph, step)
    return f"{text} {error}".strip()


def next_words(graph: Graph, step: Step) -> str:
    """Where the run goes after a step, for steps that are not decisions."""
    links = [link for link in graph.flow.links if link.source == step.id and link.role == "next"]
    if not links:
        return ""
    return "Then " + join_words([_target_words(graph, link) for link in links]) + "."

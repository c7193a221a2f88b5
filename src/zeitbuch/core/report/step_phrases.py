# What a step does in half a sentence, as a reader would tell it: with whom, to whom, how long. Nothing is said that the export does not say.
"""Half-sentences about steps."""

from __future__ import annotations

from collections.abc import Callable

from zeitbuch.core.checks.answers import listed_answers
from zeitbuch.core.graph.phrases import connection_name, quote_name, value_words
from zeitbuch.core.graph.topology import Graph, model_of
from zeitbuch.core.model.facts import pause_words
from zeitbuch.core.model.kinds import KINDS, MODALITIES, NOT_TOOLS
from zeitbuch.core.model.records import Binding, Step
from zeitbuch.core.model.references import replace_refs
from zeitbuch.core.model.words import count_words, join_words, span_words

Phrase = Callable[[Graph, Step], str]
_PLACES = frozenset({"table", "store", "shelf", "url", "file", "folder", "sheet", "bucket", "path"})
_ROOM = 80  # letters of a value that a sentence takes


def value_of(graph: Graph, one: Binding) -> str:
    """The value of an input in words; empty where it has none, or too long a one."""
    if one.decided == "model":
        return ""
    text = value_words(one.value, one.refs, graph.names) if one.value not in (None, "") else ""
    held = [
        value_words(known.value, (), {})
        for known in graph.flow.variables
        if len(one.refs) == 1 and known.name == one.refs[0].variable and known.value not in (None, "")
    ]
    text += f" ({held[0]})" if held else ""
    return text if len(text) <= _ROOM and "\n" not in text else ""


def input_of(graph: Graph, step: Step, role: str, *names: str) -> str:
    """The value of the input with a role, or with one of several names."""
    found = next((one for one in step.inputs if one.role == role), None)
    found = found or next((one for one in step.inputs if one.name.casefold() in names), None)
    return value_of(graph, found) if found is not None else ""


def recipient_of(graph: Graph, step: Step) -> str:
    """To whom a step sends: a fixed address, or where the address is taken from; empty for nothing stated."""
    return input_of(graph, step, "recipient", "to", "recipient", "channel", "number", "phone")


def place_of(graph: Graph, step: Step) -> str:
    """What a step works with, as a sentence names it: its connection, else the table, store, file or address that it is given."""
    store = step.pieces.store if step.pieces is not None else None
    name = connection_name(graph.flow, step) or store
    if name:
        return quote_name(name)
    found = next((one for one in step.inputs if one.role == "address" or one.name.casefold() in _PLACES), None)
    text = value_of(graph, found) if found is not None else ""
    return quote_name(text) if text and found is not None and found.decided == "fixed" else text


def model_name(graph: Graph, step: Step) -> str:
    """The model that a step calls."""
    use = model_of(graph, step)
    return use.name if use is not None and use.name else "a model that the export does not name"


def _model(graph: Graph, step: Step) -> str:
    use = model_of(graph, step)
    asks = f"{_small(MODALITIES[use.modality if use is not None else 'text'].verb)} {model_name(graph, step)}"
    answers = listed_answers("\n".join([prompt.text for prompt in use.prompts])) if use is not None else ()
    if answers:
        return f"{asks}, which is to answer {join_words([quote_name(one) for one in answers], 'or')}"
    return asks + (f" ({use.task})" if use is not None and use.task else "")


def _embed(graph: Graph, step: Step) -> str:
    return f"{_small(KINDS['embed'].verb)} {model_name(graph, step)}"


def _small(text: str) -> str:
    return f"{text[:1].lower()}{text[1:]}"


def _agent(graph: Graph, step: Step) -> str:
    use = model_of(graph, step)
    usable = [tool for tool in graph.used_by(step.id) if tool.kind not in NOT_TOOLS and tool.enabled]
    tools = [quote_name(tool.title) for tool in usable]
    may = f", may use {join_words(tools, 'and')}" if tools else ""
    most = f", at most {count_words(use.max_turns, 'turn')}" if use is not None and use.max_turns else ""
    return f"is an agent on {model_name(graph, step)}{may}{most}"


def _send(graph: Graph, step: Step) -> str:
    to, place = recipient_of(graph, step), connection_name(graph.flow, step)
    if chosen_by_model(step):
        to = "whom the model chooses"
    if not to and not place:
        return "sends; to whom the export does not say"
    return f"sends{f' to {to}' if to else ''}{f' through {quote_name(place)}' if place else ''}"


def chosen_by_model(step: Step) -> bool:
    """Whether a model says who gets a message."""
    return any(
        one.decided == "model" and (one.role == "recipient" or one.name.casefold() == "to") for one in step.inputs
    )


def _approve(graph: Graph, step: Step) -> str:
    asked = asked_people(graph, step)
    limit = f", who has {span_words(step.timeout)}" if step.timeout is not None else ""
    return f"asks {asked or 'a person'}{limit}"


def asked_people(graph: Graph, step: Step) -> str:
    """Those whom an approval asks."""
    said = step.approval
    if said is not None and said.approvers:
        return replace_refs(join_words(list(said.approvers), "or"), said.refs, graph.names)
    return input_of(graph, step, "approver", "who", "approver", "person", "people", "assignee")


def _wait(graph: Graph, step: Step) -> str:
    words = pause_words(step, graph.names)
    return f"waits {words}" if words else "waits"


def _subflow(graph: Graph, step: Step) -> str:
    goes = "" if step.awaits is not False else ", without waiting for it"
    return (
        f"calls the flow {quote_name(graph.called_title(step))}{goes}"
        if step.calls
        else "calls a flow that the export does not name"
    )


def _loop(graph: Graph, step: Step) -> str:
    repeat = step.repeat
    if repeat is not None and repeat.items:
        most = f" (at most {repeat.cap:,})" if repeat.cap else ""
        return f"goes over {replace_refs(repeat.items, repeat.refs, graph.names)}{most}; for each"
    if repeat is not None and repeat.until:
        most = f", at most {count_words(repeat.cap, 'time')}" if repeat.cap else ""
        return f"repeats until {replace_refs(repeat.until, repeat.refs, graph.names)}{most}"
    return (
        f"repeats {count_words(repeat.count, 'time')}" if repeat is not None and repeat.count is not None else "repeats"
    )


def _decide(graph: Graph, step: Step) -> str:
    by = replace_refs(step.condition, step.refs, graph.names) if step.condition else ""
    return f"goes by {by}" if by else "is a decision"


# What a verb that ends so asks, where the export does not answer it.
_ASKED = {" to": "to what", " from": "from where", " in": "where", " through": "", " of": ""}


def _plain(graph: Graph, step: Step) -> str:
    verb = _small(KINDS[step.kind].verb)
    place = place_of(graph, step)
    ending = next((one for one in _ASKED if verb.endswith(one)), None)
    if place:
        return f"{verb} {place}" if ending else f"{verb} ({place})"
    if ending is None:
        return verb
    asked = f"; {_ASKED[ending]} the export does not say" if _ASKED[ending] else ""
    return f"{verb.removesuffix(ending)}{asked}"


def _other(graph: Graph, step: Step) -> str:
    if not step.operation:
        return "does something that the export does not name"
    place = place_of(graph, step)
    return f"runs {quote_name(step.operation)}{f' ({place})' if place else ''}, an operation that no rule classifies"


def _join(graph: Graph, step: Step) -> str:
    event = step.operation.split(" ")[0].endswith("Event")
    return "comes as an event, from which the run goes on" if event else "brings the ways together"


def _end(graph: Graph, step: Step) -> str:
    return "ends the whole run" if step.ends == "run" else "ends this way"


# Kinds about which more is to be said than their verb and their place.
PHRASES: dict[str, Phrase] = {
    "model": _model, "agent": _agent, "send": _send, "approve": _approve, "wait": _wait, "subflow": _subflow, "loop": _loop, "decide": _decide,
    "end": _end, "embed": _embed, "other": _other, "join": _join, "guard": lambda g, s: "tries what is in it", "parallel": lambda g, s: "runs its ways side by side",
    "group": lambda g, s: "holds what is in it together",
}  # fmt: skip


def step_words(graph: Graph, step: Step) -> str:
    """'reads from ‘Homes register’'."""
    return PHRASES.get(step.kind, _plain)(graph, step)


def step_phrase(graph: Graph, step: Step) -> str:
    """'‘Look up the home’ reads from ‘Homes register’'; of a step that is switched off that it is."""
    return (
        f"{quote_name(step.title)} {step_words(graph, step)}"
        if step.enabled
        else f"{quote_name(step.title)} is switched off"
    )

# Values and flows that are not there.
"""Checks of references."""

from __future__ import annotations

from collections.abc import Iterator

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.records import Step
from zeitbuch.core.passes.reachability import Read

from ..records import Check, Hit
from ..views import FlowView

# What loops call the item they are at, and builders what stands around a run: no step, though it is written like one.
_ITEMS = frozenset(
    "item items current loop each element row entry record this value index trigger input inputs env secrets vars variables config context workflow "
    "flow run execution now today params parameters args state system global globals json body request event user session error previous prev last "
    "steps output outputs parent".split()
)


def _missing_steps(view: FlowView) -> Iterator[Hit]:
    for read in view.doubtful_reads:
        reader = view.graph.steps.get(read.reader)
        if read.source.casefold() in _ITEMS:
            continue
        if read.trust == "missing" and reader is not None and reader.enabled:
            yield Hit(
                reader,
                f"{quote_name(reader.title)} ({read.where}) takes {quote_name(read.ref.text or read.source)}, and there is no such step",
            )


def _never_before(view: FlowView) -> Iterator[Hit]:
    for read in view.doubtful_reads:
        reader, source = view.graph.steps.get(read.reader), view.graph.steps.get(read.source)
        if read.trust == "never" and reader is not None and source is not None and reader.enabled and source.enabled:
            yield Hit(
                reader,
                f"{quote_name(reader.title)} ({read.where}) takes a value of {quote_name(source.title)}, which never runs before it",
            )


def _sometimes_before(view: FlowView) -> Iterator[Hit]:
    """Values of steps that stand on another way of a decision; what error routes and switched-off steps bring is told elsewhere."""
    told: set[tuple[str, str]] = set()
    for read in view.unsure_reads:
        reader, source = view.graph.steps.get(read.reader), view.graph.steps.get(read.source)
        if read.trust != "sometimes" or reader is None or source is None or not reader.enabled or not source.enabled:
            continue
        if (reader.id, source.id) not in told and not _takes_one_of_several(reader, read):
            told.add((reader.id, source.id))
            yield Hit(
                reader,
                f"{quote_name(reader.title)} ({read.where}) takes a value of {quote_name(source.title)}, which does not run on every way to it",
                False,
            )


def _takes_one_of_several(reader: Step, read: Read) -> bool:
    """Whether an input takes values of several steps: it then takes what there is."""
    return any(read.ref in one.refs and len({ref.step for ref in one.refs}) > 1 for one in reader.inputs)


def _missing_flows(view: FlowView) -> Iterator[Hit]:
    for step in view.steps:
        if step.calls and step.calls not in view.estate.places:
            yield Hit(
                step,
                f"{quote_name(step.title)} calls the flow {quote_name(step.calls)}, which is not among those read",
                False,
            )


def _flows_off(view: FlowView) -> Iterator[Hit]:
    for step in view.steps:
        called = view.estate.flow_named(step.calls)
        if called is not None and called.state == "off":
            yield Hit(
                step, f"{quote_name(step.title)} calls the flow {quote_name(called.title)}, which is switched off"
            )


def _calls_itself(view: FlowView) -> Iterator[Hit]:
    places = view.estate.places
    for step in view.steps:
        own = step.calls and places.get(step.calls, -1) == places.get(view.flow.id)
        if own and not _is_guarded(view, step):
            yield Hit(step, f"{quote_name(step.title)} calls the flow it stands in, always: it never ends")


def _call_each_other(view: FlowView) -> Iterator[Hit]:
    circle = view.estate.circle_of(view.flow.id)
    if circle and view.flow.id == min(circle):
        names = [quote_name(flow.title) for key in circle if (flow := view.estate.flow_named(key)) is not None]
        places = view.estate.places
        step = next(step for step in view.steps if step.calls and places.get(step.calls, -1) == places[circle[1]])
        yield Hit(step, f"the flows {' -> '.join([*names, names[0]])} call each other: a run may never end", False)


def _is_guarded(view: FlowView, step: Step) -> bool:
    """Whether some decision stands before a step, or its condition."""
    return bool(step.condition) or any(
        view.graph.steps[key].kind == "decide" for key in view.ways.steps_before(step.id) if key in view.graph.steps
    )


CHECKS: tuple[Check, ...] = (
    Check("step-missing", "high", "a value of a step that is not there",
          "The step gets nothing.",
          "References of inputs, prompts and conditions to ids of steps.",
          "References in words that the dialect does not read, and names that loops give to their items (item, row, current ...).",
          "Name the step as it is called now.", _missing_steps),
    Check("step-never-before", "high", "a value of a step that never runs before",
          "The step gets nothing, or what an earlier run left.",
          "The ways of the flow are followed: what is read stands on another way, or behind.",
          "Values that a platform keeps from run to run.",
          "Move the step, or take the value from elsewhere.", _never_before),
    Check("step-sometimes-before", "medium", "a value of a step that does not always run before",
          "On the other way the step gets nothing.",
          "The ways of the flow are followed: some lead past the step whose value is read. An input that takes values of several steps is let be.",
          "Steps that look whether the value is there.",
          "Read it on the way where it is made, or give a value for the other.", _sometimes_before),
    Check("flow-missing", "medium", "a flow that is called and not there",
          "The call fails, or nobody knows what it does and costs.",
          "Calls by id or name against the flows read together.",
          "Calls by computed names. Where only part of an estate was read, the flow may be elsewhere: suspected.",
          "Read all flows together; correct the id.", _missing_flows),
    Check("flow-off", "high", "a flow that is called and switched off",
          "The call fails, or nothing happens.",
          "The state that the called flow's export says.",
          "Flows whose export says no state.",
          "Switch it on, or take the call out.", _flows_off),
    Check("flow-calls-itself", "high", "a flow that always calls itself",
          "It never ends, and costs until somebody stops it.",
          "A call of its own id or name with no decision before it.",
          "Circles over several flows: `flows-call-each-other` tells them.",
          "Put a decision before the call.", _calls_itself),
    Check("flows-call-each-other", "medium", "flows that call each other in a circle",
          "Unless a decision ends it, it runs and costs until somebody stops it.",
          "The calls of switched-on steps, followed from flow to flow.",
          "Calls by computed names, and through stores.",
          "Make sure that one of them ends the circle.", _call_each_other, of_estate=True),
)  # fmt: skip

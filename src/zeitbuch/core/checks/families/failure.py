# What happens when a step fails, when nobody answers, or when a step is tried twice.
"""Checks of failure behaviour."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from zeitbuch.core.graph.fault_routes import fault_route
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.kinds import IDLE_KINDS
from zeitbuch.core.model.outcomes import takes_faults, takes_outcome
from zeitbuch.core.model.records import Flow, Retry, Step
from zeitbuch.core.model.words import join_words, times_words

from ..records import Check, Hit
from ..views import WRITES, FlowView

_NO = re.compile(r"(?i)\b(?:no|not|refus\w*|reject\w*|declin\w*|den\w*)\b")
_ONCE = frozenset({"send", "spend"})
_KEYS = ("idempotency", "request_id", "requestid", "dedup", "unique")


def _no_handling(view: FlowView) -> Iterator[Hit]:
    acting = view.with_effect(WRITES)
    if acting and view.is_unattended and not view.estate.has_handlers and not _is_handled(view.flow):
        yield Hit(
            acting[0],
            f"nobody is there when it runs, it {_verb(acting[0])} ({quote_name(acting[0].title)}), and nothing takes a failure",
        )


def _is_handled(flow: Flow) -> bool:
    """Whether anything in a flow says what follows a failure."""
    routes = any(takes_outcome(link, "failure") or takes_outcome(link, "timeout") for link in flow.links)
    passed = any(step.retry is not None or step.on_fault != "stop" for step in flow.steps)
    return routes or passed or bool(flow.fault_handlers)


def _verb(step: Step) -> str:
    return {"send": "sends", "spend": "spends", "delete": "deletes"}.get(step.effect, "writes")


def _ignored_result(view: FlowView) -> Iterator[Hit]:
    for step in view.steps:
        if step.on_fault == "continue" and step.id in view.users:
            names = list({part.id: quote_name(part.title) for part, _ in view.users[step.id]}.values())
            take = "takes" if len(names) == 1 else "take"
            yield Hit(
                step,
                f"failures of {quote_name(step.title)} are passed over, and {join_words(names)} {take} its value, which may be missing",
            )


def _repeated_act(view: FlowView) -> Iterator[Hit]:
    for step in view.with_effect(_ONCE):
        if any(word in one.name.casefold() for one in step.inputs for word in _KEYS):
            continue
        again = step.retry
        if again is not None and again.attempts and not again.wait:
            told = f"{quote_name(step.title)} {_verb(step)} and is tried again {times_words(again.attempts)} without a wait: one that was slow happens twice"
            yield Hit(step, told, False)
        elif (found := _repeated_around(view, step)) is not None:
            block, failing, retry = found
            does = f"{quote_name(step.title)} {_verb(step)} within {quote_name(block.title)}, which is tried again {times_words(retry.attempts)}"
            yield Hit(step, f"{does} as a whole: when {quote_name(failing.title)} fails, it happens twice", False)


def _repeated_around(view: FlowView, step: Step) -> tuple[Step, Step, Retry] | None:
    """A block around a step that is tried again when something in it fails after the step, or beside it."""
    graph = view.graph
    around = [graph.steps[key] for key in graph.scope_path(step.id) if key is not None]
    for block in around if step.id not in graph.host else ():
        if block.retry is None or not block.retry.attempts or block.kind == "loop":
            continue
        inside = graph.contents.get(block.id, [])
        handling = _steps_on_failure(graph, inside)
        for other in inside:
            if other.kind in IDLE_KINDS or not other.enabled or other.id in (step.id, *handling, *graph.host):
                continue
            if block.id in fault_route(graph, other).through and _has_come_by(view, step, other, inside):
                return block, other, block.retry
    return None


def _has_come_by(view: FlowView, step: Step, other: Step, inside: Sequence[Step]) -> bool:
    """Whether a step may have run when another fails: before it, or beside it where no decision chooses between them."""
    after = view.ways.steps_after
    if other.id in after(step.id):
        return True
    choosing = [one.id for one in inside if one.id in view.graph.deciding]
    return step.id not in after(other.id) and not any({step.id, other.id} <= after(key) for key in choosing)


def _steps_on_failure(graph: Graph, inside: Sequence[Step]) -> set[str]:
    """The steps to which only failures lead."""
    found: set[str] = set()
    while True:
        fresh = {one.id for one in inside if one.id not in found and _is_on_failure(graph, one, found)}
        if not fresh:
            return found
        found |= fresh


def _is_on_failure(graph: Graph, step: Step, found: set[str]) -> bool:
    arriving = [link for link in graph.arriving.get(step.id, ()) if link.role != "attach"]
    return bool(arriving) and all(takes_faults(link) or link.source in found for link in arriving)


def _silent_yes(view: FlowView) -> Iterator[Hit]:
    for step in view.of_kind("approve"):
        if step.approval is not None and step.approval.silence == "approves":
            yield Hit(step, f"{quote_name(step.title)} is taken as approved when nobody answers")
        elif (target := _where_silence_passes(view, step)) is not None:
            told = f"when nobody answers {quote_name(step.title)} the run goes on to {quote_name(target.title)}, as after a yes"
            yield Hit(step, told)


def _where_silence_passes(view: FlowView, step: Step) -> Step | None:
    """The step to which both a yes and no answer lead, at once or by steps that ask nobody."""
    leaving = view.graph.leaving.get(step.id, ())
    agreed = [
        link.target
        for link in leaving
        if not link.after and link.role in ("next", "case") and not _NO.search(link.label)
    ]
    work = [link.target for link in leaving if "timeout" in link.after and "success" not in link.after]
    seen: set[str] = set()
    while work:
        key = work.pop()
        passed = view.graph.steps.get(key)
        if key in seen or passed is None or passed.kind in ("approve", "end"):
            continue
        seen.add(key)
        work += [link.target for link in view.graph.leaving.get(key, ()) if link.role in ("next", "case")]
    return next((view.graph.steps[key] for key in agreed if key in seen), None)


def _endless_approval(view: FlowView) -> Iterator[Hit]:
    for step in view.steps:
        silence = step.approval.silence if step.approval is not None else None
        if step.kind == "approve" and step.timeout is None and silence == "waits":
            yield Hit(step, f"{quote_name(step.title)} has no time limit: a run waits for an answer for ever")


CHECKS: tuple[Check, ...] = (
    Check("failure-unhandled", "medium", "nobody hears of a failure",
          "The owner learns of it from customers.",
          "An unattended flow sends, writes, spends or deletes, and has no error route, retry, guarded block, handler or fault handling of the estate.",
          "Handlers that the platform has outside of the exports.",
          "Add an error route, or name a flow that takes faults.", _no_handling),
    Check("failure-ignored", "medium", "a value that may be missing is used",
          "A failure is passed over, and what follows works with nothing.",
          "Steps whose failures are passed over, and the steps that take their values.",
          "Values that the step checks itself.",
          "Route the failure, or check the value first.", _ignored_result),
    Check("act-repeated", "medium", "an act that may happen twice",
          "A payment or message that was slow is made again.",
          "Sending or spending steps without a key by which the receiver knows a repetition: with tries but no wait, or in a block that is tried again.",
          "Keys under other names, and services that know repetitions by themselves.",
          "Wait between tries and send a key of the run.", _repeated_act),
    Check("approval-by-silence", "high", "silence approves",
          "Nobody said yes, and it happens all the same.",
          "The approval says that no answer within its time means approved, or its way for no answer leads where its yes leads.",
          "Builders that say so elsewhere.",
          "Let silence reject or escalate.", _silent_yes),
    Check("approval-endless", "low", "an approval without a time limit",
          "Runs pile up, and nobody knows.",
          "An approval with no time limit whose silence waits. Exports that do not say what silence means tell nothing.",
          "Limits that the platform sets for all.",
          "Set a limit and say what silence means.", _endless_approval),
)  # fmt: skip

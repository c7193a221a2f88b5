# Failures that end where nobody hears of them, and limits that cut off what they were to bound.
"""Checks of routes that failures and silence take."""

from __future__ import annotations

from collections.abc import Iterator

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.outcomes import takes_faults, takes_outcome
from zeitbuch.core.model.records import Step

from ..records import Check, Hit
from ..views import WRITES, FlowView

_TELLS = frozenset({"approve", "subflow", "http", "agent"})  # kinds that reach somebody without an effect of their own


def _dead_error_routes(view: FlowView) -> Iterator[Hit]:
    for link in view.flow.links:
        target = view.target_of(link) if takes_faults(link) else None
        if target is None:
            continue
        behind = [
            target,
            *[view.graph.steps[key] for key in view.ways.steps_after(target.id) if key in view.graph.steps],
        ]
        if not any(step.effect in WRITES or step.kind in _TELLS for step in behind if step.enabled):
            source = view.graph.names.get(link.source, link.source)
            told = f"when {quote_name(source)} fails {quote_name(target.title)} follows, and nothing there is sent, written or asked"
            yield Hit(target, told)


def _handler_missing(view: FlowView) -> Iterator[Hit]:
    flow, estate = view.flow, view.estate
    if not estate.named_handlers or flow.fault_handlers or flow.id in estate.named_handlers or not view.is_unattended:
        return
    if view.effects & WRITES and not any(map(takes_faults, flow.links)):
        names = " and ".join(sorted(quote_name(title) for title in estate.handler_titles)[:2])
        yield Hit(None, f"other flows hand their failures to {names}, this one to nobody")


def _short_timeouts(view: FlowView) -> Iterator[Hit]:
    yield from (Hit(step, told) for step, told in _limits_and_tries(view) if step.timeout_for == "all")


def _perhaps_short(view: FlowView) -> Iterator[Hit]:
    for step, told in _limits_and_tries(view):
        if step.timeout_for is None:
            yield Hit(step, f"{told}: nothing says whether the limit is for each try", False)


def _limits_and_tries(view: FlowView) -> Iterator[tuple[Step, str]]:
    """Steps whose time limit is no longer than the waits between their tries."""
    for step in view.steps:
        retry = step.retry
        if step.timeout is None or retry is None or not retry.wait:
            continue
        waits = retry.attempts * retry.wait
        if step.timeout <= waits:
            yield (
                step,
                f"{quote_name(step.title)} stops after {step.timeout:g} s, and the waits between its {retry.attempts + 1} tries take {waits:g} s",
            )


def _unanswered(view: FlowView) -> Iterator[Hit]:
    for step in view.of_kind("approve"):
        if step.timeout is None or (step.approval is not None and step.approval.silence):
            continue
        if not any(takes_outcome(link, "timeout") or link.otherwise for link in view.graph.leaving.get(step.id, ())):
            told = f"{quote_name(step.title)} waits {step.timeout / 3600:g} h, and no way says what then happens"
            yield Hit(step, told, False)


def _sent_for_nobody(view: FlowView) -> Iterator[Hit]:
    routed = {link.source for link in view.flow.links if takes_faults(link)}
    for step in view.steps:
        if (
            step.on_fault == "continue"
            and step.effect in WRITES
            and step.id not in routed
            and not _is_asked(view, step)
        ):
            yield Hit(step, f"when {quote_name(step.title)} fails the run goes on, and nobody is told")


def _is_asked(view: FlowView, step: Step) -> bool:
    return step.id in view.users  # `failure-ignored` tells of it


CHECKS: tuple[Check, ...] = (
    Check("error-route-dead", "medium", "a failure leads to where nobody hears of it",
          "The failure is caught, and lost.",
          "The steps behind an error route: none sends, writes, asks a person or calls a flow or service.",
          "Steps whose effect the dialect does not say.",
          "Tell somebody, or write it down, on that route.", _dead_error_routes),
    Check("handler-missing", "low", "a flow without the handler that others have",
          "Its owner learns of a failure from customers, while other flows are watched.",
          "Some flow of the estate names another for its failures; this one is unattended, writes or sends, and names none.",
          "Handlers that the platform sets for all.",
          "Name the handler.", _handler_missing),
    Check("timeout-too-short", "medium", "a time limit shorter than the tries it covers",
          "The last tries never happen.",
          "The time limit of a step, where the export says that it is for all tries, against the waits between them.",
          "The time that the tries themselves take.",
          "Raise the limit, or try less often.", _short_timeouts),
    Check("timeout-perhaps-short", "low", "a time limit that may be shorter than the tries it covers",
          "If it is for all tries the last never happen.",
          "The time limit of a step against the waits between its tries, where nothing says whether it is for each try.",
          "The time that the tries themselves take.",
          "Know what the builder means by it.", _perhaps_short),
    Check("approval-unanswered", "low", "nothing says what no answer means",
          "The run ends, waits or goes on, and nobody chose which.",
          "An approval with a time limit, no word on silence and no way for it.",
          "Rules that the platform sets for all.",
          "Say what silence means, or add a way for it.", _unanswered),
    Check("act-failure-passed-over", "low", "an act whose failure nobody hears of",
          "The message was never sent, and the run looks fine.",
          "Steps that send, write, spend or delete, whose failures are passed over and lead nowhere.",
          "Steps that look at it later by other means.",
          "Route the failure to somebody.", _sent_for_nobody),
)  # fmt: skip

# What nobody named, what was kept from trying, and what a copy still says of the original.
"""Checks of names, sample data, results for nobody, and copies."""

from __future__ import annotations

import re
from collections.abc import Iterator

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.records import Step
from zeitbuch.core.model.words import join_words

from ..records import Check, Hit
from ..views import ATTENDED, FlowView

MOST_COMPARED = 1_000  # flows that are held against each other: in estates full of copies each of them takes some 13 ms
_NUMBERED = re.compile(r"(.*\D)\s*\(?(\d{1,2})\)?")
_NUMBERS = (*"0123456789", ")")
_GENERIC = frozenset(
    "step node block task action module edit fields set request http function code script merge branch condition switch if loop item items "
    "untitled new unnamed copy of send call model agent tool text prompt data transform wait".split()
)
_NEVER_NAMED = re.compile(
    r"(?i)^(?:untitled|unnamed|new (?:step|node|block|task|action)|(?:step|node|block|task|action)\s*\d*)$"
)
# A run of these hands its answer back to whoever began it.
_ANSWERS = ATTENDED | {"webhook", "call", "tool-call"}


def _default_names(view: FlowView) -> Iterator[Hit]:
    lost = [step for step in view.steps if _is_default_name(step.name)]
    if lost:
        names = join_words([quote_name(step.name) for step in lost[:5]])
        more = f" and {len(lost) - 5} more" if len(lost) > 5 else ""
        be = "is called" if len(lost) == 1 else "are called"
        yield Hit(lost[0], f"{names}{more} {be} as builders call what nobody named", False)


def _is_default_name(name: str) -> bool:
    """Whether a name is one that builders give: a number behind words for sorts of steps, or no name at all."""
    found = _NUMBERED.fullmatch(name) if name.endswith(_NUMBERS) else None
    words = set(re.findall(r"[a-z]+", found.group(1).casefold())) if found is not None else set()
    return (bool(words) and words <= _GENERIC) or _NEVER_NAMED.match(name) is not None


def _sample_data(view: FlowView) -> Iterator[Hit]:
    for step in view.steps:
        if step.sample and not view.is_testing:
            yield Hit(step, f"{quote_name(step.title)} hands on data that were kept for trying")


def _unused_answers(view: FlowView) -> Iterator[Hit]:
    kinds = {trigger.kind for trigger in view.flow.triggers if trigger.enabled}
    # Where no step names what it takes, each takes what came before it.
    silent = bool(kinds) and not kinds & _ANSWERS and view.flow.id not in view.estate.called
    for step in [*view.of_kind("model"), *view.of_kind("embed")] if silent and view.users else ():
        if step.scope is None and not _is_taken(view, step):
            yield Hit(
                step, f"nothing takes the answer of {quote_name(step.title)}: it is paid for and thrown away", False
            )


def _is_taken(view: FlowView, step: Step) -> bool:
    """Whether anything may take what a step gives."""
    leads_on = any(link.role in ("next", "case") for link in view.graph.leaving.get(step.id, ()))
    return leads_on or step.id in view.users or step.id in view.graph.host


def _missed_edits(view: FlowView) -> Iterator[Hit]:
    for one in view.estate.copied.get(view.flow.id, ()):
        yield Hit(view.graph.steps.get(one.step), one.message, False)


def _flows_alike(view: FlowView) -> Iterator[Hit]:
    for one in view.estate.alike.get(view.flow.id, ()):
        yield Hit(None, one.message, False)


def _unused_triggers(view: FlowView) -> Iterator[Hit]:
    flow = view.flow
    if (
        flow.state in ("off", "draft")
        or view.is_of_standard
        or flow.id in view.estate.called
        or flow.id in view.estate.named_handlers
    ):
        return
    if flow.steps and not any(trigger.enabled for trigger in flow.triggers) and not flow.unread:
        off = "its triggers are switched off" if flow.triggers else "it has no trigger"
        yield Hit(None, f"nothing starts the flow: {off}, and no flow read calls it", False)


CHECKS: tuple[Check, ...] = (
    Check("default-step-name", "low", "steps that nobody named",
          "Whoever reads the map or a failure message learns nothing.",
          "Names such as 'Edit fields 3', 'Step 2', 'New node'.",
          "Default names in other languages.",
          "Say what the step does.", _default_names),
    Check("sample-data", "high", "data kept for trying are in use",
          "Every run works on the same made-up case.",
          "Steps whose export says that kept data stand in for their result, in flows that do not say they are for tests.",
          "Builders that say so elsewhere.",
          "Take the data out.", _sample_data),
    Check("answer-unused", "low", "a paid answer that nobody takes",
          "It costs in every run, and changes nothing.",
          "Model calls at the end of flows whose other steps name what they take, and whose trigger waits for no answer.",
          "Answers that are kept by the platform for reading.",
          "Use it, or take the step out.", _unused_answers),
    Check("copy-edit-missed", "medium", "a copy that still says what the original says",
          "The branch for one port uses the table of another.",
          f"Of two copies a word became another in two places or more and stands as it was in a third; in estates of up to {MOST_COMPARED:,} flows.",
          "Copies that differ in much; words that changed in one place only.",
          "Change it here too, or accept it with a reason.", _missed_edits, of_estate=True),
    Check("flows-alike", "low", "two flows that do the same",
          "Each is mended once, and both act on the same letter.",
          f"Flows of three steps or more that differ in next to nothing; in estates of up to {MOST_COMPARED:,} flows.",
          "Flows that do the same in other ways.",
          "Keep one.", _flows_alike, of_estate=True),
    Check("never-started", "low", "a flow that nothing starts",
          "It does nothing, and is kept, read and paid for as if it did.",
          "Flows that are not off, with no trigger that is on, that no flow read calls.",
          "Calls by computed names, and calls from outside the estate.",
          "Switch a trigger on, or the flow off.", _unused_triggers),
)  # fmt: skip

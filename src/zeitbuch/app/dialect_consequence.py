# What a proposed dialect means for money and safety: the files are read with it, and what it leaves in doubt is weighed by how much
# of them hangs on it.
"""The consequence of a proposed dialect."""

from __future__ import annotations

from typing import NamedTuple

from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.estimate.estate import estimate_exactly
from zeitbuch.core.model.kinds import MODEL_KINDS
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Estate, Flow, Origin
from zeitbuch.readers.dialects.flows import DialectReader
from zeitbuch.readers.dialects.trial import Untouched, untouched_places
from zeitbuch.readers.infer.claims import Claim
from zeitbuch.readers.infer.propose import Proposal
from zeitbuch.readers.infer.questions import KIND_QUESTION
from zeitbuch.readers.infer.suggest import Suggestion
from zeitbuch.readers.input.limits import count_values
from zeitbuch.readers.reading.validated import validate_flow

from .session import Session

_OUTSIDE = ("send", "delete", "spend")
_ASSUMED = ("loop", "decide", "agent")  # kinds whose rounds, shares or turns an estimate takes by default
_MOST_DOUBTS = 3
_LEAST_DOUBT = 0.02
# How much of an estate hangs on a part as a whole, 1 being all of it.
_WEIGHTS = {
    "steps": 1.0, "operation": 1.0, "links": 1.0, "triggers": 1.0, "id": 0.7, "model": 0.8, "prompts": 0.5, "switched off": 0.4, "flow state": 0.3,
    "placeholders": 0.2, "flow name": 0.1,
}  # fmt: skip
_RISKY = 3.0  # how much more a kind weighs that costs money or acts outside


class Consequence(NamedTuple):
    """What a dialect makes of the files. ``runs`` by the clock and ``calls`` of models a month count what is known: ``unknown`` flows
    start by something that the files give no number for; ``assumed``: some of it rests on defaults. ``outside`` counts steps by what
    they may do, ``unclassified`` those of which nobody knows it, ``may_ask`` those of these that likely ask a model; ``doubts`` are the
    claims that would change most, the largest first; ``left_out`` documents pass a limit and are in none of the numbers; ``untouched`` are
    places of the export that it has no rule for."""

    flows: int
    runs: float
    unknown: int
    calls_per_run: float
    calls: float
    assumed: bool
    outside: dict[str, int]
    unclassified: int
    may_ask: int
    doubts: tuple[Claim, ...]
    left_out: int
    untouched: tuple[Untouched, ...]


def weigh_consequence(session: Session, proposal: Proposal, month: str) -> Consequence:
    """Reads the documents that a proposal is for with its dialect and sums up what follows in a month (YYYY-MM, or
    YYYY for an average one). Nothing is opened again: a pipe gives its bytes once. A document that passes a limit is left out and counted."""
    made = proposal.made
    estate, left_out = _read_estate(session, proposal)
    result = estimate_exactly(estate, None, Assumptions(), month)
    known = [flow for flow in result.flows if flow.runs is not None]
    return Consequence(
        flows=len(estate.flows),
        runs=sum(flow.runs or 0.0 for flow in known),
        unknown=len(result.flows) - len(known),
        calls_per_run=sum(flow.calls for flow in result.flows),
        calls=sum(flow.calls_month or 0.0 for flow in known),
        assumed=any(flow.runs_evidence == "default" for flow in known) or any(map(_rests_on_defaults, estate.flows)),
        outside={effect: _count_effect(estate, effect) for effect in _OUTSIDE},
        unclassified=sum(step.kind == "other" for flow in estate.flows for step in flow.steps),
        may_ask=_count_maybe_asking(made, estate),
        doubts=_largest_doubts(made, estate),
        left_out=left_out,
        untouched=tuple(untouched_places(estate.flows)),
    )


def _read_estate(session: Session, proposal: Proposal) -> tuple[Estate, int]:
    """The flows of the documents, and how many documents are left out."""
    reader = DialectReader(proposal.made.dialect, limits=session.limits)
    flows: list[Flow] = []
    left_out = 0
    with session.progress(len(proposal.documents), "weighing") as advance:
        for done, (file, document) in enumerate(proposal.documents):
            advance(done)
            try:
                read = reader.flows(document, Origin(file), count_values(document))
                flows += [validate_flow(flow, session.limits)[0] for flow, _ in read]
            except ZeitbuchError:
                left_out += 1
    return Estate(flows=tuple(flows)), left_out


def _rests_on_defaults(flow: Flow) -> bool:
    """Whether an estimate assumes something of a flow: rounds of a loop, shares of its ways, turns of an agent."""
    return any(step.kind in _ASSUMED for step in flow.steps)


def _count_effect(estate: Estate, effect: str) -> int:
    return sum(step.effect == effect for flow in estate.flows for step in flow.steps)


def _count_maybe_asking(made: Suggestion, estate: Estate) -> int:
    """The steps of operations of which it is asked what they do, and of which asking a model is the likeliest."""
    maybe = {
        question.id.removeprefix(KIND_QUESTION)
        for question in made.questions
        if question.id.startswith(KIND_QUESTION) and question.answers and question.answers[0].word in MODEL_KINDS
    }
    return sum(step.kind == "other" and step.operation in maybe for flow in estate.flows for step in flow.steps)


def _largest_doubts(made: Suggestion, estate: Estate) -> tuple[Claim, ...]:
    rated = [((1 - claim.probability) * _weight_of(claim, estate), claim) for claim in made.claims if claim.evidence]
    rated = [entry for entry in rated if entry[0] >= _LEAST_DOUBT]
    return tuple(claim for _, claim in sorted(rated, key=lambda entry: -entry[0])[:_MOST_DOUBTS])


def _weight_of(claim: Claim, estate: Estate) -> float:
    """The share of the estate that hangs on a claim."""
    if not claim.of:
        return _WEIGHTS.get(claim.part, 0.1)
    flows = estate.flows
    if claim.part == "kind":
        share = sum(step.operation == claim.of for flow in flows for step in flow.steps) / max(
            1, sum(len(flow.steps) for flow in flows)
        )
        return share * (_RISKY if claim.words in ("model", "agent", "send", "delete", "write", "http") else 1.0)
    return sum(_begins(flow, claim.of) for flow in flows) / max(1, len(flows))


def _begins(flow: Flow, operation: str) -> bool:
    return any(trigger.operation == operation for trigger in flow.triggers)

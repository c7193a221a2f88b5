# What runs without end, too often, or twice for nothing.
"""Checks of loops, polls and calls that cost more than they need."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from functools import lru_cache

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.kinds import AI_KINDS
from zeitbuch.core.model.records import Step
from zeitbuch.core.model.words import join_words

from ..parts import minute_of, prompts_of
from ..records import Check, Hit
from ..views import FlowView

_LIGHT = frozenset({"shape", "code", "note"})  # what can be done to all items at once


def _uncapped_agents(view: FlowView) -> Iterator[Hit]:
    for step in view.of_kind("agent"):
        if step.model is None or step.model.max_turns is None:
            yield Hit(
                step, f"the agent {quote_name(step.title)} has no most of turns: what one run costs has no bound", False
            )


def _circles_without_way_out(view: FlowView) -> Iterator[Hit]:
    for source, target in view.ways.back_links if _has_circle(view) else ():
        inner = {target} | (view.ways.steps_after(target) & (view.ways.steps_before(source) | {source}))
        if not any(_leads_out(view, key, inner) for key in inner):
            names = view.graph.names
            told = f"{quote_name(names[source])} leads back to {quote_name(names[target])}, and no way leads out: the run never ends"
            yield Hit(view.graph.steps.get(source), told)


def _leads_out(view: FlowView, key: str, inner: set[str]) -> bool:
    """Whether a step of a circle decides, or has a way that leaves it."""
    step = view.graph.steps.get(key)
    leaving = [link.target for link in view.graph.leaving.get(key, ()) if link.role != "attach"]
    return (step is not None and step.kind in ("decide", "approve")) or not inner.issuperset(leaving)


def _has_circle(view: FlowView) -> bool:
    return any(view.maybe_before[link.source] & view.bits[link.target] for link in view.flow.links if link.role != "attach"
               and link.source in view.bits and link.target in view.bits)  # fmt: skip


def _paid_before_filter(view: FlowView) -> Iterator[Hit]:
    """A model call right before a decision that does not look at its answer and throws items away."""
    for decision in view.of_kind("decide") if view.kinds & AI_KINDS else ():
        step = _paid_before(view, decision)
        if step is None or not _discards(view, decision):
            continue
        sources = {ref.step for ref in decision.refs}
        sources |= {ref.step for link in view.cases_of(decision) for ref in view.refs_of_link(link)}
        if sources and not _comes_from(view, sources, step):
            told = f"{quote_name(step.title)} is paid for before {quote_name(decision.title)}, which does not look at its answer and lets runs end"
            yield Hit(step, told, False)


def _paid_before(view: FlowView, decision: Step) -> Step | None:
    """The one model call that leads to a decision and nowhere else."""
    arriving = view.graph.arriving.get(decision.id, ())
    step = view.graph.steps.get(arriving[0].source) if len(arriving) == 1 and arriving[0].role == "next" else None
    if step is None or not step.enabled or step.kind not in AI_KINDS:
        return None
    return step if [link.role for link in view.graph.leaving.get(step.id, ())].count("next") == 1 else None


def _discards(view: FlowView, decision: Step) -> bool:
    """Whether some case of a decision ends the run, or none is there for the rest."""
    cases = view.cases_of(decision)
    ends = any(link.target in view.graph.steps and view.graph.steps[link.target].kind == "end" for link in cases)
    return ends or len(cases) == 1


def _comes_from(view: FlowView, sources: set[str | None], step: Step) -> bool:
    """Whether what a decision looks at is made of the answer of a step."""
    return any(key is None or key == step.id or view.may_lead(step.id, key) for key in sources)


def _frequent_polls(view: FlowView) -> Iterator[Hit]:
    limits, facts = view.estate.limits, view.estate.facts
    for trigger in view.flow.triggers:
        every = trigger.schedule.every if trigger.schedule is not None else None
        if trigger.kind != "polling" or not trigger.enabled:
            continue
        idle = facts.idle_polls.get(f"{view.flow.id}/{trigger.id}")
        if idle is not None and idle >= limits.finds_one_in:
            yield Hit(trigger, f"{quote_name(trigger.title)} finds something in one of {idle:,.0f} checks")
        elif idle is None and every is not None and every < limits.poll_every:
            yield Hit(
                trigger,
                f"{quote_name(trigger.title)} looks every {every:g} s, and nothing says how often it finds something",
                False,
            )


def _asked(step: Step) -> tuple[str, ...]:
    """What a model call asks, up to white space: prompts and inputs."""
    return (
        *[" ".join(prompt.text.split()) for prompt in prompts_of(step)],
        *[f"{one.name}={one.value}" for one in step.inputs],
    )


@lru_cache(maxsize=1)  # two checks ask for it, one after the other
def _pairs_alike(view: FlowView) -> list[tuple[Step, Step]]:
    """Model calls of a flow that ask the same and may both run in one run."""
    models = view.of_kind("model")
    beginnings = [_beginning(step) for step in models]
    begun = Counter(beginnings)
    seen: dict[tuple[str, ...], list[Step]] = {}
    found = []
    for step, beginning in zip(models, beginnings, strict=True):
        asked = _asked(step) if begun[beginning] > 1 else ()
        if not any(len(text) > 8 for text in asked):
            continue
        found += [(other, step) for other in seen.get(asked, ()) if _both_run(view, other, step)]
        seen.setdefault(asked, []).append(step)
    return found


def _beginning(step: Step) -> tuple[str, ...]:
    """The first words of what is asked, and the last: calls that ask the same share them."""
    prompts = prompts_of(step)
    return (*prompts[0].text.split(None, 4)[:4], *prompts[-1].text.rsplit(None, 4)[-4:]) if prompts else ()


def _both_run(view: FlowView, one: Step, other: Step) -> bool:
    """Whether one may lead to the other, or both begin where a run takes all ways."""
    if view.may_lead(one.id, other.id) or view.may_lead(other.id, one.id):
        return True
    before = [
        {link.source for link in view.graph.arriving.get(step.id, ()) if link.role == "next"} for step in (one, other)
    ]
    return bool(before[0] & before[1])


def _twice_the_same(view: FlowView) -> Iterator[Hit]:
    for one, other in _pairs_alike(view):
        if (one.model.name if one.model else None) == (other.model.name if other.model else None):
            yield Hit(
                other,
                f"{quote_name(one.title)} and {quote_name(other.title)} ask the same model the same: it is paid for twice",
                False,
            )


def _several_models(view: FlowView) -> Iterator[Hit]:
    for one, other in _pairs_alike(view):
        names = [step.model.name for step in (one, other) if step.model is not None and step.model.name]
        if len(set(names)) == 2:
            yield Hit(
                other,
                f"{quote_name(one.title)} and {quote_name(other.title)} ask {join_words([quote_name(name) for name in names])} the same",
                False,
            )


def _writes_in_loops(view: FlowView) -> Iterator[Hit]:
    for loop in view.of_kind("loop") if "write" in view.effects else ():
        inner = [step for step in view.steps if step.scope == loop.id]
        writes = [step for step in inner if step.effect == "write" and step.kind in ("write", "http")]
        beside = {step.kind for step in inner if step not in writes[:1]}
        if writes and beside <= _LIGHT:
            yield Hit(
                writes[0], f"{quote_name(writes[0].title)} writes once for each item of {quote_name(loop.title)}", False
            )


def _same_minute(view: FlowView) -> Iterator[Hit]:
    for trigger in view.flow.triggers:
        together = view.estate.same_minute.get(minute_of(trigger), ())
        if len(together) >= view.estate.limits.same_minute and view.flow.title in together:
            others = [quote_name(name) for name in together if name != view.flow.title]
            more = f" and {len(others) - 3} more" if len(others) > 3 else ""
            yield Hit(
                trigger,
                f"{quote_name(trigger.title)} starts in the same minute as {', '.join(others[:3])}{more}, all with model calls",
                False,
            )


CHECKS: tuple[Check, ...] = (
    Check("agent-uncapped", "medium", "an agent without a most of turns",
          "One strange letter makes it call tools until somebody stops it.",
          "Agents whose export states no most of turns.",
          "Caps that the platform sets for all.",
          "Set a most of turns.", _uncapped_agents),
    Check("circle-endless", "high", "a circle with no way out",
          "The run never ends, and calls and costs until somebody stops it.",
          "Links that lead back, where no decision, approval or other way leads out of the circle.",
          "Circles that steps leave by failing.",
          "Add a decision that ends it, and a most of rounds.", _circles_without_way_out),
    Check("paid-before-filter", "low", "a paid call before what throws items away",
          "Every item that is thrown away has been paid for.",
          "A model call whose next step is a decision by other values that lets runs end.",
          "Filters further on, and answers that later steps of the filtered way alone need.",
          "Decide first, then ask.", _paid_before_filter),
    Check("poll-too-often", "low", "a poll that finds next to nothing",
          "Every check may be metered, and holds up the service.",
          "The checks of a month against the events that the assumptions declare; without them the pause between two checks.",
          "Services where the speed matters: accept it with a reason.",
          "Look less often, or let the service call.", _frequent_polls),
    Check("same-call-twice", "medium", "the same paid call twice",
          "It costs twice, and the two answers may differ.",
          "Two model calls of one flow with the same prompts, inputs and model, of which one may lead to the other or which both begin.",
          "Calls that are meant to be compared: accept it with a reason.",
          "Take the first answer in both places.", _twice_the_same),
    Check("models-asked-alike", "low", "several models are asked the same",
          "Every answer costs as many times.",
          "Model calls of one flow with the same prompts and inputs and different models, which may run in one run.",
          "Votes that are meant: accept it with a reason.",
          "Ask one, and another only where the first is unsure.", _several_models),
    Check("write-in-loop", "low", "one write for each item",
          "A hundred items are a hundred calls, and half of them may be written when one fails.",
          "A loop in which, beside shaping and code, one step writes.",
          "Services that have no write of many.",
          "Write all items at once.", _writes_in_loops),
    Check("same-minute", "low", "heavy flows in the same minute",
          "They wait for each other, and for the limits of the model's vendor.",
          "Flows with model calls whose schedules name the same hour and minute in the same zone.",
          "Flows on different days of the week, and what runs take.",
          "Spread them over the hour.", _same_minute, of_estate=True),
)  # fmt: skip

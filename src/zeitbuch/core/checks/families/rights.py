# Who may do what without anybody being asked, and who may start it.
"""Checks of rights."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence

from zeitbuch.core.graph.answers import answering_models
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.kinds import EFFECTS, KINDS
from zeitbuch.core.model.records import Binding, Link, Ref, Step
from zeitbuch.core.model.words import join_words

from ..parts import approvers_of
from ..records import Check, Hit
from ..views import ACTS, FlowView
from .outside import acting_tools, is_limit, outside_words, tools_words, words_in

_REQUESTERS = frozenset(
    {
        "requester",
        "requested",
        "submitter",
        "sender",
        "applicant",
        "author",
        "creator",
        "claimant",
        "employee",
        "caller",
    }
)
_TARGETS = ("recipient", "amount", "address")
_FINAL = frozenset({"delete", "spend"})  # what cannot be called back
_PERSON = re.compile(r"[a-z]{2,}[._][a-z]{2,}", re.IGNORECASE)
_FUNCTIONS = frozenset(
    "info sales support service desk team office billing accounts finance help noreply reply no admin svc bot mail post orders booking "
    "bookings tickets repairs letters news alerts ops platform system robot automation hr it customer care contact claims".split()
)


def _agent_acts(view: FlowView) -> Iterator[Hit]:
    for agent in view.of_kind("agent"):
        tools = acting_tools(view, agent)
        if tools and not outside_words(view, agent):  # `outside-words-to-agent` tells of the others
            yield Hit(
                agent, f"the agent {quote_name(agent.title)} may use {tools_words(tools)}, and nobody approves it"
            )


def _model_decides(view: FlowView) -> Iterator[Hit]:
    for step in view.with_effect(ACTS):
        decided = [one for one in step.inputs if one.role in _TARGETS and one.decided == "model"]
        decided = [one for one in decided if one.role != "amount" or not _is_limited(view, step, one)]
        if decided and not view.is_approved(step):
            what = join_words([f"{one.role} ({one.name})" for one in decided])
            yield Hit(step, f"a model decides the {what} of {quote_name(step.title)}, and nobody approves it")


def _answer_decides(view: FlowView) -> Iterator[Hit]:
    for step in view.with_effect(ACTS):
        asked = [one for one in step.inputs if one.role in _TARGETS and one.decided != "model"]
        taken = [(one, answering_models(view.graph, one.refs)) for one in asked]
        taken = [(one, models) for one, models in taken if models]
        taken = [(one, models) for one, models in taken if one.role != "amount" or not _is_limited(view, step, one)]
        if taken and not view.is_approved(step):
            what = join_words([f"{one.role} ({one.name})" for one, _ in taken])
            at_once = all(_takes_from(one.refs, models) for one, models in taken)
            whose = "what a model answered" if at_once else f"made of what {_titles(taken)} answered"
            yield Hit(step, f"the {what} of {quote_name(step.title)} is {whose}, and nobody approves it", False)


def _takes_from(refs: Iterable[Ref], models: Sequence[Step]) -> bool:
    """Whether one of these values is an answer of one of the models itself, with no step between."""
    return not {ref.step for ref in refs}.isdisjoint(model.id for model in models)


def _titles(taken: Iterable[tuple[Binding, list[Step]]]) -> str:
    return join_words(list(dict.fromkeys(quote_name(model.title) for _, models in taken for model in models)))


def _within_limits(view: FlowView) -> Iterator[Hit]:
    for agent in view.of_kind("agent"):
        tools = acting_tools(view, agent, bounded=True)
        if tools:
            told = f"the agent {quote_name(agent.title)} may use {tools_words(tools)}, to a fixed recipient or limit, and nobody approves it"
            yield Hit(agent, told)


def _is_limited(view: FlowView, step: Step, amount: Binding) -> bool:
    """Whether a fixed limit stands beside an amount: as an input of the step, or in a condition before it."""
    if any(is_limit(one) for one in step.inputs if one is not amount):
        return True
    values = {(ref.step, ref.path) for ref in amount.refs if ref.step}
    tested = [ref for part, ref in view.used_refs if part.kind == "decide" and view.may_lead(part.id, step.id)]
    return any((ref.step, ref.path) in values for ref in tested)


def _acts_by_label(view: FlowView) -> Iterator[Hit]:
    """Deletions and payments right behind a case that a model's answer chose."""
    for decision in view.steps if view.effects & _FINAL else ():
        models = view.deciding_models(decision)
        for link in view.cases_of(decision) if models else ():
            yield from _final_behind(view, decision, link, models)


def _final_behind(view: FlowView, decision: Step, link: Link, models: Sequence[Step]) -> Iterator[Hit]:
    step = view.target_of(link)
    if step is not None and step.effect in _FINAL and not view.is_approved(step):
        answer = quote_name(link.label or link.condition)
        does = f"{quote_name(step.title)} {EFFECTS[step.effect].verb}"
        who = join_words([quote_name(model.title) for model in models])
        refs = [*decision.refs, *[ref for case in view.cases_of(decision) for ref in view.refs_of_link(case)]]
        at_once = len(models) == 1 and (decision in models or {ref.step for ref in refs if ref.step} == {models[0].id})
        said = f"because {who} answered {answer}" if at_once else f"in case {answer}, by what {who} answered"
        yield Hit(step, f"{does} {said}, and nobody approves it", False)


def _undescribed_tools(view: FlowView) -> Iterator[Hit]:
    for agent in view.of_kind("agent"):
        tools = [tool for tool in view.graph.tools_of(agent.id) if tool.enabled and KINDS[tool.kind].is_tool]
        for tool in tools:
            if not _says_what_for(tool):
                yield Hit(
                    tool, f"the tool {quote_name(tool.title)} of {quote_name(agent.title)} has no description", False
                )
        yield from _twins(agent, tools)


def _twins(agent: Step, tools: list[Step]) -> Iterator[Hit]:
    """Tools of an agent that do the same."""
    seen: dict[tuple[object, ...], Step] = {}
    for tool in tools:
        key = _use_of(tool)
        if key in seen:
            yield Hit(
                tool,
                f"{quote_name(seen[key].title)} and {quote_name(tool.title)} of {quote_name(agent.title)} do the same",
            )
        seen.setdefault(key, tool)


def _says_what_for(tool: Step) -> bool:
    """Whether a tool says what it is for: in a note, or in a description of its inputs."""
    about = any(words_in(one.name)[-1:] == ["description"] and one.value for one in tool.inputs)
    return bool(tool.note or about or any(one.description for one in tool.inputs))


def _use_of(tool: Step) -> tuple[object, ...]:
    inputs = tuple((one.name, repr(one.value), one.decided) for one in tool.inputs)
    return (
        (tool.kind, tool.operation, tool.connection, tool.calls, inputs, tool.effect)
        if tool.operation or tool.calls
        else (tool.id,)
    )


def _own_requests(view: FlowView) -> Iterator[Hit]:
    for step in view.of_kind("approve"):
        refs = list(step.approval.refs) if step.approval is not None else []
        refs += [ref for one in step.inputs if one.role == "approver" for ref in one.refs]
        own = next((ref for ref in refs if set(words_in(ref.path)[-2:]) & _REQUESTERS), None)
        if own is not None:
            yield Hit(
                step,
                f"{quote_name(step.title)} asks {quote_name(own.text or own.path)}: whoever asks for it approves it",
                False,
            )


def _unknown_approvers(view: FlowView) -> Iterator[Hit]:
    for step in view.of_kind("approve"):
        gone = [name for name in approvers_of(step) if view.estate.has_left(name)]
        if gone:
            yield Hit(
                step,
                f"{quote_name(step.title)} asks {join_words([quote_name(name) for name in gone])}, who has left the house",
            )


def _accounts_of_people(view: FlowView) -> Iterator[Hit]:
    names = [*view.flow.owners, *[person.name for person in view.estate.facts.people]]
    spelt = {words for name in names if len(words := tuple(words_in(name))) > 1}
    used = {part.connection for part in view.parts}
    for one in view.flow.connections:
        if not one.account or one.id not in used:
            continue
        known = tuple(words_in(one.account.partition("@")[0])) in spelt or one.account.casefold() in view.estate.people
        if known or _looks_like_person(one.account):
            yield Hit(
                None,
                f"the connection {quote_name(one.name or one.id)} acts as {quote_name(one.account)}, the account of a person",
                known,
            )


def _looks_like_person(account: str) -> bool:
    """Whether an address is one of the form first.last, and of no function."""
    local, at, _ = account.partition("@")
    return bool(at) and _PERSON.fullmatch(local) is not None and not set(words_in(local)) & _FUNCTIONS


def _open_webhooks(view: FlowView) -> Iterator[Hit]:
    acting = any(step.effect in ACTS | {"write"} or step.kind in ("model", "agent") for step in view.steps)
    for trigger in view.flow.triggers:
        if trigger.kind == "webhook" and trigger.enabled and trigger.authentication.casefold() == "none" and acting:
            yield Hit(
                trigger,
                f"anybody who knows the address can start {quote_name(trigger.title)}: callers need not show who they are",
            )


def _clear_secrets(view: FlowView) -> Iterator[Hit]:
    if view.flow.secrets:
        names = join_words([secret.name for secret in view.flow.secrets])
        stands = "stand" if len(view.flow.secrets) > 1 else "stands"
        yield Hit(
            None,
            f"{names} {stands} in clear in the export: whoever reads it has {'them' if len(view.flow.secrets) > 1 else 'it'}",
        )


CHECKS: tuple[Check, ...] = (
    Check("agent-acts-alone", "high", "an agent that may act without anybody",
          "A message from outside may talk it into sending, paying or deleting.",
          "Tools of the agent that send, spend or delete, without a fixed recipient or limit and with no approval always before the agent or the tool.",
          "Limits that the service sets, and approvals elsewhere: accept it with a reason. Of a flow that a tool calls any approval in it counts.",
          "Put an approval before the act, or take the tool away.", _agent_acts),
    Check("model-decides-target", "high", "a model decides who gets it, or how much",
          "A wrong word goes to the wrong person or costs the wrong amount.",
          "Inputs with the role recipient, amount or address that a model decides, on steps that send, spend or delete, with no approval before.",
          "Values that a model call answered before: `answer-decides-target`. An amount is let be where a fixed limit stands beside it.",
          "Let data decide, or a person approve.", _model_decides),
    Check("agent-acts-within-limits", "low", "an agent that may act by itself, within limits",
          "What it may do is bounded, and still nobody looks.",
          "Tools of the agent that spend with a fixed limit beside, or send to a fixed recipient, with no approval before.",
          "Limits that the service sets.",
          "Know the limit, and accept it with a reason.", _within_limits),
    Check("answer-decides-target", "medium", "a model's answer says who gets it, or how much",
          "A model reads an address or a sum out of a letter, and whoever wrote the letter chose it.",
          "Recipients, amounts and addresses of steps that send, spend or delete, taken from what a model or agent answered, also reshaped, with no approval before.",
          "Values that go through variables, tables or other systems. An amount is let be where a fixed limit stands beside it, or a decision before looks at it.",
          "Take it from data of your own, or let a person approve.", _answer_decides),
    Check("act-by-label", "medium", "a model's answer deletes or pays",
          "A label that is wrong once in a hundred is a letter lost once in a hundred.",
          "A step that deletes or spends right behind a case that goes by the answer of a model or agent, also reshaped, with no approval before.",
          "Acts further behind the case.",
          "Move it to a place where it can be fetched back, or let a person approve.", _acts_by_label),
    Check("tool-unclear", "low", "a tool that an agent cannot tell from others",
          "The model guesses by a word what a tool is for.",
          "Tools with neither a note nor described inputs; two tools of an agent with the same operation, connection and inputs.",
          "Descriptions that stand in the service.",
          "Describe what it is for, and when not to use it.", _undescribed_tools),
    Check("own-request", "high", "whoever asks approves",
          "An approval by the one who wants it is none.",
          "Approvers taken from a value whose name is that of a requester (requester, sender, author ...).",
          "Requesters under other names, and people who look up their own.",
          "Ask somebody else.", _own_requests),
    Check("approver-left", "high", "somebody who has left is asked",
          "Nobody answers, and runs wait or end.",
          "Fixed approvers against the people of the workspace who have left.",
          "Approvers that the workspace does not know.",
          "Name somebody who is there.", _unknown_approvers),
    Check("account-of-person", "medium", "a flow acts as a person",
          "It stops when that person leaves, and does what that person may.",
          "Accounts of used connections against the owners and the workspace's people; accounts of the form first.last@ are suspected.",
          "Accounts that do not say whose they are.",
          "Use an account of the service.", _accounts_of_people),
    Check("webhook-open", "high", "a webhook that anybody can call",
          "Whoever finds the address starts it, and pays nothing for it.",
          "The export says that callers need not show who they are, and the flow calls models or acts.",
          "Exports that do not say: nothing is told then.",
          "Ask for a signature or key.", _open_webhooks),
    Check("secret-in-clear", "medium", "a secret in the export",
          "Exports are kept, sent and read by many.",
          "The forms and names of secrets, as in docs/secrets.md.",
          "Secrets without form or name.",
          "Put it into the platform's store of secrets, and change it.", _clear_secrets),
)  # fmt: skip

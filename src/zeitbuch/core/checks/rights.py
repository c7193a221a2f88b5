# Who may do what without anybody being asked, and who may start it.
"""Checks of rights."""

from __future__ import annotations

from collections.abc import Iterator

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.kinds import EFFECTS
from zeitbuch.core.model.words import join_words

from .records import Check, Hit
from .views import ACTS, FlowView


def _agent_acts(view: FlowView) -> Iterator[Hit]:
    for agent in view.steps:
        if agent.kind != "agent" or view.is_approved(agent):
            continue
        tools = [tool for tool in view.graph.helpers_of(agent.id) if tool.enabled and tool.effect in ACTS]
        tools = [tool for tool in tools if not view.is_approved(tool)]
        if tools:
            said = join_words([f"{quote_name(tool.title)} ({EFFECTS[tool.effect].verb})" for tool in tools])
            yield Hit(agent, f"the agent {quote_name(agent.title)} may use {said}, and nobody approves it")


def _model_decides(view: FlowView) -> Iterator[Hit]:
    for step in view.steps:
        decided = [
            one for one in step.inputs if one.decided == "model" and one.role in ("recipient", "amount", "address")
        ]
        if step.effect in ACTS and decided and not view.is_approved(step):
            what = join_words([f"{one.role} ({one.name})" for one in decided])
            yield Hit(step, f"a model decides the {what} of {quote_name(step.title)}, and nobody approves it")


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
          "Tools of the agent that send, spend or delete, with no approval always before the agent or the tool.",
          "Limits that the service sets, and approvals elsewhere: accept it with a reason. Of a flow that a tool calls any approval in it counts.",
          "Put an approval before the act, or take the tool away.", _agent_acts),
    Check("model-decides-target", "high", "a model decides who gets it, or how much",
          "A wrong word goes to the wrong person or costs the wrong amount.",
          "Inputs with the role recipient, amount or address that a model decides, on steps that send, spend or delete, with no approval before.",
          "Values that reach the input through steps between: those are decided by data.",
          "Let data decide, or a person approve.", _model_decides),
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

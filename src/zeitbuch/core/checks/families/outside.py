# Words from outside, personal data and secrets: where they go, and what they may talk an agent into.
"""Checks of what comes from outside and what goes out."""

from __future__ import annotations

import re
from collections.abc import Iterator

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.kinds import EFFECTS
from zeitbuch.core.model.records import Binding, Ref, Step, Trigger
from zeitbuch.core.model.words import join_words

from ..parts import prompts_of
from ..records import Check, Hit
from ..views import ACTS, FlowView

OUTSIDE = frozenset({"chat", "form", "webhook", "event", "polling"})  # triggers whose words anybody may write
_MOST_STEPS_BACK = 5
_KEEPS = frozenset({"write", "send"})
_READS_OUTSIDE = frozenset({"parse", "http"})  # steps that bring documents and pages
_WORD = re.compile(r"[^\W_]+")
_HUMP = re.compile(r"(?<=[a-z])(?=[A-Z])")
_SECRET_WORDS = frozenset(
    {"password", "passwort", "passwd", "secret", "token", "apikey", "credential", "credentials", "pin", "otp"}
)
_PERSONAL_WORDS = frozenset(
    {"iban", "ssn", "passport", "birthday", "birthdate", "dob", "diagnosis", "salary", "religion", "health", "email", "mail", "phone",
     "mobile", "address", "surname", "lastname", "firstname"}
)  # fmt: skip
_PERSONAL_PAIRS = (
    ("date", "birth"),
    ("social", "security"),
    ("tax", "number"),
    ("account", "number"),
    ("card", "number"),
)
_LIMITS = frozenset({"max", "maximum", "most", "limit", "cap", "ceiling", "upto"})
_RECIPIENTS = frozenset({"to", "cc", "bcc", "recipient", "recipients", "channel", "number", "phone", "address"})
_COUNTS = frozenset({"input", "output", "max", "count", "used", "total", "usage", "limit", "budget"})


def words_in(name: str) -> list[str]:
    """The words of a path or name, in lower case: 'form.birthDate' -> form, birth, date."""
    return [part.casefold() for word in _WORD.findall(name) for part in _HUMP.split(word)]


def acting_tools(view: FlowView, agent: Step, bounded: bool = False) -> list[Step]:
    """The tools of an agent that send, spend or delete, with nobody who approves; none where somebody approves before the agent. Those that
    are ``bounded``, by a fixed limit or recipient, are told apart from the others."""
    if view.is_approved(agent):
        return []
    tools = [tool for tool in view.graph.tools_of(agent.id) if tool.enabled and tool.effect in ACTS]
    return [tool for tool in tools if not view.is_approved(tool) and is_bounded(tool) == bounded]


def is_bounded(tool: Step) -> bool:
    """Whether a fixed value holds what a tool may do: a limit beside what is paid, a recipient of what is sent."""
    if tool.effect == "spend":
        return any(is_limit(one) for one in tool.inputs)
    named = [one for one in tool.inputs if one.role == "recipient" or one.name.casefold() in _RECIPIENTS]
    return tool.effect == "send" and bool(named) and all(one.decided == "fixed" and one.value for one in named)


def is_limit(one: Binding) -> bool:
    """Whether an input is a limit that no model chooses."""
    return one.decided != "model" and bool(set(words_in(one.name)) & _LIMITS) and one.value not in (None, "")


def tools_words(tools: list[Step]) -> str:
    """'‘Pay’ (spends) and ‘Send mail’ (sends)'."""
    return join_words([f"{quote_name(tool.title)} ({EFFECTS[tool.effect].verb})" for tool in tools])


def outside_words(view: FlowView, agent: Step) -> str:
    """Where the words come from that anybody may write and the agent reads; empty for nowhere that is known."""
    work = [(ref.step, 0) for ref in _refs_of_step(agent)]
    seen: set[str | None] = {None}
    while work:
        key, depth = work.pop()
        if key in seen:
            continue
        seen.add(key)
        part = view.graph.triggers.get(key or "") or view.graph.steps.get(key or "")
        if part is not None and _is_outside(part):
            return quote_name(part.title)
        if isinstance(part, Step) and depth < _MOST_STEPS_BACK:
            work += [(ref.step, depth + 1) for ref in _refs_of_step(part)]
    return ""


def _refs_of_step(step: Step) -> Iterator[Ref]:
    for prompt in prompts_of(step):
        yield from prompt.refs
    for one in step.inputs:
        yield from one.refs


def _is_outside(part: Step | Trigger) -> bool:
    return part.kind in OUTSIDE if isinstance(part, Trigger) else part.kind in _READS_OUTSIDE


def _agent_on_outside_words(view: FlowView) -> Iterator[Hit]:
    for agent in view.of_kind("agent"):
        tools = acting_tools(view, agent)
        source = outside_words(view, agent) if tools else ""
        if source:
            yield Hit(
                agent,
                f"the agent {quote_name(agent.title)} reads words of {source}, may use {tools_words(tools)}, and nobody approves it",
            )


def _secrets_to_models(view: FlowView) -> Iterator[Hit]:
    labels = [secret.name for secret in view.flow.secrets]
    for step, use in view.with_model:
        for prompt in use.prompts:
            found = [label for label in labels if label in prompt.text]
            found += [ref.text or ref.path or ref.variable or "" for ref in prompt.refs if is_secret(ref)]
            if found:
                told = found[0]
                yield Hit(
                    step,
                    f"the prompt of {quote_name(step.title)} holds {quote_name(told)}: whoever runs the model reads it",
                    False,
                )
                break


def is_secret(ref: Ref) -> bool:
    """Whether the name of a value is that of a secret."""
    words = words_in(ref.path or ref.variable or "")[-2:]
    joined = "".join(words)
    return (
        bool(words)
        and not set(words) & _COUNTS
        and (words[-1] in _SECRET_WORDS or joined in ("apikey", "accesskey", "privatekey"))
    )


def is_personal(ref: Ref) -> bool:
    """Whether the name of a value is that of personal data."""
    words = words_in(ref.path)
    return bool(set(words[-1:]) & _PERSONAL_WORDS) or any(set(pair) <= set(words) for pair in _PERSONAL_PAIRS)


def _personal_to_models(view: FlowView) -> Iterator[Hit]:
    for step, use in view.with_model:
        found = [ref.path for prompt in use.prompts for ref in prompt.refs if is_personal(ref)]
        if found:
            names = join_words([quote_name(path) for path in dict.fromkeys(found)])
            yield Hit(step, f"the prompt of {quote_name(step.title)} hands {names} to the model's vendor", False)


def _logged_secrets(view: FlowView) -> Iterator[Hit]:
    for step in view.with_effect(_KEEPS):
        if not _is_log(step):
            continue
        taken = [ref for one in step.inputs if not one.secured for ref in one.refs]
        found = [quote_name(ref.path or ref.variable or "") for ref in taken if is_secret(ref) or is_personal(ref)]
        if found:
            yield Hit(step, f"{quote_name(step.title)} writes {join_words(found)} into a log", False)


def _is_log(step: Step) -> bool:
    named = f"{step.name} {step.operation}"
    return "log" in named.lower() and "log" in words_in(named)


CHECKS: tuple[Check, ...] = (
    Check("outside-words-to-agent", "high", "words from outside reach an agent that may act",
          "Whoever writes the letter, form or page may talk it into sending, paying or deleting.",
          "What the agent reads, followed back to chats, forms, web requests, events, documents and services; its tools that send, spend or delete without approval.",
          "Words that steps between make harmless; ways that the export writes without references.",
          "Put an approval before the act, or take the tool from the agent that reads them.", _agent_on_outside_words),
    Check("secret-to-model", "high", "a secret in a prompt",
          "The vendor reads and may keep it, and the model may say it to anybody.",
          "Secrets of the export within prompts, and references whose last word is that of a secret (password, token ...).",
          "Secrets under other names.",
          "Keep it out of the prompt; hand it to the tool that needs it.", _secrets_to_models),
    Check("personal-data-to-model", "low", "personal data go to a model",
          "They leave the house: the agreement with the vendor and the record of processing have to say so.",
          "References in prompts whose last word is one of personal data (mail, phone, birth date, IBAN ...).",
          "Personal data within whole texts; data that are made nameless before.",
          "Leave out what the model does not need.", _personal_to_models),
    Check("secret-in-log", "medium", "personal data or secrets go into a log",
          "Logs are kept long and read by many.",
          "Writing and sending steps with the word log in name or operation whose inputs, not marked as secured, take such a value.",
          "Logs under other names.",
          "Leave the value out, or mark the input as secured.", _logged_secrets),
)  # fmt: skip

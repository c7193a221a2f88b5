# What was meant to be replaced before the flow went live, and what nobody needs any more.
"""Checks of what was left over."""

from __future__ import annotations

import re
from collections.abc import Iterator

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.words import join_words
from zeitbuch.core.passes.steps_that_run import steps_that_may_run

from ..records import Check, Hit
from ..views import FlowView

# Words that nobody writes to a customer, wherever they stand.
PLACEHOLDER = re.compile(
    r"\b(?:CHANGE[_ -]?ME|REPLACE[_ -]?ME)\b"
    r"|(?i:lorem ipsum|\bchangeme\b|<(?:your|insert)[ _-][^>]{2,30}>|\byour[_-](?:api[_-])?(?:key|token|id|name)\b"
    r"|\b(?:user|name|email|someone|you|your[._-]?\w*|foo|recipient|first\.last)@(?:example|domain|company|email)\.(?:com|org|net)\b"
    r"|https?://(?:[\w-]+\.)*(?:your[-_]?\w+|example)\.(?:com|org|net)\b)"
)
# Words that may be meant within others: only as all that a value holds, or at its beginning before a colon.
_UNDONE = re.compile(r"^\W*(?:TODO|FIXME|TBD|XXX+|PLACEHOLDER)(?:\W*$|\s*[:\-–])")
# A prompt may speak of nearly all of them.
_IN_PROMPTS = re.compile(r"\b(?:CHANGE[_ -]?ME|REPLACE[_ -]?ME)\b|(?i:lorem ipsum|<insert[ _-][^>]{2,30}>)")
# A look for these is quick, and most flows have none.
_PLACEHOLDER_WORDS = (
    "change",
    "replace",
    "todo",
    "fixme",
    "tbd",
    "xxx",
    "placeholder",
    "lorem",
    "your",
    "@",
    "example",
    "<insert",
)
_LONG = 60  # letters of a text of which a look for single words is quicker than one for patterns
LOCAL = re.compile(
    r"(?i)\b(?:https?|ftp|wss?|postgresql|mysql)://(?:[^/@\s]*@)?(?P<host>localhost|127(?:\.\d{1,3}){3}|0\.0\.0\.0|\[::1\]|10(?:\.\d{1,3}){3}|192\.168(?:\.\d{1,3}){2}|172\.(?:1[6-9]|2\d|3[01])(?:\.\d{1,3}){2})\b"
)
_DRIVE = re.compile(r"(?:^|\s)(?:[A-Za-z]:\\[^\s\\]|\\\\[A-Za-z0-9_.-]+\\)")
_TEST_MAIL = re.compile(
    r"(?i)\b(?:test|tester|noreply-test|john\.doe|jane\.doe)@[\w.-]+|\b[\w.+-]+@(?:test|localhost|mailinator)\.[a-z]{2,}\b"
)


def placeholder_in(text: str) -> str:
    """The placeholder that a value holds; empty for none."""
    found = PLACEHOLDER.search(text) or _UNDONE.search(text)
    return found.group().strip(" :-–<>[]()") if found is not None else ""


def _may_hold_placeholder(lower: str) -> bool:
    return any(word in lower for word in _PLACEHOLDER_WORDS)


def _placeholders(view: FlowView) -> Iterator[Hit]:
    for part, what, text in view.texts if _may_hold_placeholder(view.lower_text) else ():
        if len(text) > _LONG and not _may_hold_placeholder(text.lower()):
            continue
        in_prompt = what.endswith("prompt")
        asked = _IN_PROMPTS.search(text) if in_prompt else None
        held = (asked.group() if asked is not None else "") if in_prompt else placeholder_in(text)
        if held:
            alone = len(text.split()) == 1 and not in_prompt  # within other words it may be meant
            yield Hit(part, f"{quote_name(part.title)} ({what}) holds {quote_name(held)}", alone)
    for variable in view.flow.variables:
        held = placeholder_in(variable.value) if isinstance(variable.value, str) else ""
        if held:
            users = view.users_of_variable(variable.name)
            names = dict.fromkeys(quote_name(part.title) for part in users)
            told = f", used by {join_words(list(names))}" if users else ""
            said = f"the variable {quote_name(variable.name)} holds {quote_name(held)}{told}"
            yield Hit(users[0] if users else None, said, bool(users))


def _empty_values(view: FlowView) -> Iterator[Hit]:
    for step, one in view.empty:
        if one.role in ("recipient", "amount", "address", "approver"):
            yield Hit(step, f"{quote_name(step.title)} has nothing for its {one.role} ({one.name})")


def _empty_inputs(view: FlowView) -> Iterator[Hit]:
    for step, one in view.empty:
        if one.role is None and one.name.casefold() in _NEEDED:
            yield Hit(step, f"{quote_name(step.title)} has nothing for {one.name}", False)
    for variable in view.flow.variables:
        is_empty = isinstance(variable.value, str) and not variable.value.strip()
        users = view.users_of_variable(variable.name) if is_empty else []
        if users:
            yield Hit(
                users[0],
                f"{quote_name(users[0].title)} takes the variable {quote_name(variable.name)}, which holds nothing",
                False,
            )


def _local_addresses(view: FlowView) -> Iterator[Hit]:
    if view.is_testing or not ("://" in view.all_text or "\\" in view.all_text):
        return
    for part, what, text in view.texts:
        if what.endswith("prompt") or what == "condition":
            continue
        if (found := LOCAL.search(text)) is not None:
            yield Hit(
                part,
                f"{quote_name(part.title)} ({what}) calls {quote_name(found.group('host'))}, which only one machine or network reaches",
            )
        elif _DRIVE.search(text):
            yield Hit(
                part,
                f"{quote_name(part.title)} ({what}) names a path of one machine: {quote_name(text.strip()[:60])}",
            )


def _test_recipients(view: FlowView) -> Iterator[Hit]:
    if view.is_testing:
        return
    for step, one, text in view.fixed if "send" in view.effects and "@" in view.all_text else ():
        named = one.role == "recipient" or one.name.casefold() in ("to", "cc", "bcc")
        if step.effect == "send" and named and _TEST_MAIL.search(text):
            yield Hit(step, f"{quote_name(step.title)} sends to {quote_name(text.strip()[:60])}", False)


def _unreached(view: FlowView) -> Iterator[Hit]:
    unreachable = set(view.ways.unreachable) if view.maybe_unreached else set()
    lost = [step for step in view.steps if step.id in unreachable and step.kind != "note"]
    if lost:
        names = join_words([quote_name(step.title) for step in lost])
        yield Hit(lost[0], f"no way leads to {names}")


def _never_met(view: FlowView) -> Iterator[Hit]:
    """Steps that wait for ways of which a run takes only some: two cases, two triggers, what succeeds and what fails."""
    waiting = [step for step in view.steps if step.join == "all"]
    running = steps_that_may_run(view.graph) if waiting else frozenset[str]()
    for step in waiting:
        sources = [link.source for link in view.graph.flow.links if link.target == step.id and link.role != "attach"]
        if (
            len(sources) < 2
            or step.id in running
            or not all(key in running or key in view.graph.triggers for key in sources)
        ):
            continue  # what is before it does not run either
        names = [quote_name(view.graph.names[key]) for key in dict.fromkeys(sources)]
        told = f"{quote_name(step.title)} waits for all of its ways, from {join_words(names)}, and no run takes them together: it never runs"
        yield Hit(step, told, False)


def _behind_ends(view: FlowView) -> Iterator[Hit]:
    for end in view.of_kind("end"):
        ways = [link for link in view.graph.leaving.get(end.id, ()) if link.role != "attach"]
        behind = [step for link in ways if (step := view.target_of(link)) is not None]
        if behind:
            names = join_words(list(dict.fromkeys(quote_name(step.title) for step in behind)))
            yield Hit(end, f"{quote_name(end.title)} is an end, and a way leads on from it to {names}")


def _needed_though_off(view: FlowView) -> Iterator[Hit]:
    off = {step.id: step for step in view.flow.steps if not step.enabled}
    told: set[str] = set()
    for part, ref in view.used_refs:
        if ref.step in off and ref.step not in told:
            told.add(ref.step)
            yield Hit(
                part,
                f"{quote_name(part.title)} takes a value of {quote_name(off[ref.step].title)}, which is switched off",
            )


def _unused_connections(view: FlowView) -> Iterator[Hit]:
    if view.is_of_standard:
        return
    used = {part.connection for part in view.all_parts if part.connection}
    for one in view.flow.connections:
        if one.id not in used:
            yield Hit(None, f"no step uses the connection {quote_name(one.name or one.id)}", not view.flow.unread)


def _unused_variables(view: FlowView) -> Iterator[Hit]:
    if view.is_of_standard:
        return
    used = {ref.variable for _, ref in view.used_refs}
    texts = view.all_text
    texts += "\n".join(link.condition for link in view.flow.links)
    for one in view.flow.variables:
        if one.name and one.name not in used and not re.search(rf"(?<!\w){re.escape(one.name)}(?!\w)", texts):
            yield Hit(None, f"no step uses the variable {quote_name(one.name)}", False)


def _copy_names(view: FlowView) -> Iterator[Hit]:
    copied = re.compile(r"(?i)(?:^copy of |[ _-]copy(?: ?\d+)?$| \(\d+\)$|^(?:untitled|new flow|my flow)\b)")
    if copied.search(view.flow.name):
        yield Hit(None, f"the flow is called {quote_name(view.flow.name)}, as builders call what nobody named", False)


# Inputs without which a step can do nothing, whatever the builder.
_NEEDED = frozenset(
    {"url", "uri", "endpoint", "host", "address", "table", "channel", "to", "recipient", "path", "file", "query", "database", "collection",
     "phone", "number", "account", "queue", "topic", "bucket", "sheet"}
)  # fmt: skip

CHECKS: tuple[Check, ...] = (
    Check("placeholder-text", "high", "a value that was to be replaced",
          "A run uses the placeholder itself: it dials, writes or answers CHANGE_ME.",
          "Inputs, conditions, prompts and used variables of steps that are switched on are searched for words such as CHANGE_ME, TODO or lorem ipsum.",
          "A placeholder in other words. Notes and names are not looked at; within a longer text it is suspected; TODO and the like count alone, or before a colon.",
          "Put the real value in, or take the step out.", _placeholders),
    Check("empty-role", "high", "no recipient, amount, address or approver",
          "The step fails in every run, or does nothing.",
          "Fixed inputs with such a role hold nothing.",
          "Values that are empty only in some runs; inputs whose role is not known.",
          "Fill the input, or let a step before decide it.", _empty_values),
    Check("input-empty", "low", "an input that holds nothing",
          "The step fails in every run, or does something else than was meant.",
          "Fixed inputs such as url, table or channel, and used variables, that hold nothing.",
          "Inputs with other names; values that are empty only in some runs.",
          "Fill it, or let a step before decide it.", _empty_inputs),
    Check("local-address", "medium", "an address that only one machine reaches",
          "It worked where the flow was built; the platform does not reach it.",
          "Values with localhost, private addresses or paths of drives, in flows that do not say they are for tests.",
          "Platforms within the same network, where a private address is right: accept it with a reason.",
          "Name the service by its public or internal name.", _local_addresses),
    Check("test-recipient", "medium", "a message goes to a test address",
          "The people who wait for it never get it.",
          "Fixed recipients of sending steps such as test@... in flows that do not say they are for tests.",
          "Test addresses with other names.",
          "Name the real recipient.", _test_recipients),
    Check("step-unreached", "medium", "no way leads to a step",
          "What the step was to do is never done, and nobody is told.",
          "The ways from all triggers are followed.",
          "Steps that only a condition that never holds leads to.",
          "Link it, or take it out.", _unreached),
    Check("join-unmet", "high", "a step waits for ways that no run takes together",
          "The step and all behind it never run, and no failure tells of it.",
          "Steps of which the export says that they wait for all their ways, where a run takes only some: one of two cases, of two triggers, what succeeds or what fails.",
          "Builders for which a way that is not taken counts as come: say so in the dialect, or accept it with a reason. Ways that conditions exclude.",
          "Let it go on with whatever comes (`once`, or `each`), or let the ways part where both are taken.", _never_met),
    Check("end-goes-on", "medium", "a way leads on from an end",
          "Whether what is behind it runs depends on the platform: it is done and paid for, or never.",
          "Links that leave an end which is switched on, to steps that are switched on.",
          "Steps that are called an end elsewhere and are read as another kind.",
          "Take the link out, or the end; where the step only answers its caller, say so in the dialect.", _behind_ends),
    Check("source-off", "high", "a value of a step that is switched off",
          "The step gets nothing, and goes on with it.",
          "References of steps that are switched on to steps that are not.",
          "Values passed on by name only.",
          "Switch the step on, or take the value from elsewhere.", _needed_though_off),
    Check("connection-unused", "low", "a connection that no step uses",
          "Rights that nobody needs are rights that somebody may misuse.",
          "The connections of the flow against those of its steps and triggers.",
          "Uses that the dialect does not read: suspected only where something of the flow was not read.",
          "Take it out.", _unused_connections),
    Check("variable-unused", "low", "a variable that no step uses",
          "A limit that is set and never asked is no limit.",
          "The variable's name stands in no reference, input, prompt or condition.",
          "Uses by computed names.",
          "Use it, or take it out.", _unused_variables),
    Check("default-name", "low", "a flow with the name of a copy",
          "Nobody knows which of two is the one that counts.",
          "Names such as 'Copy of ...', '... copy', 'Untitled'.",
          "Copies with names of their own: `diff --clones` finds them.",
          "Name it, or remove it.", _copy_names),
)  # fmt: skip

# What the house knows of a kind stands in one row here and nowhere else: a new kind of step, trigger or effect is its name in
# records.py and one row. Sentences, maps, estimates, exchange and checks look it up; a test holds the rows equal to the names.
"""Vocabularies of the model: step kinds, trigger kinds, effects, modalities, outcomes."""

from __future__ import annotations

from msgspec import Struct

from .records import Effect, Modality, Outcome, StepKind, TriggerKind


class KindRow(Struct, frozen=True):
    """One kind of step.

    ``words`` stand in tables, maps and documents ("model call"); ``verb`` begins a sentence about the step, before the name of
    what it works with where it ends in a preposition ("Reads from"); ``effect`` is what it does outside where an export says
    nothing else; ``bpmn`` the element it is written as where nothing more is known (OMG BPMN 2.0, clause 10); ``hands_on`` the
    tokens that it hands on, by default. ``uses_model``: it may name a model of its own; ``is_tool``: attached to an agent, the
    agent may choose it. ``is_activity``: it does work, where others only lead, join or end. ``role`` is the word for it within the card of an agent.
    """

    kind: StepKind
    words: str
    verb: str
    effect: Effect = "none"
    bpmn: str = "serviceTask"
    hands_on: float = 100.0
    is_ai: bool = False
    is_scope: bool = False
    uses_model: bool = False
    is_tool: bool = True
    is_activity: bool = True
    role: str = "tool"


STEP_KINDS: tuple[KindRow, ...] = (
    KindRow("model", "model call", "Asks", is_ai=True, uses_model=True, is_tool=False, role="model"),
    KindRow("agent", "agent", "Hands the task to", is_ai=True, uses_model=True),
    KindRow("tool", "tool", "Offers a tool of"),
    KindRow("memory", "memory", "Keeps the conversation", is_tool=False, role="memory"),
    KindRow("retrieve", "search in a store", "Searches in", effect="read", hands_on=1200),
    KindRow("embed", "embedding", "Turns text into vectors with", is_ai=True, uses_model=True),
    KindRow(
        "parse",
        "reading of a document",
        "Reads a document of",
        effect="read",
        hands_on=1500,
        uses_model=True,
        is_tool=False,
        role="parser",
    ),
    KindRow("decide", "decision", "Decides", bpmn="exclusiveGateway", is_activity=False),
    KindRow("loop", "loop", "Repeats", bpmn="subProcess", hands_on=200, is_scope=True),
    KindRow(
        "parallel", "parallel block", "Runs side by side", bpmn="parallelGateway", is_scope=True, is_activity=False
    ),
    KindRow("join", "join", "Brings branches together", bpmn="parallelGateway", is_activity=False),
    KindRow("guard", "guarded block", "Catches what fails in", bpmn="subProcess", is_scope=True),
    KindRow("wait", "wait", "Waits", bpmn="receiveTask"),
    KindRow("approve", "approval by a person", "Waits until a person decides", bpmn="userTask", hands_on=30),
    KindRow("http", "call to a service", "Calls a service through", effect="read", hands_on=400),
    KindRow("code", "code", "Runs code", bpmn="scriptTask", hands_on=150),
    KindRow("shape", "data shaping", "Reshapes the data", hands_on=150),
    KindRow("read", "reading", "Reads from", effect="read", hands_on=300),
    KindRow("write", "writing", "Writes to", effect="write"),
    KindRow("send", "sending", "Sends through", effect="send", bpmn="sendTask"),
    KindRow("delete", "deletion", "Deletes in", effect="delete"),
    KindRow("subflow", "call of a flow", "Calls the flow", bpmn="callActivity", hands_on=200),
    KindRow("end", "end", "Ends the run here", bpmn="endEvent", is_activity=False),
    KindRow("note", "note", "A note", bpmn="textAnnotation", is_activity=False),
    KindRow("group", "group", "Holds together", bpmn="subProcess", is_scope=True),
    KindRow("other", "unclassified step", "Runs", bpmn="task"),
)
KINDS: dict[str, KindRow] = {row.kind: row for row in STEP_KINDS}
AI_KINDS: frozenset[str] = frozenset(row.kind for row in STEP_KINDS if row.is_ai)
SCOPE_KINDS: frozenset[str] = frozenset(row.kind for row in STEP_KINDS if row.is_scope)
MODEL_KINDS: frozenset[str] = frozenset(row.kind for row in STEP_KINDS if row.uses_model)
IDLE_KINDS: frozenset[str] = frozenset(row.kind for row in STEP_KINDS if not row.is_activity)
NOT_TOOLS: frozenset[str] = frozenset(row.kind for row in STEP_KINDS if not row.is_tool)


class TriggerRow(Struct, frozen=True):
    """One kind of trigger. ``words`` stand in tables, ``start`` begins a sentence; each with ``{event}`` in a second form for
    triggers that name one. ``bpmn`` is the event definition it is written as (clause 10.5.5), empty for none; ``is_clocked``:
    its schedule says how often."""

    kind: TriggerKind
    words: str
    start: str
    words_with_event: str = ""
    start_with_event: str = ""
    bpmn: str = "message"
    is_clocked: bool = False


TRIGGER_KINDS: tuple[TriggerRow, ...] = (
    TriggerRow("schedule", "at times not stated", "At times not stated", bpmn="timer", is_clocked=True),
    TriggerRow("webhook", "web request", "When a web request comes in", "web request to {event}", "When a web request comes in to {event}"),
    TriggerRow("event", "event", "When an event happens", "event {event}", "When the event ‘{event}’ happens"),
    TriggerRow("polling", "looks for new items regularly", "When a check now and then finds something new", bpmn="timer", is_clocked=True),
    TriggerRow("chat", "chat message", "When someone writes in the chat"),
    TriggerRow("form", "form", "When a form is sent", "form '{event}'", "When the form ‘{event}’ is sent"),
    TriggerRow("manual", "started by hand", "When someone starts it by hand", bpmn=""),
    TriggerRow("call", "called by a flow", "When another flow calls it", bpmn=""),
    TriggerRow("fault", "fault of a flow", "When another flow fails", bpmn="error"),
    TriggerRow("tool-call", "tool call of an agent", "When an agent calls it as a tool"),
)  # fmt: skip
TRIGGERS: dict[str, TriggerRow] = {row.kind: row for row in TRIGGER_KINDS}


class EffectRow(Struct, frozen=True):
    """What a step may do outside: ``verb`` in lists ("reads"), ``phrase`` before the names of what it touches, and whether it
    changes something there that another flow may read."""

    effect: Effect
    verb: str
    phrase: str = ""
    changes_stores: bool = False


EFFECT_ROWS: tuple[EffectRow, ...] = (
    EffectRow("none", ""),
    EffectRow("read", "reads", "reads from"),
    EffectRow("write", "writes", "writes to", changes_stores=True),
    EffectRow("send", "sends", "sends through"),
    EffectRow("delete", "deletes", "deletes in", changes_stores=True),
    EffectRow("spend", "spends", "spends through"),
)
EFFECTS: dict[str, EffectRow] = {row.effect: row for row in EFFECT_ROWS}


class ModalityRow(Struct, frozen=True):
    """What a model call takes and gives: ``verb`` begins a sentence, before the model's name."""

    modality: Modality
    verb: str


MODALITY_ROWS: tuple[ModalityRow, ...] = (
    ModalityRow("text", "Asks"),
    ModalityRow("vision", "Shows images to"),
    ModalityRow("speech", "Has text spoken by"),
    ModalityRow("image", "Has an image made by"),
    ModalityRow("transcription", "Has speech written down by"),
    ModalityRow("embedding", "Has text embedded by"),
)
MODALITIES: dict[str, ModalityRow] = {row.modality: row for row in MODALITY_ROWS}


class OutcomeRow(Struct, frozen=True):
    """One way in which a step ends, in the order in which links are told; ``ending`` in a sentence after 'it'."""

    outcome: Outcome
    ending: str


OUTCOME_ROWS: tuple[OutcomeRow, ...] = (
    OutcomeRow("success", "succeeds"),
    OutcomeRow("failure", "fails"),
    OutcomeRow("timeout", "takes too long"),
    OutcomeRow("skip", "is skipped"),
)
OUTCOMES: tuple[Outcome, ...] = tuple(row.outcome for row in OUTCOME_ROWS)

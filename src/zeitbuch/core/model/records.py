# The one centre: what a flow is, whatever builder it came from. Records only, no logic beyond derived
# properties. Everything is frozen and slotted (msgspec); lists are tuples. What can be derived is not stored.
"""Typed records of the estate: flows, triggers, steps, links, inputs, prompts and what was not understood."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal

from msgspec import Struct, field

from .pickling import keep_defaults

FORMAT_VERSION = 1

TriggerKind = Literal["schedule", "webhook", "event", "polling", "chat", "form", "manual", "call", "fault", "tool-call"]
StepKind = Literal[
    "model", "agent", "tool", "memory", "retrieve", "embed", "parse", "decide", "loop", "parallel", "join",
    "guard", "wait", "approve", "http", "code", "shape", "read", "write", "send", "delete", "subflow", "end",
    "note", "group", "other",
]  # fmt: skip
Effect = Literal["none", "read", "write", "send", "delete", "spend"]
LinkRole = Literal["next", "case", "error", "attach"]
Modality = Literal["text", "vision", "speech", "image", "transcription", "embedding"]
Decider = Literal["fixed", "data", "model"]
Outcome = Literal["success", "failure", "timeout", "skip"]
OnFault = Literal["stop", "continue", "route"]
JoinMode = Literal["each", "all", "once"]
Yields = Literal["same", "many", "one"]
Ends = Literal["branch", "run"]
PatternClass = Literal["plain", "assisted", "agent", "dispatcher", "ensemble"]
FlowState = Literal["on", "off", "draft", "unknown"]
# What an input is for. "address" is where a call or message goes, "recipient" who gets it, "content" what is sent or stored.
InputRole = Literal["recipient", "amount", "address", "content", "record", "query", "approver", "text"]
Silence = Literal["approves", "rejects", "escalates", "waits"]  # what no answer to a question means
ItemFault = Literal["stop", "continue"]
PieceUnit = Literal["tokens", "letters"]
TimeoutFor = Literal["try", "all"]  # whether a time limit is for one try, or for all of them together


class Record(Struct, frozen=True, omit_defaults=True, forbid_unknown_fields=True, gc=False):
    """Base of all model records."""


class Origin(Struct, frozen=True, eq=False, omit_defaults=True, gc=False):
    """Where a record stands in the export. Never counts in a comparison: two equal steps may stand anywhere.

    ``source`` is the path as given, ``pointer`` an RFC 6901 JSON pointer, ``line`` and
    ``column`` are 1-based.
    """

    source: str
    pointer: str = ""
    member: str | None = None
    line: int | None = None
    column: int | None = None

    def __eq__(self, other: object) -> bool:
        return other is None or isinstance(other, Origin)

    def __hash__(self) -> int:
        return 0

    def at(self, pointer: str) -> Origin:
        """A place within the same file."""
        return Origin(self.source, pointer, self.member)

    @property
    def file(self) -> str:
        """The file, with the member when it is a package."""
        return self.source if self.member is None else f"{self.source}!{self.member}"

    def __str__(self) -> str:
        place = self.file
        if self.line is not None:
            position = f":{self.line}" if self.column is None else f":{self.line}:{self.column}"
            return f"{place}{position}#{self.pointer}" if self.pointer else f"{place}{position}"
        return f"{place}#{self.pointer}" if self.pointer else place


class Ref(Record, frozen=True):
    """A value taken from elsewhere: the output of ``step`` (a step or trigger id) or ``variable``, at ``path``."""

    step: str | None = None
    variable: str | None = None
    path: str = ""
    text: str = ""


class Binding(Record, frozen=True):
    """One input of a step and who decides it; ``value`` keeps the builder's raw type. A ``secured`` input is kept out of the
    builder's own logs."""

    name: str
    value: Any = None
    decided: Decider = "fixed"
    refs: tuple[Ref, ...] = ()
    type: str | None = None
    description: str | None = None
    role: InputRole | None = None
    secured: bool = False


class Prompt(Record, frozen=True):
    """One piece of instruction text with the placeholders found in it."""

    text: str
    role: str = "user"
    refs: tuple[Ref, ...] = ()


class ModelUse(Record, frozen=True):
    """How a step uses a model. ``max_output`` in tokens; ``max_turns`` for agents; ``variable``: the variable of the flow whose value is
    the name."""

    name: str | None = None
    modality: Modality = "text"
    task: str | None = None
    prompts: tuple[Prompt, ...] = ()
    temperature: float | None = None
    max_output: int | None = None
    max_turns: int | None = None
    variable: str | None = None


class Retry(Record, frozen=True):
    """``attempts`` counts the repetitions after the first try; ``wait`` in seconds."""

    attempts: int
    wait: float | None = None


class Repeat(Record, frozen=True):
    """How a loop goes round: over ``items`` (``count`` of them where the export says so), or ``until`` a
    condition, at most ``cap`` times. ``on_item_fault``: whether an item that fails ends the loop; None where nothing says so."""

    items: str | None = None
    count: int | None = None
    until: str | None = None
    cap: int | None = None
    on_item_fault: ItemFault | None = None
    refs: tuple[Ref, ...] = ()


class Approval(Record, frozen=True):
    """Who is asked, how many of them must agree, and what it means when nobody answers within the step's time limit. None is
    not stated."""

    approvers: tuple[str, ...] = ()
    needed: int | None = None
    silence: Silence | None = None
    refs: tuple[Ref, ...] = ()


class Pause(Record, frozen=True):
    """How long a step waits: ``seconds``, or ``until`` a time or an event, in the builder's words."""

    seconds: float | None = None
    until: str | None = None
    refs: tuple[Ref, ...] = ()


class Pieces(Record, frozen=True):
    """How texts are cut for a store and found again: pieces of ``size`` with ``overlap`` (both in ``unit``; None is not stated),
    ``batch`` of them embedded by one call, ``count`` of them found by one search, in ``store``."""

    size: int | None = None
    overlap: int | None = None
    unit: PieceUnit | None = None
    batch: int | None = None
    count: int | None = None
    store: str | None = None


class Step(Record, frozen=True):
    """One box of the flow. ``operation`` is the builder's own type string, kept verbatim. ``concurrency``: at most so many rounds
    or branches at a time; ``ordered``: its ways run one after the other; ``awaits``: whether it waits for the flow it calls (None:
    not stated); ``about``: the steps that a note is about; ``sample``: data kept for trying stand in for its result."""

    id: str
    kind: StepKind
    name: str = ""
    operation: str = ""
    effect: Effect = "none"
    scope: str | None = None
    model: ModelUse | None = None
    inputs: tuple[Binding, ...] = ()
    condition: str | None = None
    refs: tuple[Ref, ...] = ()  # what the condition refers to
    inclusive: bool = False
    repeat: Repeat | None = None
    connection: str | None = None
    calls: str | None = None
    retry: Retry | None = None
    timeout: float | None = None
    timeout_for: TimeoutFor | None = None
    on_fault: OnFault = "stop"
    join: JoinMode | None = None
    approval: Approval | None = None
    pause: Pause | None = None
    pieces: Pieces | None = None
    concurrency: int | None = None
    ordered: bool = False
    awaits: bool | None = None
    about: tuple[str, ...] = ()
    per_item: bool = False  # runs once for each item that arrives with a pass
    yields: Yields = "same"  # many: expands every item, one: gathers all items of a pass
    ends: Ends = "branch"  # what an end step ends: its own branch, or the whole run
    enabled: bool = True
    sample: bool = False
    note: str = ""
    unread: dict[str, Any] = field(default_factory=dict)
    position: tuple[float, float] | None = None
    origin: Origin | None = None

    @property
    def title(self) -> str:
        return self.name or self.id


class Link(Record, frozen=True):
    """One arrow from a step or trigger to a step."""

    source: str
    target: str
    role: LinkRole = "next"
    label: str = ""
    condition: str = ""
    refs: tuple[Ref, ...] = ()  # what the condition refers to
    after: tuple[Outcome, ...] = ()
    outlet: str = ""  # the builder's own word for the way out, where label and role do not carry it
    otherwise: bool = False  # the case that is taken when no other fits
    note: str = ""
    id: str = ""  # the builder's own, where arrows have one; no part of what the flow means
    origin: Origin | None = None


class Schedule(Record, frozen=True):
    """When a trigger fires by the clock: one of ``cron`` (5 fields, or 6 with seconds first), ``every`` (seconds), ``rule``
    (RFC 5545: RRULE, with DTSTART, RDATE and EXDATE where given) or ``repeat`` (an ISO 8601 repeating interval with a
    start or a number), in ``zone`` (IANA). ``variable``: the variable of the flow that says so."""

    cron: str | None = None
    every: float | None = None
    rule: str | None = None
    repeat: str | None = None
    zone: str | None = None
    variable: str | None = None


class Trigger(Record, frozen=True):
    """What starts the flow. ``batch`` is the most items handed to one run; ``authentication`` how a caller from outside shows who
    it is, in the builder's words ("none": it need not; empty: not stated)."""

    id: str
    kind: TriggerKind
    name: str = ""
    operation: str = ""
    schedule: Schedule | None = None
    event: str = ""
    condition: str = ""
    batch: int | None = None
    authentication: str = ""
    connection: str | None = None
    inputs: tuple[Binding, ...] = ()
    enabled: bool = True
    note: str = ""
    unread: dict[str, Any] = field(default_factory=dict)
    position: tuple[float, float] | None = None
    origin: Origin | None = None

    @property
    def title(self) -> str:
        return self.name or self.id


class Connection(Record, frozen=True):
    """An account or endpoint that steps use."""

    id: str
    name: str = ""
    service: str = ""
    account: str = ""
    unread: dict[str, Any] = field(default_factory=dict)


class Variable(Record, frozen=True):
    """A named value of the flow."""

    name: str
    value: Any = None
    description: str = ""


class Content(Record, frozen=True):
    """How many values the export holds for this flow, and how many of them were not understood."""

    values: int = 0
    unread: int = 0

    @property
    def read_share(self) -> float:
        return 1.0 if not self.values else 1.0 - self.unread / self.values


class Finding(Record, frozen=True):
    """What is odd about a flow, found while it was read: the code of a message, its words, and the place in the export."""

    code: str
    message: str
    pointer: str = ""


class Secret(Record, frozen=True):
    """A secret of a flow, by the label that stands in its place. ``tokens`` is what a model would read of it; ``digest`` tells
    equal secrets of two versions alike, is keyed for one user and never written anywhere but in the user's cache."""

    name: str
    tokens: int = 0
    digest: str = ""


class Flow(Record, frozen=True):
    """One automation definition. ``around`` is what stands beside the flows of its file and was not understood: it counts as
    unread, but is no part of what the flow means; the first flow of a file carries it. ``noise`` are the values that a dialect or
    standard says carry no meaning, by their places."""

    id: str
    name: str = ""
    description: str = ""
    state: FlowState = "unknown"
    owners: tuple[str, ...] = ()
    folder: str = ""
    environment: str = ""
    version: str = ""
    created: str = ""
    changed: str = ""
    triggers: tuple[Trigger, ...] = ()
    steps: tuple[Step, ...] = ()
    links: tuple[Link, ...] = ()
    connections: tuple[Connection, ...] = ()
    variables: tuple[Variable, ...] = ()
    unread: dict[str, Any] = field(default_factory=dict)
    around: dict[str, Any] = field(default_factory=dict)
    noise: dict[str, Any] = field(default_factory=dict)
    fault_handlers: tuple[str, ...] = ()  # flows, by id or name, that are started when a run of this one fails
    concurrency: int | None = None  # at most so many runs at a time
    format: str = ""
    findings: tuple[Finding, ...] = ()
    secrets: tuple[Secret, ...] = ()
    content: Content = Content()
    origin: Origin | None = None

    @property
    def title(self) -> str:
        return self.name or self.id

    def __repr__(self) -> str:
        return f"Flow({self.id!r}, {self.name!r}, {len(self.triggers)} triggers, {len(self.steps)} steps)"

    def step(self, step_id: str) -> Step | None:
        return next((step for step in self.steps if step.id == step_id), None)

    def trigger(self, trigger_id: str) -> Trigger | None:
        return next((trigger for trigger in self.triggers if trigger.id == trigger_id), None)


class Estate(Record, frozen=True):
    """All flows read together, in a fixed order."""

    flows: Sequence[Flow] = ()

    def __repr__(self) -> str:
        return f"Estate({len(self.flows)} flows)"

    def flow(self, key: str) -> Flow | None:
        """The flow with this id, or else with this name (case ignored)."""
        for f in self.flows:
            if f.id == key:
                return f
        low = key.casefold()
        return next((flow for flow in self.flows if flow.title.casefold() == low), None)


class NativeFile(Struct, frozen=True):
    """The native form: the model as YAML or JSON."""

    zeitbuch: int
    flows: tuple[Flow, ...]


keep_defaults(
    kind
    for kind in list(globals().values())
    if isinstance(kind, type) and issubclass(kind, Record) and kind is not Record
)

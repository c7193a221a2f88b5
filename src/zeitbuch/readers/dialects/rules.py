# The dialect file: how one builder writes its exports, as data. Only the types, their loading and recognition
# stand here; applying a dialect to a document is in flows.py (and flat.py and nested.py for the shapes).
# ruff: noqa: RUF012  (msgspec copies what stands as a default)
"""Dialect files (TOML): records, loading, and recognising which dialect a document is written in."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal, TypeVar

import msgspec

from zeitbuch.core.model.records import (
    Effect,
    Ends,
    InputRole,
    ItemFault,
    JoinMode,
    Modality,
    OnFault,
    PieceUnit,
    Silence,
    StepKind,
    TimeoutFor,
    TriggerKind,
    Yields,
)
from zeitbuch.readers.input.toml_files import TomlKind, load_toml, parse_toml

from .flow_rules import FlowRule, Signature
from .link_rules import AdjacencyRule, LinkRule, OrderRule, OutletRule, PointerRule, PredecessorRule
from .reshape_rules import (
    BesideRule,
    CatalogueRule,
    DivideRule,
    DottedPath,
    GatherRule,
    GroupRule,
    MergeRule,
    PairsRule,
    Paths,
    QueryText,
    RowsRule,
    Rule,
    SplitRule,
    TextRule,
    UnwrapRule,
)

SpanUnit = Literal["milliseconds", "seconds", "minutes", "hours", "days", "weeks"]
Unmet = Literal["continue", "stop"]  # what comes of a pass whose own condition does not hold
Weekday = Literal["mon", "tue", "wed", "thu", "fri", "sat", "sun"]
PLACE = "@place"  # as a path: the place of a step within its flow, where steps have neither id nor name
KEY = "@key"  # as a path: the key under which the step, case or trigger itself stands


class PromptRule(Rule, frozen=True):
    """Where one prompt text is, and the role it has; of messages ``speaker`` is where each says it, else it is ``role``."""

    path: Paths
    role: str = "user"
    speaker: DottedPath = ""


class CasesRule(Rule, frozen=True):
    """The list of cases of a decision: where it is, and within a case its outlet, label and condition."""

    at: DottedPath
    outlet: Paths = ""
    label: Paths = ""
    condition: Paths = ""


class Fields(Rule, frozen=True):
    """Dotted paths within a step for what only some kinds of step have."""

    model: Paths = ""
    prompts: list[PromptRule] = []
    temperature: Paths = ""
    max_output: Paths = ""
    max_turns: Paths = ""
    tools: Paths = ""
    task: Paths = ""
    condition: Paths = ""
    cases: CasesRule | None = None
    items: Paths = ""
    until: Paths = ""
    as_long_as: Paths = ""
    cap: Paths = ""
    calls: Paths = ""
    method: Paths = ""
    statement: Paths = ""
    cron: Paths = ""
    every: Paths = ""
    every_unit: SpanUnit = "seconds"
    unit: Paths = ""
    units: dict[str, SpanUnit] = {}
    days: Paths = ""
    weekdays: dict[str, Weekday] = {}
    month_days: Paths = ""
    time: Paths = ""
    hour: Paths = ""
    minute: Paths = ""
    zone: Paths = ""
    event: Paths = ""
    batch: Paths = ""
    authentication: Paths = ""
    wait: Paths = ""
    wait_unit: SpanUnit = "seconds"
    wait_until: Paths = ""
    approvers: Paths = ""
    approvals_needed: Paths = ""
    silence: Paths = ""
    silences: dict[str, Silence] = {}
    timeout_for: Paths = ""
    timeouts_for: dict[str, TimeoutFor] = {}
    sample: Paths = ""
    piece_size: Paths = ""
    piece_overlap: Paths = ""
    piece_unit: PieceUnit | None = None
    piece_batch: Paths = ""
    pieces_found: Paths = ""
    store: Paths = ""
    concurrency: Paths = ""
    ordered: Paths = ""
    awaits: Paths = ""
    on_item_fault: Paths = ""
    on_item_faults: dict[str, ItemFault] = {}
    join: Paths = ""
    joins: dict[str, JoinMode] = {}
    about: Paths = ""
    own_condition: Paths = ""
    skip_condition: Paths = ""
    unmet: Unmet | None = None
    own_items: Paths = ""
    own_until: Paths = ""
    own_cap: Paths = ""


class KindRule(Fields, frozen=True):
    """What an operation is: ``operation`` is a pattern with ``*``, ``has`` a path that must find something; the first rule that
    matches wins."""

    operation: str = "*"
    has: Paths = ""
    kind: StepKind | None = None
    trigger: TriggerKind | None = None
    effect: Effect = "none"
    modality: Modality = "text"
    inclusive: bool = False
    per_item: bool = False
    yields: Yields = "same"
    ends: Ends = "branch"
    roles: dict[str, InputRole] = {}
    secured: list[str] = []


class StepRule(Fields, frozen=True, kw_only=True):
    """Where the steps are (``at``, JSONPath from the flow) and the dotted paths within one step."""

    at: QueryText
    id: Paths = "id"
    name: Paths = "name"
    operation: Paths = "type"
    settings: DottedPath = ""
    scope: Paths = ""
    enabled: Paths = ""
    disabled: Paths = ""
    switches: dict[str, bool] = {}
    connection: Paths = ""
    note: Paths = ""
    position: list[DottedPath] = []
    retries: Paths = ""
    retry_wait: Paths = ""
    retry_wait_unit: SpanUnit = "seconds"
    timeout: Paths = ""
    timeout_unit: SpanUnit = "seconds"
    on_fault: Paths = ""
    on_faults: dict[str, OnFault] = {}
    next: Paths = ""
    next_target: Paths = ""
    noise: list[DottedPath] = []


class TreeRule(Rule, frozen=True):
    """Keys of a nested step: its ``body`` (a scope), ``branches``, error ``handler`` and ``attached`` steps. The short
    way to write what ``[[holds]]`` tables say one by one."""

    body: DottedPath = ""
    branches: DottedPath = ""
    branch_steps: DottedPath = ""
    branch_label: DottedPath = ""
    branch_condition: DottedPath = ""
    otherwise: DottedPath = ""
    handler: DottedPath = ""
    handler_resumes: bool = True
    attached: DottedPath = ""


class HoldRule(Rule, frozen=True):
    """Steps inside a step. ``at`` is the dotted path to them, or with ``steps`` to branches (a list or an object) that
    each hold steps at that path ("." when the branch is the list itself).

    ``role``: body (the step is their scope), case (a branch of a decision or parallel block), error (what runs after
    a failure; the run goes on behind it with ``resumes``), attach (helpers of an agent). ``operation`` limits the
    rule to some steps; ``named`` is the label of a branch that has none of its own.
    """

    at: DottedPath
    role: Literal["body", "case", "error", "attach"] = "body"
    operation: str = "*"
    steps: DottedPath = ""
    label: Paths = ""
    condition: Paths = ""
    otherwise: DottedPath = ""
    named: str = ""
    resumes: bool = True


class TriggerRule(Rule, frozen=True):
    """Triggers that stand apart from the steps (``at``, JSONPath from the flow; ``$`` where the flow has their fields itself). Of those that
    are texts or numbers the path ``.`` is the thing itself; of a list each item is one."""

    at: QueryText
    id: Paths = ""
    name: Paths = ""
    operation: Paths = "type"
    settings: DottedPath = ""
    starts: Paths = ""
    connection: Paths = ""
    condition: Paths = ""
    enabled: Paths = ""
    disabled: Paths = ""
    switches: dict[str, bool] = {}


class PlaceholderRule(Rule, frozen=True):
    """How a value is taken from elsewhere: text between ``open`` and ``close``.

    The first word (up to ``separator``, after an optional ``prefix``) names a step by id or name; after
    ``variable`` it names a variable, ``trigger`` alone means the trigger. After ``model`` the model decides:
    what follows is name, type and description, divided by ``divider``.
    """

    open: str
    close: str
    prefix: str = ""
    separator: str = "."
    variable: str = ""
    trigger: str = ""
    model: str = ""
    divider: str = "|"


class Dialect(Rule, frozen=True):
    """One dialect file. ``dialect`` is the version of the file format."""

    dialect: Literal[1]
    name: str
    signature: Signature
    flow: FlowRule
    step: StepRule
    title: str = ""
    own_operations: list[str] = []
    text: list[TextRule] = []
    rows: list[RowsRule] = []
    divide: list[DivideRule] = []
    unwrap: list[UnwrapRule] = []
    split: list[SplitRule] = []
    pairs: list[PairsRule] = []
    merge: list[MergeRule] = []
    catalogue: list[CatalogueRule] = []
    group: list[GroupRule] = []
    gather: list[GatherRule] = []
    beside: list[BesideRule] = []
    link: LinkRule | list[LinkRule] | None = None
    adjacency: AdjacencyRule | list[AdjacencyRule] | None = None
    pointer: list[PointerRule] = []
    outlet: list[OutletRule] = []
    order: OrderRule | None = None
    tree: TreeRule | None = None
    holds: list[HoldRule] = []
    predecessors: PredecessorRule | None = None
    trigger: TriggerRule | None = None
    kind: list[KindRule] = []
    placeholders: PlaceholderRule | None = None

    @property
    def links(self) -> list[LinkRule]:
        """The lists of links, one or several."""
        return _listed(self.link)

    @property
    def adjacencies(self) -> list[AdjacencyRule]:
        """The objects from step to targets, one or several."""
        return _listed(self.adjacency)

    @property
    def inside(self) -> list[HoldRule]:
        """Where steps stand inside steps, those of the tree first."""
        tree = self.tree
        if tree is None:
            return self.holds
        made: list[HoldRule] = []
        if tree.body:
            made.append(HoldRule(at=tree.body))
        if tree.branches:
            made.append(
                HoldRule(
                    at=tree.branches,
                    role="case",
                    steps=tree.branch_steps,
                    label=tree.branch_label,
                    condition=tree.branch_condition,
                    otherwise=tree.otherwise,
                )
            )
        if tree.attached:
            made.append(HoldRule(at=tree.attached, role="attach"))
        if tree.handler:
            made.append(HoldRule(at=tree.handler, role="error", resumes=tree.handler_resumes))
        return [*made, *self.holds]

    def kinds_for(self, apart: bool) -> list[KindRule]:
        """The rules for triggers that stand ``apart``, or for steps: of a trigger without a word steps without one are none."""
        if apart or self.trigger is None:
            return self.kind
        return [rule for rule in self.kind if rule.trigger is None or rule.operation or rule.has]

    @property
    def own_paths(self) -> tuple[str, ...]:
        """Which of ``@key``, the key under which a thing stands, and ``@place``, where a step stands in its flow, some path is."""
        text = str(msgspec.to_builtins(self))
        return tuple(path for path in (KEY, PLACE) if path in text)


R = TypeVar("R")


def _listed(rules: R | list[R] | None) -> list[R]:
    return [] if rules is None else rules if isinstance(rules, list) else [rules]


def has_files_beside(dialects: Iterable[Dialect]) -> bool:
    """Whether what a file means may depend on others: then equal bytes need not be equal flows."""
    return any(dialect.beside for dialect in dialects)


def suffixes_of(dialects: Iterable[Dialect]) -> tuple[str, ...]:
    """The suffixes of other kinds of files that these dialects read."""
    return tuple(dict.fromkeys(suffix for dialect in dialects for suffix in dialect.signature.suffixes))


_KIND = TomlKind("a dialect file", "dialect", "dialect-unreadable", "dialect-syntax", "dialect-key")


def parse_dialect(text: str, name: str) -> Dialect:
    """A dialect from the text of its file. Raises ZeitbuchError naming file, line and key."""
    return _checked(parse_toml(text, name, Dialect, _KIND), text, name)


def load_dialect(path: str) -> Dialect:
    """A dialect from a file. Raises ZeitbuchError when it cannot be read or is wrong."""
    dialect, text = load_toml(path, Dialect, _KIND)
    return _checked(dialect, text, path)


def _checked(dialect: Dialect, text: str, name: str) -> Dialect:
    from .dialect_checks import check_dialect

    check_dialect(dialect, text, name)
    return dialect

# Everything found about one builder's documents, and the columns of values that the parts of a proposal judge by.
"""The evidence for a proposed dialect."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from functools import cached_property
from typing import Any

from zeitbuch.core.model.kinds import KINDS
from zeitbuch.readers.dialects.paths import as_text, path_keys
from zeitbuch.readers.dialects.rules import KindRule

from . import fields
from .claims import ANSWERED, DOUBTED, Claim
from .identity import Identity, find_identity, name_of_some
from .join_index import Joins, own_leaves
from .joins import find_joins
from .kinds import Verdict, judge_operations, operation_contexts, structural_triggers
from .numbering import find_numbering
from .outlets import Outlet, outlet_meanings
from .own_conditions import OwnCondition, is_condition_word
from .own_rounds import OwnRounds
from .own_starts import find_own_starts
from .starts import Starts, find_starts
from .steps import Found, Sample
from .survey import STAR, Path, json_path, value_at
from .topics import find_topics
from .value_kinds import holds_address, holds_mail, kind_told, works_in_turns

_SETTINGS = 0.4  # of the steps must have the object of their settings
_FEWEST_KEYS = 3  # of settings, over all steps
_MOSTLY = 0.9  # of the steps of an operation
# Kinds whose steps hold no long texts for a model.
_NO_INSTRUCTIONS = frozenset("read write http shape code parse decide".split())
_WEAK = 0.5  # words that say less than this of what an operation is give way to values that can mean one thing


class Evidence:
    """The findings about one builder's documents."""

    def __init__(self, documents: list[Any], found: Found, name: str, told: Mapping[str, str] | None = None) -> None:
        """``told``: what the owner said of operations, a kind each."""
        self.told = told or {}
        self.documents = documents
        self.found = found
        self.name = name
        self.steps_at = json_path(found.steps_at)  # as it is spelled in the dialect
        self.total = sum(len(sample.steps) for sample in found.samples)
        self.identity: Identity = find_identity(found)
        self.joins: Joins = find_joins(found, self.identity)
        made = judge_operations(found, self.identity, self.joins)
        have = sum(
            any(made[self.step_operation(sight.raw)].trigger for sight in sample.steps) for sample in found.samples
        )
        apart = find_starts(found, self.identity, self.joins, have)
        self.starts: Starts | None = apart or find_own_starts(found, self.identity, have)
        self.numbering = find_numbering(found, self.joins)
        self.topics = find_topics(found, self.joins, self.starts) if not self.numbering else None
        if self.starts is not None and len({number for number, _ in self.starts.records}) >= 0.9 * len(found.samples):
            made = judge_operations(found, self.identity, self.joins, apart=True)
        self.contexts = seen = operation_contexts(found, self.identity, self.joins)
        self.verdicts = structural_triggers(made, seen, found, self.joins, self.starts is not None)
        self.settings = self._find_settings()
        self._judge_by_values()
        for operation, kind in self.told.items():
            if operation in self.verdicts:
                hint = kind if kind in KINDS else f"on:{kind}"
                self.verdicts[operation] = Verdict(operation, hint, 1.0, (), evidence={ANSWERED: 1.0})
        self.outlets: dict[str, Outlet] = outlet_meanings(found, self.identity, self.joins, self.verdicts)
        self.claims: list[Claim] = []
        self.switch_by_word = False
        self.doubtful_switch: dict[str, Any] = {}  # what may say that steps are switched off, and is asked
        self.doubtful_condition: OwnCondition | None = None  # and that they run only where it holds
        self.doubtful_rounds: OwnRounds | None = None  # and that they repeat themselves
        self.doubtful_state: dict[str, Any] = {}  # and that flows are
        self.unclear_times: dict[str, Path] = {}  # everyday times of steps of which nothing tells the unit
        self.unclear_intervals: dict[str, Path] = {}  # of triggers
        self.unclear_days: dict[str, dict[str, Path]] = {}  # of triggers: numbers of weekdays, and the time beside them
        self.unclear_waits: dict[str, Path] = {}  # the same of waits, by the operation

    @property
    def holds_steps(self) -> bool:
        """Whether steps stand inside steps."""
        return any(sight.hold for sample in self.found.samples for sight in sample.steps)

    def count_links(self) -> tuple[int, int]:
        """How many links lead to steps that are there, and how many there are."""
        if self.joins.way == "order":
            return 0, 0
        known = [names.keys() | ids.keys() for names, ids in zip(self.identity.names, self.identity.ids, strict=True)]
        linked = sum({join.source, join.target} <= known[join.sample] for join in self.joins.pairs)
        return linked, len(self.joins.pairs) + self.joins.missed

    @property
    def raw_steps(self) -> list[dict[str, Any]]:
        """All steps as they stand."""
        return [sight.raw for sample in self.found.samples for sight in sample.steps]

    def count_steps(self, operation: str) -> int:
        """How many steps are of an operation."""
        return sum(self.step_operation(raw) == operation for raw in self.raw_steps)

    def step_operation(self, raw: dict[str, Any]) -> str:
        return as_text(value_at(raw, self.found.operation))

    def kind_of(self, raw: dict[str, Any]) -> str:
        return self.verdicts[self.step_operation(raw)].hint

    # -- columns of values ------------------------------------------------------------------------------------------

    def own_leaves_of(self, sample: Sample, i: int) -> list[tuple[Path, Any]]:
        """The leaves of a step without those of steps inside it."""
        inside = {id(sight.raw) for sight in sample.steps} - {id(sample.steps[i].raw)}

        taken = {self.found.operation, self.identity.id, self.identity.name}
        joins, raw = self.joins, sample.steps[i].raw
        pointing = (joins.at, *joins.more) if joins.way in ("pointers", "predecessors") else ()
        return [
            (pair, value)
            for pair, value in own_leaves(sample.steps[i], inside)
            if pair not in taken and not any(_says_links(pair, entry, raw) for entry in pointing)
        ]

    def columns_for(self, *hints: str, but: bool = False) -> tuple[dict[Path, fields.Column], int]:
        """Columns of the steps taken for one of the hints; with ``but`` of all others."""
        return fields.find_columns(
            self.own_leaves_of(sample, index)
            for sample in self.found.samples
            for index, sight in enumerate(sample.steps)
            if (self.kind_of(sight.raw) in hints) != but
        )

    @cached_property
    def some_named(self) -> Path:
        """The field that names some steps, where none names them all."""
        return () if self.identity.id or self.identity.name else name_of_some(self.found)

    @cached_property
    def operations_by_path(self) -> dict[Path, set[str]]:
        """Which operations have a value at each path of their steps."""
        found: dict[Path, set[str]] = {}
        for sample in self.found.samples:
            for index, sight in enumerate(sample.steps):
                for path, _ in self.own_leaves_of(sample, index):
                    found.setdefault(path, set()).add(self.step_operation(sight.raw))
        return found

    @cached_property
    def common_paths(self) -> set[Path]:
        """Paths that steps of several operations have: what stands there says nothing of what one of them does."""
        return {path for path, operations in self.operations_by_path.items() if len(operations) > 2}

    def columns_of(self, operation: str, but: set[Path] | None = None) -> dict[Path, fields.Column]:
        """Columns of the steps of one operation, without those at some paths."""
        columns, _ = fields.find_columns(
            self.own_leaves_of(sample, index)
            for sample in self.found.samples
            for index, sight in enumerate(sample.steps)
            if self.step_operation(sight.raw) == operation
        )
        return {path: column for path, column in columns.items() if path not in (but or ())}

    def _judge_by_values(self) -> None:
        """What operations are of which words tell little and their settings tell it, or speak against the words."""
        for operation, verdict in self.verdicts.items():
            instructed = self._asks_model(operation, verdict)
            if instructed is not None:
                self.verdicts[operation] = instructed
                continue
            if verdict.trigger or verdict.hint == "subflow" or verdict.evidence.get("words", 0) >= _WEAK:
                continue
            columns = self.columns_of(operation, self.others_fields)
            kind, said = kind_told(columns, self.flow_names)
            if kind and (verdict.hint == "other" or kind == "subflow"):
                self.verdicts[operation] = Verdict(
                    operation, kind, 0.5, verdict.near, evidence={said: 1.0}, by_values=True
                )
            elif other := _other_kind(verdict, columns):
                self.verdicts[operation] = Verdict(
                    operation, other, 0.5, (verdict.hint,), evidence={DOUBTED: 1.0}, by_values=True
                )

    def _asks_model(self, operation: str, verdict: Verdict) -> Verdict | None:
        """What an operation is taken for whose steps instruct a model, in turns or once; None where that is known, or they do not."""
        by_word = verdict.hint in _NO_INSTRUCTIONS and self._is_instructed(operation)
        if not by_word and verdict.hint != "model":
            return None
        in_turns = works_in_turns(self.columns_of(operation))
        if not by_word:
            return verdict._replace(hint="agent", near=("model",), evidence={}) if in_turns else None
        kind = "agent" if in_turns else "model"
        seen = self.contexts[operation]
        if verdict.hint == "decide" and not seen.branches and not seen.parts_ways:
            return verdict._replace(
                hint=kind, near=("decide",), evidence={}
            )  # how often that is right was not measured
        return Verdict(operation, kind, 0.5, (verdict.hint,), evidence={DOUBTED: 1.0}, by_values=True)

    def _is_instructed(self, operation: str) -> bool:
        """Whether most steps of an operation hold a long text in one field, and what looks like the name of a model."""
        seen = self.contexts[operation]
        return seen.prompts >= _MOSTLY * seen.steps and seen.models >= _MOSTLY * seen.steps

    @cached_property
    def flow_names(self) -> frozenset[str]:
        """What names one flow and no other: values of fields at its head that all flows have, each another."""
        heads = [sample.raw for sample in self.found.samples if type(sample.raw) is dict]
        columns: dict[str, list[str]] = {}
        for head in heads:
            for key, value in head.items():
                if type(value) in (str, int):
                    columns.setdefault(key, []).append(as_text(value))
        return frozenset(value for column in columns.values() if len(set(column)) == len(heads) > 1 for value in column)

    @cached_property
    def others_fields(self) -> set[Path]:
        """Common paths outside the settings: who made a step, and where its box stands."""
        inside = self.settings
        return {path for path in self.common_paths if not inside or path[: len(inside)] != inside}

    def _find_settings(self) -> Path:
        """The object within a step that holds its parameters."""
        weight, present, keys = self._weigh_objects()
        good = [
            key
            for key in present
            if present[key] >= _SETTINGS * self.total
            and (len(keys[key]) >= _FEWEST_KEYS or key in self.found.operation[:-1])
        ]
        if not good:
            return next(filter(None, (self._settings_alone_in(key) for key in keys)), ())
        best = max(good, key=lambda k: (weight[k], k))
        return self._settings_within(best) if self.found.operation[:-1] == (best,) else (best,)

    def _settings_alone_in(self, outer: str) -> Path:
        """The settings in an object of all steps that holds nothing else but what steps are called, say; empty where it does not."""
        within = self._settings_within(outer)
        inner = [
            raw[outer][within[1]]
            for raw in self.raw_steps
            if len(within) > 1 and type(raw.get(outer)) is dict and within[1] in raw[outer]
        ]
        keys = {key for value in inner if type(value) is dict for key in value}
        return within if len(inner) >= _SETTINGS * self.total and len(keys) >= _FEWEST_KEYS else ()

    def _settings_within(self, outer: str) -> Path:
        """The settings in the object that also says what a step does: the one object in it that holds most, if any does."""
        weight: Counter[str] = Counter()
        present: Counter[str] = Counter()
        for raw in self.raw_steps:
            for key, value in raw[outer].items() if type(raw.get(outer)) is dict else ():
                if type(value) is dict and value:
                    present[key] += 1
                    weight[key] += len(str(value))
        good = [key for key in present if present[key] >= _SETTINGS * self.total]
        return (outer, max(good, key=lambda key: (weight[key], key))) if good else (outer,)

    def _weigh_objects(self) -> tuple[Counter[str], Counter[str], dict[str, set[str]]]:
        """How often each object stands in a step, how much it holds, and which keys it has."""
        weight: Counter[str] = Counter()
        present: Counter[str] = Counter()
        keys: dict[str, set[str]] = {}
        joined = (
            {self.joins.at[:1], *[pair[:1] for pair in self.joins.more]}
            if self.joins.way in ("pointers", "predecessors")
            else set()
        )
        held = {sight.hold[:1] for sample in self.found.samples for sight in sample.steps if sight.hold}
        for sample in self.found.samples:
            for sight in sample.steps:
                for key, value in sight.raw.items():
                    if type(value) is dict and value and (key,) not in joined | held and not is_condition_word(key):
                        present[key] += 1
                        weight[key] += len(str(value))
                        keys.setdefault(key, set()).update(value)
        return weight, present, keys

    def add_claim(self, part: str, words: str, evidence: Mapping[str, float], of: str = "") -> None:
        """Say what was understood and what speaks for it, each piece between 0 and 1."""
        self.claims.append(
            Claim(part, of, words, {name: round(min(1.0, float(value)), 3) for name, value in evidence.items()})
        )


def _says_links(path: Path, pointing: Path, raw: dict[str, Any]) -> bool:
    """Whether a leaf of a step belongs to what names other steps at ``pointing``: to the pointer, to a list of them, or in an object of named
    entries to one that holds a pointer."""
    if STAR not in pointing:
        return path[: len(pointing)] == pointing
    above = pointing.index(STAR)
    if path[:above] != pointing[:above] or above == 0:
        return path[:1] == pointing[:1]
    below = pointing[above + 1 :]
    until = below[: below.index(STAR)] if STAR in below else below
    listed = len(path) <= above or path[above] == STAR or not until
    return listed or value_at(raw, (*path[: above + 1], *until)) is not None


def _other_kind(verdict: Verdict, columns: dict[Path, fields.Column]) -> str:
    """What an operation of few words may be as well, by what its steps hold; empty where nothing speaks against them."""
    if verdict.hint == "decide" and not verdict.evidence.get("words") and holds_mail(columns):
        return "approve"  # several ways out and somebody's address: a person may decide
    if verdict.hint == "send" and holds_address(columns) and not holds_mail(columns):
        return "http"  # "post": a letter, or what is done with an address
    return ""


def pattern_of(rule: KindRule) -> str:
    """The pattern of a rule for operations; of triggers that the fields they have tell, that for the field."""
    if not isinstance(rule.has, str) or not rule.has:
        return rule.operation
    field = literal_pattern(path_keys(rule.has)[-1])
    return f"{rule.operation}/{field}" if rule.operation else field


def literal_pattern(operation: str) -> str:
    """An operation as a pattern that fits only itself."""
    return "".join(f"[{letter}]" if letter in "*?[" else letter for letter in operation)

# The proposal of a dialect: what was found is put together as a dialect, the documents are read with it, and every
# part says how sure it is and what it rests on.
"""Proposing a dialect for exports never seen."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial
from typing import Any, NamedTuple

from zeitbuch.readers.dialects.flow_rules import FlowRule, Signature
from zeitbuch.readers.dialects.rules import (
    PLACE,
    Dialect,
    PlaceholderRule,
    StepRule,
)
from zeitbuch.readers.infer.fields import Column
from zeitbuch.readers.infer.identity import Identity, value_of
from zeitbuch.readers.infer.steps import Found

from . import fields, step_surroundings, surroundings
from .catalogues import catalogues_of
from .claiming import (
    claim_flow,
    claim_helpers,
    claim_links,
    claim_model,
    claim_placeholders,
    claim_steps,
    claim_switch,
    claim_variables,
)
from .claims import Claim
from .default_models import claim_default_model
from .evidence import Evidence
from .facts_of_kinds import with_facts
from .flow_facts import flow_facts
from .helper_lists import HelperList, find_helper_list, query_for, with_helpers
from .helper_pointers import helper_pointers
from .link_tables import link_tables
from .named_values import NamedValues, find_named_values, with_values
from .outlet_rules import outlet_rules
from .own_rounds import claim_what_runs
from .own_starts import own_fields
from .parts import Branching
from .prompts import prompt_rules
from .question_records import Question
from .questions import KIND_QUESTION, TRIGGER_QUESTION, apply_answers, questions_about
from .reshaping import Shaping, shape_documents
from .rules import kind_rules, trigger_rule
from .signatures import holding_for_all, shared_keys, signs_of_rows
from .single_keys import open_single_keys, single_key_list
from .steps import KEY, find_steps
from .survey import STAR, Path, dotted_path, json_path
from .tool_names import with_tools
from .two_fields import merged_operation, second_field
from .written_ends import find_written_ends

_LEAST = 4.5  # of the score of steps that nothing links: what repeats less like steps is some other object
_LEAST_LINKED = 3.0


class Suggestion(NamedTuple):
    """A proposed dialect with what it claims and what it asks, and all operations of steps. ``flows`` and ``steps`` are those of the
    ``documents`` it rests on."""

    dialect: Dialect
    claims: tuple[Claim, ...]
    operations: tuple[str, ...]
    flows: int
    steps: int
    documents: int
    questions: tuple[Question, ...] = ()


def suggest_dialect(documents: list[Any], name: str, answers: Mapping[str, str] | None = None) -> Suggestion | None:
    """A dialect for documents of one builder, or None when nothing in them looks like steps. ``answers`` are words by the ids of
    questions that an earlier proposal for them asked."""
    answers = answers or {}
    told = _told_kinds(answers)
    shaping = shape_documents(documents)
    single = single_key_list(shaping.documents)
    made = _suggest_for_single_keys(documents, shaping, single, name, told, answers) if single else None
    if made is not None:
        return made
    shaping, found = _with_operations(shaping)
    if found is None or not any(sample.steps for sample in found.samples):
        return None
    proposal = _proposal_for(shaping.documents, found, name, told)
    shaping, proposal = _with_written_ends(shaping, proposal)
    return proposal.make_suggestion(documents, shaping, answers) if proposal.looks_like_flows() else None


def _told_kinds(answers: Mapping[str, str]) -> dict[str, str]:
    """What the owner said of operations, a kind of step or trigger each."""
    asked = (TRIGGER_QUESTION, KIND_QUESTION)
    return {key.removeprefix(one): word for one in asked for key, word in answers.items() if key.startswith(one)}


def _with_operations(shaping: Shaping) -> tuple[Shaping, Found | None]:
    """With operations of two fields in one and entries of catalogues in the places of their ids; and the steps."""
    found = find_steps(shaping.documents)
    if found is None:
        return shaping, None
    second = second_field(found)
    if second:
        shaping = shaping.with_rule("merge", *merged_operation(found, second))
        found = find_steps(shaping.documents)
    for rule in list(catalogues_of(shaping.documents, found)) if found is not None else ():
        shaping = shaping.with_rule("catalogue", rule, f"entries of {rule.at} are named at {', '.join(rule.refs)}")
        found = find_steps(shaping.documents)
    return shaping, found


def _suggest_for_single_keys(
    raw: list[Any], shaping: Shaping, single: Path, name: str, told: Mapping[str, str], answers: Mapping[str, str]
) -> Suggestion | None:
    """A proposal for steps that stand under a single key each, which says what they do."""
    opened = [open_single_keys(document, single) for document in shaping.documents]
    found = find_steps(opened)
    if found is None or (*found.flow_at, *found.steps_at) != (*single, STAR) or found.operation != KEY:
        return None
    proposal = _proposal_for(opened, found, name, told)
    proposal.steps_at = json_path((*found.steps_at, STAR))
    return proposal.make_suggestion(raw, shaping, answers) if proposal.looks_like_flows() else None


def _shown(pattern: str | list[str]) -> str:
    return pattern if isinstance(pattern, str) else " or ".join(pattern)


def _with_written_ends(shaping: Shaping, plain: _Proposal) -> tuple[Shaping, _Proposal]:
    """With links that are written as text taken apart, where that links more steps."""
    linked, told = plain.count_links()
    if (linked == told and linked >= 0.5 * plain.total) or plain.holds_steps:
        return shaping, plain
    taken = shaping
    for rule in find_written_ends(plain.found, plain.identity):
        taken = taken.with_rule("split", rule, f"links written as text at {rule.at}: {_shown(rule.pattern)}")
    if taken is shaping:
        return shaping, plain
    found = find_steps(taken.documents)
    made = _proposal_for(taken.documents, found, plain.name, plain.told) if found is not None else plain
    return (taken, made) if made.count_links()[0] > linked else (shaping, plain)


def _proposal_for(documents: list[Any], found: Found, name: str, told: Mapping[str, str]) -> _Proposal:
    """A proposal with the helpers that stand in a list beside the steps, and by the values of variables where steps name variables."""
    helpers = find_helper_list(found)
    together = with_helpers(documents, found, helpers) if helpers is not None else documents
    both = find_steps(together) if helpers is not None else None
    helpers = helpers if both is not None and helpers is not None and _are_steps_of(both, helpers) else None
    shown, found = (together, both) if both is not None and helpers is not None else (documents, found)
    held = find_named_values(shown, found)
    if held is not None:
        found = find_steps(with_values(shown, found, held)) or found
    made = _Proposal(documents, found, name, told)
    made.variables = held
    if helpers is not None:
        made.helpers, made.steps_at = helpers, query_for(helpers)
    return made


def _are_steps_of(found: Found, helpers: HelperList) -> bool:
    return (found.steps_at[:-1], found.operation) == (helpers.steps_at, helpers.steps_operation)


class _Proposal(Evidence):
    """Puts a dialect together from the evidence."""

    variables: NamedValues | None = None
    helpers: HelperList | None = None

    # -- the dialect ------------------------------------------------------------------------------------------------

    def looks_like_flows(self) -> bool:
        """Whether what was found are steps: their score is high, or they hang together."""
        hang = self.joins.way != "order" or self.holds_steps
        return self.found.score >= (_LEAST_LINKED if hang else _LEAST)

    def make_suggestion(self, raw: list[Any], shaping: Shaping, answers: Mapping[str, str]) -> Suggestion:
        """The dialect; ``raw`` are the documents before they were brought into shape."""
        found = self.found
        for words in shaping.words:
            self.add_claim("shape", words, {})
        claim_steps(self)
        if self.helpers is not None:
            claim_helpers(self, self.helpers)
        claim_links(self)
        kinds = kind_rules(self)
        step = self._step_rule()
        flow = self._flow_rule(step)
        branching = Branching(found, self.identity, self.joins, self.verdicts, self.settings)
        kinds = with_tools(self, with_facts(self, kinds, step))
        links = link_tables(self, branching, partial(helper_pointers, self))
        trigger = trigger_rule(self)
        texts = [text for document in self.documents for text in fields.texts_of(document)]
        dialect = Dialect(
            dialect=1,
            name=self.name,
            title=f"{self.name}: proposed from {len(self.documents)} file{'s' if len(self.documents) > 1 else ''}",
            signature=Signature(all=self._find_signature(self._with_steps(raw), shaping)),
            **shaping.rules,  # type: ignore[arg-type]
            flow=flow,
            step=step,
            outlet=[*outlet_rules(self), *links.pop("outlet", [])],
            **links,
            trigger=trigger,
            kind=kinds,
            placeholders=self._placeholder_rules(texts),
        )
        questions = questions_about(self, dialect)
        dialect = apply_answers(dialect, questions, answers)
        left = tuple(question for question in questions if question.id not in answers)
        return Suggestion(
            dialect, tuple(self.claims), tuple(self.verdicts), len(found.samples), self.total, len(raw), left
        )

    def _step_rule(self) -> StepRule:
        found, ident = self.found, self.identity
        model_columns, models = self.columns_for("model", "agent", "embed")
        others, other_count = self.columns_for("model", "agent", "embed", but=True)
        every, total = self.columns_for("", but=True)
        inside = self.settings

        spread = self.operations_by_path

        def shared(path: Path) -> bool:
            # What other steps have as often is a note of a person, not a prompt; so is what is called one.
            if (inside and path[: len(inside)] == inside) or path not in model_columns:
                return False
            if step_surroundings.is_note(path):
                return True
            rest = [
                name for name in spread.get(path, ()) if self.verdicts[name].hint not in ("model", "agent", "embed")
            ]
            common = others.get(path)
            if common is None or len(rest) < 2:
                return False
            return common.steps / max(1, other_count) > 0.5 * model_columns[path].steps / max(1, models)

        prompts = fields.find_prompts(model_columns, models, others, shared)
        known = self._known_paths()
        model = fields.find_model(model_columns, models, lambda v: v in known)
        model += [pair for pair in self._helper_models(known) if pair not in model]
        numbers = fields.find_numbers(model_columns)
        claim_model(self, models, model_columns, model, prompts)
        common = step_surroundings.step_fields(every, total, inside, self.operations_by_path)
        self.switch_by_word = common.pop("by_word")
        self.unclear_times = common.pop("unclear")
        claim_switch(self, common, every, total)
        self.doubtful_switch = self._taken_out("switched off", common, ("enabled", "disabled", "switches"))
        connections, path = surroundings.find_connections(found, every, self.joins)
        if path in model:  # a list of models
            connections, path = None, ()
        self.connections = connections
        scope = self._scope_of_steps(found, every, ident)
        named = bool(ident.id or ident.name)
        names = [self.some_named] if self.some_named else []
        beside = {**common, **numbers, "connection": path, "scope": scope}
        runs = claim_what_runs(self, every, beside)
        given = _spell_fields({key: value for key, value in common.items() if key in beside}, numbers) | runs
        return StepRule(
            at=self.steps_at,
            id=dotted_path(ident.id) if named else _path_or_list([*names, (PLACE,)]),
            name=dotted_path(ident.name) if named else _path_or_list([*names, found.operation]),
            operation=_path_or_list([found.operation, *self._operations_of_helpers()]),
            settings=dotted_path(inside) if inside else ".",
            model=_path_or_list(fields.first_of_lists(model, model_columns)),
            prompts=prompt_rules(prompts, model_columns),
            connection=dotted_path(path),
            scope=dotted_path(scope),
            **given,
        )

    def _operations_of_helpers(self) -> list[Path]:
        return (
            [self.helpers.operation]
            if self.helpers is not None and self.helpers.operation != self.found.operation
            else []
        )

    def _taken_out(self, part: str, given: dict[str, Any], names: tuple[str, ...]) -> dict[str, Any]:
        """What was found of a part that is asked rather than claimed; it is taken out."""
        asked = any(claim.part == part and claim.is_asked for claim in self.claims)
        return {name: given.pop(name) for name in names if name in given} if asked else {}

    def _scope_of_steps(self, found: Found, every: dict[Path, Column], ident: Identity) -> Path:
        scopes = [
            {
                index
                for index, sight in enumerate(sample.steps)
                if self.kind_of(sight.raw) in ("loop", "parallel", "guard", "group")
            }
            for sample in found.samples
        ]
        scope = step_surroundings.scope_path(
            found, every, [{**mapping, **table} for mapping, table in zip(ident.names, ident.ids, strict=True)], scopes
        )
        if self.joins.way in ("pointers", "predecessors") and scope[:1] in (
            self.joins.at[:1],
            *[pair[:1] for pair in self.joins.more],
        ):
            scope = ()
        return scope

    def _known_paths(self) -> set[str]:
        known: set[str] = set(self.verdicts)
        for tables in (self.identity.ids, self.identity.names):
            for table in tables:
                known.update(table)
        return known

    def _helper_models(self, known: set[str]) -> list[Path]:
        """Model names in memories, stores and tools, which say nothing; in steps taken for helpers of a model kind."""
        columns, count = self.columns_for("retrieve", "memory", "tool", "parse")
        return [
            pair
            for pair in fields.find_model(columns, count, lambda v: v in known)
            if fields.key_in(pair, frozenset({"model", "modell"}))
        ]

    def _flow_rule(self, step: StepRule) -> FlowRule:
        found = self.found
        used = [found.steps_at[:-1]]
        if self.joins.way in ("records", "adjacency"):
            used.append(self.joins.at)
        if self.starts is not None:
            used += [self.starts.at] if self.starts.at else own_fields(self.starts)
        given = surroundings.flow_fields(found, [pair for pair in used if pair])
        claim_flow(self, given)
        self.doubtful_state = self._taken_out("flow state", given, ("state", "states"))
        held = self.variables
        variables = surroundings.find_variables(found, self.joins) if held is None else claim_variables(self, held)
        plain: dict[str, Any] = {key: dotted_path(value) for key, value in given.items() if isinstance(value, tuple)}
        plain |= flow_facts(found, self.identity, self.joins, set(plain.values()))
        plain |= claim_default_model(self, step, set(plain.values()))
        if found.flow_keyed and "id" not in plain:
            plain["id"] = "@key"
        return FlowRule(
            at=json_path(found.flow_at),
            states=given.get("states", {}),
            variables=variables,
            connections=self.connections,
            **plain,
        )

    def _with_steps(self, raw: list[Any]) -> list[Any]:
        """The documents in which steps stand: others that are written alike hold no flow."""
        held = {sample.document for sample in self.found.samples if sample.steps}
        return [document for number, document in enumerate(raw) if number in held]

    def _find_signature(self, raw: list[Any], shaping: Shaping) -> list[str]:
        """Queries that hold for all documents as they come: where the flows and steps are, and keys at the top that all share."""
        found = self.found
        whole = (*found.flow_at, *found.steps_at)
        queries = [json_path(whole[:-1]), *[rule.at for rule in shaping.rules.get("text", [])]]  # type: ignore[attr-defined]
        queries += [json_path((key,)) for key in shared_keys(raw) if (key,) != whole[:1]][:2]
        if self.joins.way in ("records", "adjacency") and self.joins.at:
            path = (*found.flow_at, *self.joins.at)
            queries.append(json_path(path[:-1] if path[-1] == STAR else path))
        fields = [path for path in (found.operation, self.identity.id, self.identity.name) if path]
        rows = signs_of_rows(shaping.rules, fields, raw)
        return holding_for_all(queries, raw) or holding_for_all(rows, raw) or ["$"]

    def _placeholder_rules(self, texts: list[str]) -> PlaceholderRule | None:
        names = {name for tables in (self.identity.ids, self.identity.names) for mapping in tables for name in mapping}
        steps = [sight for sample in self.found.samples for sight in sample.steps] if self.some_named else []
        names |= {value_of(sight, self.some_named) for sight in steps} - {""}
        triggers: set[str] = set()
        found = fields.find_placeholders(
            texts, names, triggers, self.variables.opening if self.variables is not None else ""
        )
        if found is None:
            return None
        share = found.resolved / max(1, found.seen)
        claim_placeholders(self, found, share)
        return PlaceholderRule(
            open=found.open, close=found.close, prefix=found.prefix, separator=found.separator, variable=found.variable,
            trigger=found.trigger, model=found.model,
        )  # fmt: skip


def _spell_fields(common: dict[str, Any], numbers: dict[str, Path]) -> dict[str, Any]:
    given: dict[str, Any] = {key: dotted_path(value) for key, value in common.items() if isinstance(value, tuple)}
    if "position" in common:
        given["position"] = [dotted_path(part) for part in common["position"]]
    given |= {key: common[key] for key in ("on_faults", "switches", "timeout_unit", "retry_wait_unit") if key in common}
    given |= {key: dotted_path(values) for key, values in numbers.items()}
    return given


def _path_or_list(paths: list[Path]) -> str | list[str]:
    return dotted_path(paths[0]) if len(paths) == 1 else [dotted_path(pair) for pair in paths] if paths else ""

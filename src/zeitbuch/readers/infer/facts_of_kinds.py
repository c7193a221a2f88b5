# The rules for operations get the facts of their kind once everything else that a step holds has its place.
"""Adding typed facts to the rules of a proposal."""

from __future__ import annotations

from typing import Any

from msgspec import structs

from zeitbuch.readers.dialects.rules import Fields, KindRule, StepRule

from .evidence import Evidence, literal_pattern, pattern_of
from .facts import input_roles, kind_facts, trigger_facts, unclear_wait
from .fields import Column, find_columns
from .starts import operation_of
from .survey import Path, find_leaves


def with_facts(e: Evidence, rules: list[KindRule], step: StepRule) -> list[KindRule]:
    """The rules with what their operations say of approvals, waits, pieces, joins and what inputs are for."""
    operations = {literal_pattern(operation): operation for operation in e.verdicts}
    return [_with_facts(e, rule, None if rule.has else operations.get(rule.operation), step) for rule in rules]


def _with_facts(e: Evidence, rule: KindRule, operation: str | None, step: StepRule) -> KindRule:
    columns = _columns_of_start(e, pattern_of(rule)) if operation is None else e.columns_of(operation)
    if rule.trigger is not None:
        return structs.replace(rule, **trigger_facts(rule.trigger, columns))
    columns = {path: column for path, column in columns.items() if path not in e.others_fields}
    kind = str(rule.kind)
    taken = _taken(step, kind) | _taken(rule, kind)
    facts = kind_facts(kind, columns, taken)
    unclear = unclear_wait(kind, columns, str(facts.get("wait", "")))
    if unclear and operation is not None:
        e.unclear_waits[operation] = unclear
    taken |= {value for name, value in facts.items() if type(value) is str and name != "statement"}
    roles: Any = input_roles(kind, columns, e.settings, taken)
    return structs.replace(rule, **facts, **({"roles": roles} if roles else {}))


def _columns_of_start(e: Evidence, pattern: str) -> dict[Path, Column]:
    """The columns of triggers that stand apart."""
    starts = e.starts
    if starts is None:
        return {}
    records = [row for _, row in starts.records if literal_pattern(operation_of(starts, row)) == pattern]
    return find_columns(list(find_leaves(row)) for row in records)[0]


def _taken(rule: Fields, kind: str) -> set[str]:
    """The paths of a rule that have a meaning already; prompts and models only where a step may have them."""
    found: set[str] = set()
    for name in rule.__struct_fields__:
        value = getattr(rule, name)
        listed = value if type(value) is list else [value]
        if name not in ("at", "settings", "operation", "kind", "effect", "modality") and name not in _OF_MODELS:
            found |= {one for one in listed if type(one) is str}
    if kind in ("model", "agent", "embed"):
        found |= {prompt.path for prompt in rule.prompts if type(prompt.path) is str}
        found |= set(rule.model if type(rule.model) is list else [rule.model])  # type: ignore[list-item]
    return found


_OF_MODELS = ("model", "prompts", "temperature", "max_output", "max_turns", "task")

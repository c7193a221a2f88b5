# Agents and what they may use often stand in two lists of a flow. Where steps name records of a list beside them under a word for tools,
# those records are steps as well: helpers of the steps that name them.
"""Finding lists of helpers beside the steps."""

from __future__ import annotations

from typing import Any, NamedTuple

from zeitbuch.readers.dialects.paths import as_text

from .operations import operation_scores
from .steps import Found
from .survey import STAR, Group, Path, find_groups, find_leaves, is_scalar, json_path, value_at, without_path
from .value_kinds import TOOL_WORDS
from .vocabulary import words_of

_MOST = 0.8  # of the names that steps mention
_FEWEST = 2  # mentions that tell it


class HelperList(NamedTuple):
    """Where in a flow the helpers are (without ``*``) and the field that says what each does; the same of the steps that name them."""

    at: Path
    operation: Path
    steps_at: Path
    steps_operation: Path


def find_helper_list(found: Found) -> HelperList | None:
    """The list of helpers beside the steps, or that of the steps where the helpers were taken for them; None where there is none."""
    groups = [group for group in find_groups([sample.raw for sample in found.samples]) if _stands_beside(group, found)]
    if not any(group.path == found.steps_at for group in groups):
        return None
    for steps in groups:
        mentioned = _names_of_tools(steps)
        others = [group for group in groups if group is not steps and found.steps_at in (group.path, steps.path)]
        named = next((group for group in others if _are_named(group, mentioned)), None)
        fields = [operation_scores(group)[:1] for group in (named, steps)] if named is not None else []
        if named is not None and all(fields):
            own = found.operation if steps.path == found.steps_at else fields[1][0][1]
            theirs = found.operation if named.path == found.steps_at else fields[0][0][1]
            return HelperList(named.path[:-1], theirs, steps.path[:-1], own)
    return None


def with_helpers(documents: list[Any], found: Found, helpers: HelperList) -> list[Any]:
    """The documents with the helpers among the steps, where these are told apart by the field of the steps."""
    flows = {id(sample.raw) for sample in found.samples}
    return [_joined(document, flows, helpers) for document in documents]


def query_for(helpers: HelperList) -> str:
    """The query for the steps and their helpers (JSONPath, from the flow)."""
    keys = [at[-1].replace("\\", "\\\\").replace("'", "\\'") for at in (helpers.steps_at, helpers.at)]
    return f"{json_path(helpers.at[:-1])}['{keys[0]}','{keys[1]}'][*]"


def _names_of_tools(steps: Group) -> dict[int, set[str]]:
    """What the records of each flow name under a word for tools."""
    found: dict[int, set[str]] = {}
    for item in steps.items:
        for path, value in find_leaves(item.value, depth=4):
            if is_scalar(value) and STAR in path and any(word in TOOL_WORDS for key in path for word in words_of(key)):
                found.setdefault(item.document, set()).add(as_text(value))
    return found


def _stands_beside(group: Group, found: Found) -> bool:
    """Whether records stand in a list of the object that holds the list of the steps, or are these."""
    steps = found.steps_at
    return len(group.path) == len(steps) >= _FEWEST and group.keyed == found.keyed and group.path[:-2] == steps[:-2]


def _are_named(group: Group, mentioned: dict[int, set[str]]) -> bool:
    """Whether most of what the steps of each flow mention names a record of the group in the same flow, by one field or its key."""
    total = sum(map(len, mentioned.values()))
    fields = {key for item in group.items for key, value in item.value.items() if is_scalar(value)}
    for field in (*sorted(fields), None) if total >= _FEWEST else ():
        names: dict[int, set[str]] = {}
        for item in group.items:
            name = item.key if field is None else as_text(item.value.get(field))
            names.setdefault(item.document, set()).add(name)
        if sum(len(names.get(number, set()) & said) for number, said in mentioned.items()) >= _MOST * total:
            return True
    return False


def _joined(value: Any, flows: set[int], helpers: HelperList) -> Any:
    if type(value) is list:
        return [_joined(item, flows, helpers) for item in value]
    if type(value) is not dict:
        return value
    if id(value) not in flows:
        return {key: _joined(item, flows, helpers) for key, item in value.items()}
    steps, more = value_at(value, helpers.steps_at), value_at(value, helpers.at)
    if type(steps) is not type(more) or type(steps) not in (list, dict):
        return value
    rest = without_path(value, helpers.at)
    return _with_value(rest, helpers.steps_at, _together(steps, more, helpers.steps_operation, helpers.operation))


def _together(steps: Any, more: Any, to: Path, source: Path) -> Any:
    """Steps and helpers in one list or object; helpers say what they do where steps do."""
    if type(steps) is list:
        return [*steps, *[_with_value(one, to, value_at(one, source)) for one in more if type(one) is dict]]
    return {
        **{key: _with_value(one, to, value_at(one, source)) for key, one in more.items() if type(one) is dict},
        **steps,
    }


def _with_value(record: dict[str, Any], path: Path, value: Any) -> dict[str, Any]:
    """A copy with a value at a path without ``*``."""
    key, rest = path[0], path[1:]
    inner = record.get(key)
    return {**record, key: _with_value(inner if type(inner) is dict else {}, rest, value) if rest else value}

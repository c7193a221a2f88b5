# Files that are nothing but rows, one step each: tables, and lists that have no flow around them. A dialect groups the rows by the field
# that names their flow, or takes all of a file for one flow.
"""Finding the rule that makes flows of rows."""

from __future__ import annotations

from itertools import pairwise
from typing import Any

from zeitbuch.readers.dialects.paths import as_text
from zeitbuch.readers.dialects.reshape_rules import GroupRule

from .survey import STAR, dotted_path, is_scalar, json_path

_LEAST_ROWS = 2.0  # of a flow, on average
INTO, ROWS = "flows", "steps"


def rows_rule(documents: list[Any]) -> GroupRule | None:
    """The rule for documents that are lists of rows; None when they are something else, or their items hold steps of their own."""
    key = next(iter(documents[0]), "") if _are_tables(documents) else ""
    lists = [document[key] if key else document for document in documents]
    if not all(type(listed) is list and listed for listed in lists):
        return None
    rows = [[row for row in listed if type(row) is dict] for listed in lists]
    if not all(rows) or any(_holds_records(row) for listed in rows for row in listed):
        return None
    by = _naming_field(rows)
    head = _fields_of_flows(rows, by) if by else []
    return GroupRule(at=json_path((key, STAR) if key else (STAR,)), by=by, head=head, into=INTO, rows=ROWS)


def _fields_of_flows(rows: list[list[dict[str, Any]]], by: str) -> list[str]:
    """Fields that are the same in all rows of a flow, and another in other flows: they are said of the flow. What is the same everywhere
    may be of the step as well."""
    key = by.strip('"')
    groups: dict[tuple[int, str], list[dict[str, Any]]] = {}
    for number, listed in enumerate(rows):
        for row in listed:
            groups.setdefault((number, as_text(row.get(key))), []).append(row)
    several = [listed for listed in groups.values() if len(listed) > 1]
    return [dotted_path((field,)) for field in rows[0][0] if field != key and _tells_groups_apart(several, field)]


def _tells_groups_apart(groups: list[list[dict[str, Any]]], field: str) -> bool:
    """Whether a field has one scalar value in every group, and not the same in all."""
    values = [[row.get(field) for row in listed] for listed in groups]
    if len(groups) < 2 or not all(is_scalar(value) or type(value) is bool for listed in values for value in listed):
        return False
    said = [set(map(as_text, listed)) for listed in values]
    return all(len(texts) == 1 for texts in said) and len(set().union(*said)) > 1


def _are_tables(documents: list[Any]) -> bool:
    """Whether documents hold rows under one key and nothing else, as tables are read."""
    return all(
        type(document) is dict and len(document) == 1 and document.keys() == documents[0].keys()
        for document in documents
    )


def _holds_records(row: dict[str, Any]) -> bool:
    """Whether a row holds several records that are written alike, in a list or under keys of their own, as a flow does."""
    for value in row.values():
        inner = value if type(value) is list else list(value.values()) if type(value) is dict else []
        if sum(map(_is_record, inner)) > 1:
            return True
        if type(value) is dict and _holds_records(value):
            return True
    return False


def _is_record(value: Any) -> bool:
    return type(value) is dict and (len(value) > 2 or any(type(inner) is dict for inner in value.values()))


def _naming_field(rows: list[list[dict[str, Any]]]) -> str:
    """The first field of which every value stands in rows that follow each other, several rows for each; empty when there is none."""
    total = sum(map(len, rows))
    for key in rows[0][0]:
        counted = [_runs_of(listed, key) for listed in rows]
        values = sum(number for _, number in counted)
        alone = all(runs == number for runs, number in counted)
        if alone and len(rows) < values <= total / _LEAST_ROWS:
            return dotted_path((key,))
    return ""


def _runs_of(rows: list[dict[str, Any]], key: str) -> tuple[int, int]:
    """How often the value of a field changes from one row to the next (and once at the start), and how many values it has; (0, 1)
    where a row has none."""
    named = [as_text(row.get(key)) for row in rows if is_scalar(row.get(key))]
    if len(named) < len(rows):
        return 0, 1
    return 1 + sum(first != second for first, second in pairwise(named)), len(set(named))

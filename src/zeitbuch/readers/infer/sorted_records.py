# Steps and links (and flows) that stand in one list, each with a field that says which it is: lists by that field are easier to say things
# of. Records that name two others and are named by none are links, and no steps that decide.
"""Finding lists of records of several sorts."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from itertools import chain
from typing import Any

from zeitbuch.readers.dialects.paths import as_text
from zeitbuch.readers.dialects.reshape_rules import DivideRule

from .operations import is_tokenlike
from .survey import Group, dotted_path, find_groups, is_scalar, json_path

_MOST_SORTS = 6
_FEWEST = 10  # records of all documents
_NEARLY_ALL = 0.95
_ENDS = 2


Records = list[tuple[int, str, dict[str, Any]]]  # of each the document, the list, and itself


def divide_rules(documents: list[Any]) -> Iterator[DivideRule]:
    """A rule for each list of which some records link others of it, and a field tells these from all others."""
    for group in find_groups(documents):
        by = "" if group.keyed or len(group.items) < _FEWEST else _field_of_sorts(group)
        if by:
            yield DivideRule(at=json_path(group.path[:-1]), by=dotted_path((by,)))


def _field_of_sorts(group: Group) -> str:
    records = [(item.document, item.parent, item.value) for item in group.items]
    apart = (_by_flow(records, flow) for flow in _fields_of_flows(records))
    return next((field for held in chain([records], apart) if (field := _sort_of(held))), "")


def _fields_of_flows(records: Records) -> list[str]:
    """Fields that may say of most records which flow they belong to: ids count within one then."""
    having = Counter(key for _, _, record in records for key, value in record.items() if is_scalar(value))
    told = {key: Counter(as_text(record.get(key)) for _, _, record in records if key in record) for key in having}
    return [
        key
        for key, count in having.items()
        if count >= 0.5 * len(records) and len(told[key]) > 1 and min(told[key].values()) > 1
    ]


def _by_flow(records: Records, field: str) -> Records:
    return [(number, f"{parent} {as_text(record.get(field))}", record) for number, parent, record in records]


def _sort_of(records: Records) -> str:
    """The field that says of which sort each record is, where those of one sort link the others."""
    fields = [key for key in records[0][2] if all(is_tokenlike(record.get(key)) for _, _, record in records)]
    for field in fields:
        sorts = Counter(record[field] for _, _, record in records)
        if 1 < len(sorts) <= _MOST_SORTS and min(sorts.values()) > 1:
            names = _names_by_list(records, field)
            if any(_are_links(records, field, sort, names) for sort in sorts):
                return field
    return ""


Names = dict[tuple[int, str], dict[str, str]]  # of each list: what names one record alone, and the sort of that


def _names_by_list(records: Records, field: str) -> Names:
    key = _key_of_ids(records, field)
    names: Names = {(number, parent): {} for number, parent, _ in records}
    for number, parent, record in records:
        if is_scalar(record.get(key)):
            names[number, parent][as_text(record[key])] = record[field]
    return names


def _key_of_ids(records: Records, field: str) -> str:
    """The field that most records have and of which no two of one list have the same; empty where there is none."""
    values: dict[str, set[tuple[int, str, str]]] = {}
    having: Counter[str] = Counter()
    for number, parent, record in records:
        told = {key: as_text(value) for key, value in record.items() if is_scalar(value) and key != field}
        having.update(told.keys())
        for key, text in told.items():
            values.setdefault(key, set()).add((number, parent, text))
    own = [key for key in having if len(values[key]) == having[key]]
    return max(own, key=lambda key: having[key], default="")


def _are_links(records: Records, field: str, sort: str, names: Names) -> bool:
    """Whether the records of a sort name two of other sorts each, in fields that others have not, and no record names one of them."""
    links = [(names[number, parent], record) for number, parent, record in records if record[field] == sort]
    others = [(names[number, parent], record) for number, parent, record in records if record[field] != sort]
    ends = [
        key
        for key in links[0][1]
        if 2 * sum(key in record for _, record in others) < len(others)
        and sum(table.get(as_text(record.get(key)), sort) != sort for table, record in links)
        >= _NEARLY_ALL * len(links)
    ]
    named = any(
        table.get(as_text(value)) == sort and as_text(value) != ""
        for table, record in others
        for value in record.values()
        if is_scalar(value)
    )
    return len(ends) >= _ENDS and not named

# Records that stand in tables of their own and name what they belong to: the steps and links of a flow, the settings of a step one a row,
# the clocks and addresses that set flows off.
"""Finding the rules that put rows into the records they name."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from msgspec import structs

from zeitbuch.readers.dialects.paths import as_text
from zeitbuch.readers.dialects.reshape_rules import GatherRule
from zeitbuch.readers.dialects.rules import KEY

from .clocks import CRON
from .starts import is_trigger_word
from .survey import STAR, Path, dotted_path, json_path, value_at

_TRIGGERS = "triggers"  # where rows that set flows off are put, from however many tables
_PAIR = 2  # fields of a row: a name and a value
_Rows = list[dict[str, Any]]


def gather_rules(documents: list[Any]) -> list[GatherRule]:
    """Rules for documents that are tables of a database: several lists whose items name the flow they belong to, under the same key, and
    lists whose items name one of those; or for lists beside whole flows whose items name these."""
    tables = tables_of(documents)
    about_flows = _rows_about_flows(documents, tables)
    if about_flows:
        return about_flows
    for to, rows in tables.items():
        for equals, ids in _ids_of(rows):
            found = _tables_naming(tables, to, ids)
            if len(found) > 1:
                moved = [_gather_rule(path, by, to, equals) for path, by in found]
                return [*_rows_of_rows(tables, {to, *(path for path, _ in found)}), *moved]
    return []


def _rows_of_rows(tables: dict[Path, _Rows], known: set[Path]) -> Iterator[GatherRule]:
    """Rules for tables whose rows belong to those of one that is known to hold parts of flows."""
    left = {path: rows for path, rows in tables.items() if path not in known and rows}
    for path, rows in left.items():
        for to in known:
            naming = next(
                ((by, equals) for equals, ids in _ids_of(tables[to]) for by in _sole_field_naming(rows, ids)), None
            )
            if naming is not None:
                by, equals = naming
                rule = _gather_rule(path, by, to, equals)
                yield _with_pairs(rule, rows, by)
                break


def _sole_field_naming(rows: _Rows, ids: set[str]) -> list[str]:
    named = [field for field in rows[0] if all(as_text(row.get(field)) in ids for row in rows)]
    return named if len(named) == 1 else []


def _with_pairs(rule: GatherRule, rows: _Rows, by: str) -> GatherRule:
    """The rule for rows of a name and a value each: the names are words that come again, no two alike of one record."""
    fields = {field for row in rows for field in row if field != by}
    owners = [as_text(row.get(by)) for row in rows]
    for name in sorted(fields) if len(fields) == _PAIR else ():
        if _are_names([row.get(name) for row in rows], owners):
            (value,) = fields - {name}
            return structs.replace(rule, name=dotted_path((name,)), value=dotted_path((value,)))
    return rule


def _are_names(values: list[Any], owners: list[str]) -> bool:
    words = all(type(value) is str and value and " " not in value for value in values)
    alone = len(set(zip(owners, map(str, values), strict=True))) == len(values)
    return words and alone and len(set(map(str, values))) < len(values)


def _rows_about_flows(documents: list[Any], tables: dict[Path, _Rows]) -> list[GatherRule]:
    """Rules for lists beside flows that hold their steps themselves: what sets flows off goes into one list, other lists keep their name."""
    for to, equals, ids, records in _whole_flows(documents):
        keys = {key for record in records for key in record}
        beside = {path: rows for path, rows in tables.items() if path != to and rows}
        naming = [(path, by) for path, rows in beside.items() for by in _sole_field_naming(rows, ids)]
        starting = {path for path, _ in naming if _sets_off(path, beside[path])}
        if starting and _TRIGGERS not in keys:
            into = {path: _TRIGGERS if path in starting else path[-1] for path, _ in naming}
            return [
                _gather_rule(path, by, to, equals, into[path])
                for path, by in naming
                if path in starting or into[path] not in keys
            ]
    return []


def _whole_flows(documents: list[Any]) -> Iterator[tuple[Path, str, set[str], _Rows]]:
    """Places of records that hold records of their own, with the field that names them (or their key), these names and the records."""
    if not documents or not all(type(document) is dict for document in documents):
        return
    for path in _upper_paths(documents[0]):
        found = [value_at(document, path) for document in documents]
        named = (
            _keyed_flows(found) if all(type(value) is dict for value in found)
            else _listed_flows(found) if all(type(value) is list for value in found) else iter(())
        )  # fmt: skip
        yield from ((path, *one) for one in named)


def _keyed_flows(found: list[Any]) -> Iterator[tuple[str, set[str], _Rows]]:
    records = [(key, record) for value in found for key, record in value.items()]
    if len(records) > 1 and all(_holds_records(record) for _, record in records):
        yield KEY, {key for key, _ in records}, [record for _, record in records]


def _listed_flows(found: list[Any]) -> Iterator[tuple[str, set[str], _Rows]]:
    rows = _rows_in(found)
    if len(rows) > 1 and all(map(_holds_records, rows)):
        yield from ((equals, ids, rows) for equals, ids in _ids_of(rows))


def _holds_records(value: Any) -> bool:
    """Whether a record holds a list or an object of several records."""
    if type(value) is not dict:
        return False
    inner = [list(held.values()) if type(held) is dict else held for held in value.values()]
    return any(type(held) is list and sum(type(item) is dict for item in held) > 1 for held in inner)


def _sets_off(path: Path, rows: _Rows) -> bool:
    """Whether rows say what sets flows off: by the word for them, or a clock in each."""
    clocks = sum(any(type(value) is str and CRON.match(value) for value in row.values()) for row in rows)
    return is_trigger_word(path[-1]) or clocks == len(rows)


def _gather_rule(path: Path, by: str, to: Path, equals: str, into: str = "") -> GatherRule:
    return GatherRule(
        at=json_path((*path, STAR)),
        by=dotted_path((by,)),
        to=json_path((*to, STAR)),
        into=into or path[-1],
        equals=KEY if equals == KEY else dotted_path((equals,)),
    )


def tables_of(documents: list[Any]) -> dict[Path, list[dict[str, Any]]]:
    """The rows of the lists at the top of all documents, or in an object there, by their paths."""
    if not documents or not all(type(document) is dict for document in documents):
        return {}
    found = {path: [value_at(document, path) for document in documents] for path in _upper_paths(documents[0])}
    return {path: _rows_in(lists) for path, lists in found.items() if all(type(listed) is list for listed in lists)}


def _upper_paths(document: dict[str, Any]) -> list[Path]:
    inner: list[Path] = [(key, below) for key, value in document.items() if type(value) is dict for below in value]
    return [*((key,) for key in document), *inner]


def _rows_in(lists: list[Any]) -> list[dict[str, Any]]:
    return [row for listed in lists for row in listed if type(row) is dict]


def _ids_of(rows: list[dict[str, Any]]) -> Iterator[tuple[str, set[str]]]:
    """Fields with a value of its own in every row, with these."""
    for field in rows[0] if rows else ():
        ids = {as_text(row.get(field)) for row in rows}
        if len(ids) == len(rows):
            yield field, ids


def _tables_naming(tables: dict[Path, list[dict[str, Any]]], to: Path, ids: set[str]) -> list[tuple[Path, str]]:
    """Other tables with the one field, of the same key in all, whose every value is one of the ids."""
    by_key: dict[str, list[Path]] = {}
    for path, rows in tables.items():
        if path == to or not rows:
            continue
        named = [field for field in rows[0] if all(as_text(row.get(field)) in ids for row in rows)]
        if len(named) == 1:
            by_key.setdefault(named[0], []).append(path)
    field, paths = max(by_key.items(), key=lambda entry: len(entry[1]), default=("", []))
    return [(path, field) for path in paths]

# Things that steps name by an id and that stand elsewhere in the file: a legend of codes, a list of models, of prompts. A dialect can
# put them in the place of their ids, so that a step says itself what it does and asks.
"""Finding catalogues."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from zeitbuch.readers.dialects.paths import as_text
from zeitbuch.readers.dialects.reshape_rules import CatalogueRule

from .fields import key_in, reads_like_prose
from .kinds import like_a_model
from .operations import is_tokenlike, shape_gain, shape_of
from .steps import Found
from .surroundings import CONNECTION_WORDS
from .survey import STAR, Group, Path, dotted_path, find_groups, find_leaves, is_scalar, json_path

_LEAST_CODES = 3
_LEAST_TEXTS, _DEEPEST = 2, 3  # of an object of instructions, and keys that lead to it
_MOST_LEAVES = 4  # of a record of a legend
_TELLING = 0.5  # how much better a field has to tell the settings


def legends_of(documents: list[Any]) -> Iterator[CatalogueRule]:
    """Objects from code to word, where some field of records holds nothing but codes of it."""
    legends: dict[Path, dict[str, str]] = {}
    for document in documents:
        _add_legends(document, (), legends)
    columns = _columns_of(documents) if legends else {}
    for at, legend in legends.items():
        refs = [path for path, values in columns.items() if _are_codes(values, legend) and path[: len(at)] != at]
        if refs:
            yield CatalogueRule(at=json_path((*at, STAR)), id="@key", refs=[json_path(path) for path in refs])


def _are_codes(values: set[str], legend: dict[str, str]) -> bool:
    return len(values) >= _LEAST_CODES and values <= legend.keys()


def _columns_of(documents: list[Any]) -> dict[Path, set[str]]:
    """The values of every field of records that repeat."""
    columns: dict[Path, set[str]] = {}
    for group in find_groups(documents):
        for path, value in (leaf for item in group.items for leaf in find_leaves(item.value, depth=2)):
            if STAR not in path and is_scalar(value):
                columns.setdefault((*group.path, *path), set()).add(as_text(value))
    return columns


def _add_legends(value: Any, path: Path, found: dict[Path, dict[str, str]]) -> None:
    if type(value) is not dict or len(path) > 3:
        return
    words = list(value.values())
    if path and len(value) >= _LEAST_CODES and all(map(is_tokenlike, words)) and len(set(words)) == len(words):
        found.setdefault(path, {}).update(value)
    for key, inner in value.items():
        _add_legends(inner, (*path, key), found)


def record_legends_of(documents: list[Any]) -> Iterator[CatalogueRule]:
    """Small records that every document has alike, of which some field of other records holds nothing but ids: what a type is called."""
    groups = find_groups(documents) if len(documents) >= _LEAST_CODES else []
    for group in groups:
        key = _id_of_records(group) if _is_legend(group, len(documents)) else ""
        ids = _ids_of(group, key)
        others = [other for other in groups if other.path[: len(group.path)] != group.path]
        refs = [json_path(path) for other in others for path in _fields_of_ids(other, ids)]
        if refs:
            yield CatalogueRule(at=json_path(group.path), id=dotted_path((key,)), refs=refs)


def _ids_of(group: Group, key: str) -> set[str]:
    """The ids of entries; none where nothing names them."""
    return {item.key if key == "@key" else as_text(item.value.get(key)) for item in group.items} if key else set()


def _is_legend(group: Group, documents: int) -> bool:
    """Whether every document has the same few small records at a place, each with a word of its own."""
    by_document: dict[int, list[Any]] = {}
    for item in group.items:
        by_document.setdefault(item.document, []).append((item.key if group.keyed else "", item.value))
    first, *others = by_document.values()
    if len(by_document) < documents or any(other != first for other in others):
        return False
    words = [tuple(filter(is_tokenlike, value.values())) for _, value in first]
    return all(words) and len(set(words)) == len(words) and all(_is_small(value) for _, value in first)


def _is_small(record: dict[str, Any]) -> bool:
    return len(list(find_leaves(record))) <= _MOST_LEAVES


def _id_of_records(group: Group) -> str:
    """The key of the records' ids: that of the object they stand in, else the first scalar that each has of its own."""
    if group.keyed:
        return "@key"
    first = [item.value for item in group.items if item.document == group.items[0].document]
    columns = {key: [as_text(value.get(key)) for value in first if is_scalar(value.get(key))] for key in first[0]}
    return next((key for key, values in columns.items() if len(set(values)) == len(first)), "")


def _fields_of_ids(group: Group, ids: set[str]) -> Iterator[Path]:
    """Fields that all records of a place have and that hold nothing but some ids. Numbers may mean anything: of these it has to be the
    field that tells which settings a record has, and no number of the record itself."""
    shapes = [shape_of(item.value) for item in group.items]
    for path, column in _scalars_of(group).items():
        values = set(column.values())
        if len(column) < len(group.items) or len(values) < _LEAST_CODES or not values <= ids:
            continue
        numbers = all(map(str.isdecimal, values))
        again = len({(group.items[number].document, value) for number, value in column.items()}) < len(column)
        if not numbers or (again and shape_gain(column, shapes, path) >= _TELLING):
            yield (*group.path, *path)


def _scalars_of(group: Group) -> dict[Path, dict[int, str]]:
    """The scalars of items by path, each with the number of the item it stands in."""
    columns: dict[Path, dict[int, str]] = {}
    for number, item in enumerate(group.items):
        for path, value in find_leaves(item.value, depth=2):
            if STAR not in path and is_scalar(value) and type(value) is not bool:
                columns.setdefault(path, {})[number] = as_text(value)
    return columns


def catalogues_of(documents: list[Any], found: Found) -> Iterator[CatalogueRule]:
    """Lists of models and prompts that steps name by an id: their entries hold the name of a model or a long text."""
    steps_at = (*found.flow_at, *found.steps_at)
    columns = _texts_of_steps(found)
    told = [*_text_catalogues(documents, columns, steps_at), *_record_catalogues(documents, found, columns, steps_at)]
    yield from {rule.at: rule for rule in told}.values()  # what both ways find is one


def _record_catalogues(
    documents: list[Any], found: Found, columns: dict[Path, set[str]], steps_at: Path
) -> Iterator[CatalogueRule]:
    """Records that hold instructions or the name of a model, and connections outside the flows, which steps name."""
    for group in find_groups(documents):
        key = _id_key(group) if group.path[: len(steps_at)] != steps_at else ""
        if not key or not (_holds_ai(group, key) or _are_connections(group, found)):
            continue
        ids = _ids_of(group, key)
        refs = [json_path((*steps_at, *path)) for path, values in columns.items() if values <= ids]
        if refs:
            yield CatalogueRule(at=json_path(group.path), id=dotted_path((key,)), refs=refs)


def _text_catalogues(documents: list[Any], columns: dict[Path, set[str]], steps_at: Path) -> Iterator[CatalogueRule]:
    """Objects from id to instructions, alone or with their model, which some field of steps names by these ids."""
    tables: dict[Path, set[str]] = {}
    for document in documents:
        _add_texts(document, (), tables)
    for at, ids in tables.items():
        refs = [json_path((*steps_at, *path)) for path, values in columns.items() if values <= ids]
        if refs and at[: len(steps_at) - 1] != steps_at[:-1]:
            yield CatalogueRule(at=json_path((*at, STAR)), id="@key", refs=refs)


def _add_texts(value: Any, path: Path, found: dict[Path, set[str]]) -> None:
    if type(value) is not dict or len(path) > _DEEPEST:
        return
    if path and len(value) >= _LEAST_TEXTS and all(map(_instructs, value.values())):
        found.setdefault(path, set()).update(value)
    for key, inner in value.items():
        _add_texts(inner, (*path, key), found)


def _instructs(entry: Any) -> bool:
    """Whether an entry is a text that reads like instructions, or a record that holds one beside the name of a model."""
    if type(entry) is not dict:
        return reads_like_prose(entry)
    texts = [value for value in entry.values() if type(value) is str]
    return any(map(reads_like_prose, texts)) and any(map(like_a_model, texts))


def _are_connections(group: Group, found: Found) -> bool:
    """Whether entries outside the flows are called connections; those of a flow are listed where they are."""
    within = group.path[: len(found.flow_at)] == found.flow_at
    return not within and key_in(tuple(part for part in group.path if part != STAR), CONNECTION_WORDS)


def _texts_of_steps(found: Found) -> dict[Path, set[str]]:
    """The texts of every field of steps that stand in no other."""
    columns: dict[Path, set[str]] = {}
    for sight in (sight for sample in found.samples for sight in sample.steps if sight.owner is None):
        for path, value in find_leaves(sight.raw, depth=3):
            if type(value) is str and STAR not in path and path != found.operation:
                columns.setdefault(path, set()).add(value)
    return columns


def _holds_ai(group: Group, id_key: str) -> bool:
    """Whether most entries hold, beside their id, the name of a model or a text that reads like instructions."""
    held = sum(
        any(
            type(value) is str and (reads_like_prose(value) or like_a_model(value))
            for key, value in item.value.items()
            if key != id_key
        )
        for item in group.items
    )
    return held >= 0.8 * len(group.items)


def _id_key(group: Group) -> str:
    """The key of entries that tells them apart: that of the object they stand in, else the first field with a word of its own."""
    if group.keyed:
        return "@key"
    for key in group.items[0].value:
        words = [(item.document, word) for item in group.items if is_tokenlike(word := item.value.get(key))]
        if len(group.items) == len(set(words)) and not any(" " in str(word) for _, word in words):
            return str(key)
    return ""

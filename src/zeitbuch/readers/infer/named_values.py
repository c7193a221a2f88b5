# An object of plain values in the head of a flow, or a list of names with values, whose names stand in placeholders: the variables of
# the flow. Where a step names one and nothing else, the value of the variable says what the step uses.
"""Finding variables that steps name."""

from __future__ import annotations

import re
from typing import Any, NamedTuple

from zeitbuch.readers.dialects.paths import as_text

from .fields import BRACKETED, key_in, texts_of
from .kinds import like_a_model
from .steps import Found, Sample
from .survey import STAR, Path, value_at, without_path
from .vocabulary import words_of

VARIABLE_WORDS = frozenset(
    "variable variables vars store constants parameters values globals variablen variablene variabili variaveis".split()
)
_VALUE_WORDS = frozenset("value start initial default wert valeur valor verdi waarde valore".split())
_ABOUT_WORDS = frozenset("about description note beschreibung".split())
_DEEPEST = 3  # keys from a flow to the object
_SEVERAL, _PAIR = 2, 2
_NAMED = re.compile(r"(?:(?P<head>[^\W\d][\w$.: -]*?)\s*(?P<sign>[.:])\s*)?(?P<name>[^\W\d][\w-]*)")

Mentions = dict[tuple[str, str], set[str]]  # what stands before the name, and the sign between them -> the names


class NamedValues(NamedTuple):
    """Where in a flow the object or list is, what placeholders hold before the name of one of its values (``vars.``), and the fields of
    a record of the list: its name, its value, what it is for. What is ``shared`` stands in the document, for all its flows."""

    at: Path
    opening: str
    fields: tuple[str, str, str] | None = None
    shared: bool = False

    def values_of(self, holder: dict[str, Any]) -> dict[str, Any]:
        """The values by their names; ``holder`` is a flow, or the document of those that are shared."""
        return _values_by_name(value_at(holder, self.at), self.fields)


def find_named_values(documents: list[Any], found: Found) -> NamedValues | None:
    """The variables of flows, or of documents with several flows; None where there are none."""
    own = _find_in(found, [sample.raw for sample in found.samples], found.steps_at)
    if own is not None or STAR not in found.flow_at:
        return own
    shared = _find_in(found, [documents[sample.document] for sample in found.samples], found.flow_at)
    return shared._replace(shared=True) if shared is not None else None


def _find_in(found: Found, holders: list[Any], but: Path) -> NamedValues | None:
    """The variables that stand in what holds them of each flow; ``but``: where else in it others stand."""
    aside = tuple(key for key in but if key != STAR)
    places = {place for holder in holders if type(holder) is dict for place in _places_of_values(holder, aside)}
    mentions = [_mentions_of(sample) for sample in found.samples] if places else []
    named = _texts_at_top(found) if places else set()
    rated = []
    for place in sorted(places, key=lambda one: (one.at, one.fields or ())):
        (head, sign), names = _most_mentioned(_see(holders, mentions, place), place, named)
        if names:
            rated.append((len(names), place._replace(opening=head + sign)))
    return max(rated, key=lambda row: row[0])[1] if rated else None


def with_values(documents: list[Any], found: Found, held: NamedValues) -> list[Any]:
    """The documents with the texts of variables in the places of steps that name one and nothing else, and without the variables: they
    are nothing else, such as what starts a flow."""
    tables = {
        id(sample.raw): _table_of(sample, documents[sample.document] if held.shared else sample.raw, held)
        for sample in found.samples
    }
    made = [_replaced(document, tables, {}, () if held.shared else held.at) for document in documents]
    return [without_path(document, held.at) for document in made] if held.shared else made


def _values_by_name(held: Any, fields: tuple[str, str, str] | None) -> dict[str, Any]:
    if fields is None:
        return held if type(held) is dict else {}
    name, value, _ = fields
    records = [record for record in held if type(record) is dict] if type(held) is list else []
    return {as_text(record.get(name)): record.get(value) for record in records}


def _places_of_values(holder: dict[str, Any], aside: Path) -> list[NamedValues]:
    """Where a flow or document holds objects of plain values or lists of names with values, its steps or flows aside."""
    places: list[NamedValues] = []
    level: list[tuple[Path, Any]] = [((), holder)]
    while level:
        path, value = level.pop()
        for key, inner in value.items():
            place = (*path, key)
            if place == aside:
                continue
            if type(inner) is list:
                places += [NamedValues(place, "", one) for one in _fields_of(inner)]
            elif type(inner) is dict and _is_plain(inner):
                places.append(NamedValues(place, ""))
            elif type(inner) is dict and len(place) < _DEEPEST:
                level.append((place, inner))
    return places


def _is_plain(value: dict[str, Any]) -> bool:
    return bool(value) and not any(type(one) in (dict, list) for one in value.values())


def _fields_of(records: list[Any]) -> list[tuple[str, str, str]]:
    """The field that names each record of a list, the one that is called a value and a note; of records with two fields either may be
    the name."""
    if not records or not all(type(record) is dict for record in records):
        return []
    keys = [key for key in records[0] if all(key in record for record in records)]
    value, about = value_and_about(keys, "")
    naming = [key for key in keys if key != value and _names_each(records, key)]
    if not value and len(keys) == _PAIR:
        return [(key, keys[1 - keys.index(key)], "") for key in naming]
    return [(key, value, about) for key in naming[:1]] if value else []


def _names_each(records: list[dict[str, Any]], key: str) -> bool:
    texts = [record[key] for record in records]
    return all(type(text) is str and text for text in texts) and len(set(texts)) == len(texts)


def value_and_about(keys: list[str], name: str) -> tuple[str, str]:
    """The fields of a variable called a value and a note."""
    others = [key for key in keys if key != name]
    value = next((key for key in others if key_in((key,), _VALUE_WORDS)), "")
    return value, next((key for key in others if key_in((key,), _ABOUT_WORDS)), "")


class _Seen(NamedTuple):
    """What flows say of one place: its names, those of values that look like models, and what steps mention of it by what stands before."""

    names: set[str]
    models: set[str]
    by_opening: Mentions


def _most_mentioned(seen: _Seen, place: NamedValues, steps: set[str]) -> tuple[tuple[str, str], set[str]]:
    """What stands before the most names of an object's values that steps mention, and those names. It names no step; of an object that is
    called otherwise than variables are it is the name of the object, a word for them, or nothing where steps mention all its names or that
    of a model."""
    called = place.at[-1]
    worded = _is_word(called)
    good = {
        (head, sign): names
        for (head, sign), names in seen.by_opening.items()
        if head == called
        or (head not in steps and (worded or _is_word(head)))
        or (not head and ((len(names) >= _SEVERAL and names == seen.names) or names & seen.models))
    }
    return max(good.items(), key=lambda row: len(row[1]), default=(("", ""), set()))


def _see(holders: list[Any], mentions: list[Mentions], place: NamedValues) -> _Seen:
    seen = _Seen(set(), set(), {})
    for holder, mentioned in zip(holders, mentions, strict=True):
        held = place.values_of(holder)
        seen.names.update(held)
        seen.models.update(name for name, value in held.items() if type(value) is str and like_a_model(value))
        for opening, names in mentioned.items():
            seen.by_opening.setdefault(opening, set()).update(names & held.keys())
    return seen


def _texts_at_top(found: Found) -> set[str]:
    """What may name a step: its key and its texts."""
    sights = [sight for sample in found.samples for sight in sample.steps]
    texts = {value for sight in sights for value in sight.raw.values() if type(value) is str}
    return texts | {sight.key for sight in sights}


def _is_word(text: str) -> bool:
    return any(word in VARIABLE_WORDS for word in words_of(text))


def _mentions_of(sample: Sample) -> Mentions:
    found: Mentions = {}
    for text in texts_of([sight.raw for sight in sample.steps]):
        for hit in BRACKETED.finditer(text):
            named = _NAMED.fullmatch(hit["inner"].strip())
            if named is not None:
                found.setdefault((named["head"] or "", named["sign"] or ""), set()).add(named["name"])
    return found


def _table_of(sample: Sample, holder: Any, held: NamedValues) -> dict[str, str]:
    """Placeholders of one flow that name a variable -> its text."""
    values = held.values_of(holder)
    texts = texts_of([sight.raw for sight in sample.steps]) if values else []
    named = {text: values.get(_name_in(text, held.opening)) for text in texts}
    return {text: value for text, value in named.items() if type(value) is str and value}


def _name_in(text: str, opening: str) -> str:
    """The name in a placeholder that is the whole text; empty where something else stands before it."""
    hit = BRACKETED.fullmatch(text.strip())
    named = _NAMED.fullmatch(hit["inner"].strip()) if hit is not None else None
    if named is None or (named["head"] or "") + (named["sign"] or "") != opening:
        return ""
    return str(named["name"])


def _replaced(value: Any, tables: dict[int, dict[str, str]], table: dict[str, str], at: Path) -> Any:
    if type(value) is str:
        return table.get(value, value)
    if type(value) is list:
        return [_replaced(item, tables, table, at) for item in value]
    if type(value) is dict:
        flow = id(value) in tables
        mapping = without_path(value, at) if flow and at else value
        own = tables.get(id(value), table)
        return {key: _replaced(item, tables, own, at) for key, item in mapping.items()}
    return value

# Accounts and variables of a flow: lists or objects of records, or an object of plain values that stand under their names.
"""Lists of named things of a flow."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any, NamedTuple

from zeitbuch.readers.input.pointers import last_key

from .field_checks import WORDS, make_field
from .flow_rules import Items
from .paths import ITEM, Claims, as_text, claim_paths, make_getter
from .query import Query
from .record_forms import RecordForms
from .rules import KEY
from .steps import with_key

Item = tuple[dict[str, str], Any, dict[str, Any]]  # texts by field, the value, and what is unread of it


class Shared(NamedTuple):
    """Items of a document: those that each of its flows names, and the values of those that none does."""

    of_flows: list[tuple[Item, ...]]
    idle: dict[str, Any]


def name_of(item: Item) -> str:
    """The name of an item, else its id."""
    return item[0].get("name", "") or item[0].get("id", "")


class ItemReader:
    """Reads a list of named things (variables, connections)."""

    def __init__(self, rule: Items | None, names: tuple[str, ...]) -> None:
        given = {name: paths for name in names if rule is not None and (paths := getattr(rule, name))}
        values = given.get("value", "")
        paths_of_value = [values] if isinstance(values, str) else values
        self.query = Query(rule.at) if rule is not None else None
        self.shared = rule is not None and rule.shared
        self.value = make_getter([path for path in paths_of_value if path and path != ITEM])
        self.whole = ITEM in paths_of_value
        self.keyed = rule is not None and KEY in (rule.id, rule.name)
        self.claims: Claims = {KEY: True}
        for paths in given.values():
            claim_paths(self.claims, paths)
        texts = {name: paths for name, paths in given.items() if name != "value"}
        self.get = {name: make_getter(paths) for name, paths in texts.items()}
        self.forms = RecordForms(self.claims, [make_field(paths, WORDS) for paths in texts.values()])

    def unread_in(self, raw: dict[str, Any]) -> list[dict[str, Any]]:
        """What of the items is unread, where nothing else is asked of them."""
        if self.query is None:
            return []
        if self.keyed:
            return [left for _, _, left in self.read_item(raw) if left]
        left = [
            self.forms.rest_of(item) if type(item) is dict else {} if item is None else {last_key(pointer): item}
            for pointer, item in self.query.find_all(raw)
        ]
        return [one for one in left if one]

    def _texts_of(self, item: dict[str, Any]) -> dict[str, str]:
        return {key: as_text(function(item)) for key, function in self.get.items()}

    def shared_by(self, flows: list[dict[str, Any]], document: Any, mentions: Callable[[str], str]) -> Shared:
        """The items that stand in the document, by the flows that name them in what ``mentions`` keeps of their texts."""
        items = list(self._items_in(document)) if self.shared and type(document) is dict else []
        if not items:
            return Shared([()] * len(flows), {})
        texts = [mentions(repr(flow)) for flow in flows]
        named = [tuple(item for item in items if name_of(item) in text) for text in texts]
        idle = {name_of(item): item[1] for item in items if not any(name_of(item) in text for text in texts)}
        return Shared(named, idle)

    def claimed_in(self, document: Any) -> Iterator[tuple[str, ...]]:
        """Where in a document items for all flows stand."""
        return iter(self.query.claimed_keys(document)) if self.shared and self.query is not None else iter(())

    def read_item(self, raw: dict[str, Any]) -> Iterator[Item]:
        """All items of a flow: the texts of each by the field, its value, and what is unread of it."""
        return iter(()) if self.shared else self._items_in(raw)

    def _items_in(self, raw: dict[str, Any]) -> Iterator[Item]:
        for pointer, item in self.query.find_all(raw) if self.query is not None else ():
            if isinstance(item, dict):
                yield self._read_record(pointer, item)
            elif item is not None and self.whole:
                yield self._texts_of({KEY: last_key(pointer)}), item, {}
            elif item is not None:
                yield {}, None, {last_key(pointer): item}

    def _read_record(self, pointer: str, record: dict[str, Any]) -> Item:
        known = with_key(pointer, record) if self.keyed else record
        value = self.value(known)
        if self.whole and value is None:
            return self._texts_of(known), record, {}
        return self._texts_of(known), value, self.forms.rest_of(known)

# Accounts and variables of a flow: lists or objects of records, or an object of plain values that stand under their names.
"""Lists of named things of a flow."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from zeitbuch.readers.input.pointers import last_key

from .field_checks import WORDS, make_field
from .flow_rules import Items
from .paths import Claims, as_text, claim_paths, make_getter
from .query import Query
from .record_forms import RecordForms
from .rules import KEY
from .steps import with_key

Item = tuple[dict[str, str], Any, dict[str, Any]]  # texts by field, the value, and what is unread of it
WHOLE_ITEM = "."  # as a path: the item itself


class ItemReader:
    """Reads a list of named things (variables, connections)."""

    def __init__(self, rule: Items | None, names: tuple[str, ...]) -> None:
        given = {name: paths for name in names if rule is not None and (paths := getattr(rule, name))}
        values = given.get("value", "")
        paths_of_value = [values] if isinstance(values, str) else values
        self.query = Query(rule.at) if rule is not None else None
        self.value = make_getter([path for path in paths_of_value if path and path != WHOLE_ITEM])
        self.whole = WHOLE_ITEM in paths_of_value
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

    def read_item(self, raw: dict[str, Any]) -> Iterator[Item]:
        """All items of a flow: the texts of each by the field, its value, and what is unread of it."""
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

# Accounts and variables of a flow: lists or objects of records, or an object of plain values that stand under their names.
"""Lists of named things of a flow."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from zeitbuch.readers.input.pointers import last_key

from .field_checks import WORDS, Field, make_field
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
        self.query = Query(rule.at) if rule is not None else None
        values = rule.value if rule is not None and "value" in names else ""
        paths_of_value = [values] if isinstance(values, str) else values
        self.value = make_getter([path for path in paths_of_value if path and path != WHOLE_ITEM])
        self.whole = WHOLE_ITEM in paths_of_value
        self.claims: Claims = {KEY: True}
        self.get = {}
        fields: list[Field] = []
        self.keyed = rule is not None and KEY in (rule.id, rule.name)
        if rule is not None:
            for name in names:
                paths = getattr(rule, name)
                if paths and name != "value":
                    self.get[name] = make_getter(paths)
                    fields.append(make_field(paths, WORDS))
                claim_paths(self.claims, paths)
        self.forms = RecordForms(self.claims, fields)

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
        if self.query is None:
            return
        for pointer, item in self.query.find_all(raw):
            if isinstance(item, dict):
                if self.keyed:
                    item = with_key(pointer, item)
                if self.whole and self.value(item) is None:
                    value = {key: value for key, value in item.items() if key != KEY}
                    yield self._texts_of(item), value, {}
                    continue
                yield (
                    self._texts_of(item),
                    self.value(item),
                    self.forms.rest_of(item),
                )
            elif item is not None and self.whole:
                yield self._texts_of({KEY: last_key(pointer)}), item, {}
            elif item is not None:
                yield {}, None, {last_key(pointer): item}

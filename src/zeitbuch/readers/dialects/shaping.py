# A document while rules bring it into shape: what they look up, put in its place and take out. Whatever moves is noted with where it
# stood.
"""The work on one document."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, Protocol

from zeitbuch.core.model.problems import Problem, ZeitbuchError, fail
from zeitbuch.core.model.records import Origin
from zeitbuch.readers.input.limits import Limits
from zeitbuch.readers.input.pointers import last_key

from .paths import as_text, is_words, path_keys
from .places import Places
from .query import Query

KEPT = "it stays as it is, under unread parts where nothing else reads it; or mend that rule of the dialect"


class Work:
    """A document while it is brought into shape; it stands under the key '' of ``root``, so that it may be replaced itself. ``found``
    says how much each query selected."""

    def __init__(self, root: dict[str, Any], base: Origin, limits: Limits) -> None:
        self.root = root
        self.base = base
        self.limits = limits
        self.places = Places()
        self.problems: list[Problem] = []
        self.found: dict[int, int] = {}
        self.gathered: set[int] = set()  # lists that rules have made of items that stood elsewhere

    def find(self, query: Query) -> list[tuple[str, Any]]:
        """What a query selects, the deepest first: what is put in the place of one leaves the places of those to come as they are."""
        hits = query.find_all(self.root[""])
        self.found[id(query)] = len(hits)
        return hits if query.parts is not None else sorted(hits, key=lambda hit: -hit[0].count("/"))

    def holder_of(self, pointer: str) -> tuple[Any, Any]:
        """The object or list that holds what is at a place, and its key there."""
        holder: Any = self.root
        keys = [key.replace("~1", "/").replace("~0", "~") for key in pointer.split("/")]
        for key in keys[:-1]:
            holder = holder[int(key)] if type(holder) is list else holder[key]
        return holder, int(keys[-1]) if type(holder) is list else keys[-1]

    def put(self, pointer: str, value: Any) -> None:
        holder, key = self.holder_of(pointer)
        holder[key] = value

    def take_out(self, pointers: Iterable[str]) -> None:
        """Removes what has moved. A list or object that is empty then goes as well: nothing of it is left to be read."""
        by_holder: dict[str, list[str]] = {}
        for pointer in pointers:
            by_holder.setdefault(pointer.rpartition("/")[0], []).append(pointer)
        for place, gone in sorted(by_holder.items(), key=lambda item: -item[0].count("/")):
            holder, _ = self.holder_of(gone[0])
            keys = {last_key(pointer) for pointer in gone}
            if type(holder) is list:
                left = [(index, item) for index, item in enumerate(holder) if str(index) not in keys]
                holder[:] = [item for _, item in left]
                moved = {f"{place}/{now}": f"{place}/{index}" for now, (index, _) in enumerate(left) if now != index}
                self.places.layers[-1][0].update(moved)
            else:
                for key in keys:
                    del holder[key]
            if not holder and place:
                above, key = self.holder_of(place)
                if type(above) is dict and above is not self.root:
                    del above[key]

    def tell(self, pointer: str, expected: str, found: Any, hint: str = KEPT) -> None:
        words = as_text(found)[:60] or type(found).__name__
        place = self.base.at(self.base.pointer + self.places.former_place(pointer))
        self.problems.append(Problem("value-unusable", "finding", f"expected {expected}, found '{words}'", place, hint))

    def key_in_use(self, key: str, whose: str) -> ZeitbuchError:
        """The error of a rule whose ``into`` would hide what is there."""
        message = f"expected `into` to name a key that {whose} not have, found '{key}'"
        return fail("dialect-key", message, "choose another name", self.base)


class Change(Protocol):
    """One rule, ready to be carried out."""

    at: Query

    def __call__(self, work: Work) -> None: ...


def paths_of(paths: str | list[str]) -> list[tuple[str, ...]]:
    """The keys of each of several dotted paths."""
    return [path_keys(path) for path in ([paths] if isinstance(paths, str) else paths) if path]


def value_of(record: dict[str, Any], keys: tuple[str, ...]) -> Any:
    """What stands behind keys of objects; None when nothing does."""
    value: Any = record
    for key in keys:
        value = value.get(key) if type(value) is dict else None
    return value


def first_path(record: dict[str, Any], ways: Iterable[tuple[str, ...]]) -> tuple[str, ...] | None:
    """The first of several paths at which something stands."""
    return next((keys for keys in ways if value_of(record, keys) is not None), None)


def name_at(record: Any, keys: tuple[str, ...] | None) -> str:
    """The word behind keys of a record; empty when there is none."""
    value = value_of(record, keys) if keys is not None and type(record) is dict else None
    return as_text(value) if is_words(value) and type(value) is not list else ""


def drop_value(record: dict[str, Any], keys: tuple[str, ...]) -> None:
    """Removes the value behind keys, and objects that are empty then."""
    if len(keys) > 1:
        inner = record.get(keys[0])
        if type(inner) is not dict:
            return
        drop_value(inner, keys[1:])
        if inner:
            return
    record.pop(keys[0], None)

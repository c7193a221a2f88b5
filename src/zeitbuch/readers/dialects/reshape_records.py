# Records that stand elsewhere than they belong: entries of catalogues, rows of tables.
"""Putting records where they belong."""

from __future__ import annotations

from typing import Any

from zeitbuch.readers.input.limits import count_values, too_large
from zeitbuch.readers.input.pointers import escape_key, last_key

from .paths import as_text, is_words
from .query import Query
from .reshape_rules import CatalogueRule, GatherRule, GroupRule, PairsRule
from .reshape_values import Pairs
from .rules import KEY
from .shaping import Work, drop_value, first_path, name_at, paths_of, value_of


class Catalogue:
    """Ids become the entries that they name. What many places name stands in each of them: that is counted before it is written out.
    What an entry of the catalogue itself names stays a name: an entry within an entry may never end."""

    def __init__(self, rule: CatalogueRule) -> None:
        self.keyed = rule.id == KEY
        self.at = Query(rule.at)
        self.ids = [] if self.keyed else paths_of(rule.id)
        self.refs = [Query(text) for text in rule.refs]

    def __call__(self, work: Work) -> None:
        moved, _ = work.places.begin_layer()
        entries = self._entries_in(work)
        inside = {pointer for pointer, _, _ in entries.values()}
        sizes: dict[str, int] = {}
        left = work.limits.values
        for pointer, value in [hit for query in self.refs for hit in work.find(query)]:
            if value is None or not is_words(value) or type(value) is list or _stands_below(pointer, inside):
                continue
            known = entries.get(as_text(value))
            if known is None:
                hint = "export what it names as well, or mend the reference; it stays as it is"
                work.tell(pointer, f"an entry of the catalogue at {self.at.text} with this id", value, hint)
                continue
            place, entry, id_keys = known
            if place not in sizes:
                sizes[place] = count_values(entry) + 1
            left -= sizes[place]
            if left < 0:
                raise too_large(
                    "values", work.limits.values, "more values once entries of the catalogue are written out"
                )
            work.put(pointer, _own_copy(entry, id_keys))
            moved[pointer] = place
        work.take_out(sizes)

    def _entries_in(self, work: Work) -> dict[str, tuple[str, Any, tuple[str, ...] | None]]:
        """By id: the place of an entry, the entry, and the keys of its id. Of two with one id the first counts."""
        found: dict[str, tuple[str, Any, tuple[str, ...] | None]] = {}
        for pointer, entry in work.find(self.at):
            keys = first_path(entry, self.ids) if type(entry) is dict else None
            name = last_key(pointer) if self.keyed else name_at(entry, keys)
            if name:
                found.setdefault(name, (pointer, entry, keys))
        return found


def _stands_below(pointer: str, places: set[str]) -> bool:
    while pointer:
        if pointer in places:
            return True
        pointer = pointer.rpartition("/")[0]
    return False


def _own_copy(entry: Any, id_keys: tuple[str, ...] | None) -> Any:
    """The entry without its id, which now says nothing more; its own, so that no two places share what may be changed."""
    copy = _copied(entry)
    if id_keys is not None:
        drop_value(copy, id_keys)
    return copy


def _copied(value: Any) -> Any:
    if type(value) is dict:
        return {key: _copied(item) for key, item in value.items()}
    return [_copied(item) for item in value] if type(value) is list else value


class Group:
    """Rows with the same value become one record that holds them."""

    def __init__(self, rule: GroupRule) -> None:
        self.into, self.rows = rule.into, rule.rows
        self.at = Query(rule.at)
        self.by = next(iter(paths_of(rule.by)), ())
        self.head = list(paths_of(rule.head))

    def __call__(self, work: Work) -> None:
        moved, _ = work.places.begin_layer()
        found: dict[str, tuple[str, dict[str, Any]]] = {}
        taken: list[str] = []
        for pointer, row in work.find(self.at):
            name = name_at(row, self.by) if self.by else "all"
            if not name:
                continue
            place = f"/{escape_key(self.into)}/{len(found)}"
            made: dict[str, Any] = {self.by[-1]: value_of(row, self.by)} if self.by else {}
            made[self.rows] = []
            place, group = found.setdefault(name, (place, made))
            rows = group[self.rows]
            moved.setdefault(place, pointer)
            moved[f"{place}/{escape_key(self.rows)}/{len(rows)}"] = pointer
            if self.by:
                drop_value(row, self.by)
            rows.append(row)
            taken.append(pointer)
        if taken:
            work.take_out(taken)
            for _, group in found.values():
                self._lift_head(group)
            self._put_into(work, [group for _, group in found.values()])

    def _lift_head(self, group: dict[str, Any]) -> None:
        """Move from the rows what all of them say alike; what differs stays where it is."""
        rows = group[self.rows]
        for keys in self.head:
            values = [value_of(row, keys) for row in rows]
            if (
                keys[-1] not in group
                and values[0] is not None
                and all(value == values[0] and type(value) is type(values[0]) for value in values)
            ):
                group[keys[-1]] = values[0]
                for row in rows:
                    drop_value(row, keys)

    def _put_into(self, work: Work, made: list[Any]) -> None:
        root = work.root[""]
        if type(root) is not dict:
            root = work.root[""] = {"@rest": root} if root else {}
        if self.into in root:
            raise work.key_in_use(self.into, "the document does")
        root[self.into] = made


class Gather:
    """Items are put into the records that they name. An item that is such a record itself stays where it is: records within each
    other may never end."""

    def __init__(self, rule: GatherRule) -> None:
        self.into = rule.into
        self.at, self.to = Query(rule.at), Query(rule.to)
        (self.by,) = paths_of(rule.by)
        self.keyed = rule.equals == KEY
        self.equals = () if self.keyed else paths_of(rule.equals)[0]
        self.pairs = Pairs(PairsRule(at="$", name=rule.name, value=rule.value)) if rule.name else None

    def __call__(self, work: Work) -> None:
        moved, _ = work.places.begin_layer()
        records = [(pointer, record) for pointer, record in work.find(self.to) if type(record) is dict]
        owners = self._owners_by_name(records)
        their_own = {id(record) for _, record in records}
        taken: list[str] = []
        given: dict[str, list[Any]] = {}
        for pointer, item in work.find(self.at):
            name = name_at(item, self.by)
            if name not in owners or id(item) in their_own:
                continue
            place, owner = owners[name]
            if name not in given:
                given[name] = self._list_of(owner, work)
            listed = given[name]
            moved[f"{place}/{escape_key(self.into)}/{len(listed)}"] = pointer
            drop_value(item, self.by)
            listed.append(item)
            owner[self.into] = listed
            taken.append(pointer)
        work.take_out(taken)
        if self.pairs is not None:
            whole = [(f"{pointer}/{escape_key(self.into)}", owner) for pointer, owner in work.find(self.to)]
            self.pairs.change_lists(work, [(pointer, value_of(owner, (self.into,))) for pointer, owner in whole])

    def _owners_by_name(self, records: list[tuple[str, dict[str, Any]]]) -> dict[str, tuple[str, dict[str, Any]]]:
        """The records by what items call them; of two of one name the first."""
        owners: dict[str, tuple[str, dict[str, Any]]] = {}
        for pointer, owner in records:
            if name := last_key(pointer) if self.keyed else name_at(owner, self.equals):
                owners.setdefault(name, (pointer, owner))
        return owners

    def _list_of(self, owner: dict[str, Any], work: Work) -> list[Any]:
        """The list that a record is given, or has been given by another rule."""
        listed = owner.get(self.into)
        if self.into in owner and id(listed) not in work.gathered:
            raise work.key_in_use(self.into, "the records do")
        made: list[Any] = listed if type(listed) is list else []
        work.gathered.add(id(made))
        return made

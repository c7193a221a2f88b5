# Exports that are not built the way flows are (tables of rows, definitions within texts, ids that stand for entries elsewhere) are
# brought into shape before the selectors of the dialect apply. Nothing is lost on the way: what a rule cannot use stays where it is,
# and for everything that moves it is kept from where, so that messages name the place in the file.
"""Bringing documents into shape."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any, NamedTuple, Protocol

from zeitbuch.core.model.problems import Problem, fail
from zeitbuch.core.model.records import Origin
from zeitbuch.readers.input.limits import Limits, count_values, too_large
from zeitbuch.readers.input.pointers import escape_key, last_key

from .paths import as_text, is_words, make_getter, path_keys
from .places import Places
from .query import Query
from .reshape_rules import CatalogueRule, GatherRule, GroupRule, MergeRule, PairsRule, SplitRule, TextRule
from .rules import KEY, Dialect
from .text_patterns import TextPattern

_MISSING = object()


class Shaped(NamedTuple):
    """A document in shape, the values in it, where they stood, and what could not be used."""

    value: Any
    counted: int
    places: Places
    problems: list[Problem]


def is_reshaped(dialect: Dialect) -> bool:
    """Whether a dialect has rules that bring documents into shape."""
    return any(
        (dialect.text, dialect.split, dialect.pairs, dialect.merge, dialect.catalogue, dialect.group, dialect.gather)
    )


class _Change(Protocol):
    """One rule, ready to be carried out."""

    at: Query

    def __call__(self, work: _Work) -> None: ...


class Reshaper:
    """Carries out the rules of one dialect. Raises ZeitbuchError when one of them is wrong."""

    def __init__(self, dialect: Dialect, limits: Limits | None = None) -> None:
        self.limits = limits or Limits()
        self.rules: list[tuple[str, _Change]] = [
            *(("text", _Texts(rule, self.limits)) for rule in dialect.text),
            *(("split", _Splits(rule)) for rule in dialect.split),
            *(("pairs", _Pairs(rule)) for rule in dialect.pairs),
            *(("merge", _Merge(rule)) for rule in dialect.merge),
            *(("catalogue", _Catalogue(rule, self.limits)) for rule in dialect.catalogue),
            *(("group", _Group(rule)) for rule in dialect.group),
            *(("gather", _Gather(rule)) for rule in dialect.gather),
        ]
        self.hits = {f"{table}[{place}].at": (rule.at.text, 0) for place, (table, rule) in enumerate(self.rules)}

    def reshape(self, document: Any, base: Origin) -> Shaped:
        """The document in shape. It is changed in place: nobody else holds it."""
        work = _Work({"": document}, base)
        for key, (_, rule) in zip(list(self.hits), self.rules, strict=True):
            text, hits = self.hits[key]
            self.hits[key] = (text, hits + len(work.find(rule.at)))
            rule(work)
        value = work.root[""]
        return Shaped(value, count_values(value), work.places, work.problems)


class _Work:
    """A document while it is brought into shape; it stands under the key '' of ``root``, so that it may be replaced itself."""

    def __init__(self, root: dict[str, Any], base: Origin) -> None:
        self.root = root
        self.base = base
        self.places = Places()
        self.problems: list[Problem] = []

    def find(self, query: Query) -> list[tuple[str, Any]]:
        return query.find_all(self.root[""])

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
        for place, gone in by_holder.items():
            holder, _ = self.holder_of(gone[0])
            keys = {last_key(pointer) for pointer in gone}
            if type(holder) is list:
                left = [(index, item) for index, item in enumerate(holder) if str(index) not in keys]
                holder[:] = [item for _, item in left]
                moved = self.places.layers[-1][0]
                moved.update(
                    {f"{place}/{now}": f"{place}/{index}" for now, (index, _) in enumerate(left) if now != index}
                )
            else:
                for key in keys:
                    del holder[key]
            if not holder and place:
                above, key = self.holder_of(place)
                if type(above) is dict and above is not self.root:
                    del above[key]

    def tell(self, pointer: str, expected: str, found: Any, hint: str) -> None:
        words = as_text(found)[:60] or type(found).__name__
        place = self.base.at(self.base.pointer + self.places.former_place(pointer))
        self.problems.append(Problem("value-unusable", "finding", f"expected {expected}, found '{words}'", place, hint))


_KEPT = "it stays as it is, under unread parts where nothing else reads it; or mend that rule of the dialect"


class _Texts:
    def __init__(self, rule: TextRule, limits: Limits) -> None:
        self.rule, self.limits = rule, limits
        self.at = Query(rule.at)

    def __call__(self, work: _Work) -> None:
        _, texts = work.places.begin_layer()
        for pointer, value in work.find(self.at):
            if type(value) is not str:
                continue
            made = self._decoded(value)
            if made is _MISSING:
                work.tell(pointer, f"{self.rule.form.upper()} in the text", value, _KEPT)
            else:
                work.put(pointer, made)
                texts.add(pointer)

    def _decoded(self, text: str) -> Any:
        from zeitbuch.core.model.problems import ZeitbuchError
        from zeitbuch.readers.input.decode import decode_bytes
        from zeitbuch.readers.input.limits import measure_tree

        try:
            made = decode_bytes(f"text.{self.rule.form}", text.encode(), self.limits).value
            measure_tree(made, self.limits, None)
        except (ZeitbuchError, UnicodeEncodeError):
            return _MISSING
        return made if type(made) in (dict, list) else _MISSING


class _Splits:
    def __init__(self, rule: SplitRule) -> None:
        self.each = rule.each
        self.at = Query(rule.at)
        self.pattern = TextPattern(rule.pattern)

    def __call__(self, work: _Work) -> None:
        _, texts = work.places.begin_layer()
        for pointer, value in work.find(self.at):
            if type(value) is not str:
                continue
            words = [part for part in value.split(self.each) if part.strip()] if self.each else [value]
            made = [self.pattern.take_apart(part) for part in words]
            if None in made:
                work.tell(pointer, f"a text like '{self.pattern.text}'", value, _KEPT)
                continue
            work.put(pointer, made if self.each else made[0])
            texts.add(pointer)


class _Pairs:
    def __init__(self, rule: PairsRule) -> None:
        self.at = Query(rule.at)
        self.name, self.value = make_getter(rule.name), make_getter(rule.value)
        names = [rule.name] if isinstance(rule.name, str) else rule.name
        values = [rule.value] if isinstance(rule.value, str) else rule.value
        self.keys = {path_keys(path)[0] for path in (*names, *values)}

    def __call__(self, work: _Work) -> None:
        moved, _ = work.places.begin_layer()
        for pointer, value in work.find(self.at):
            if type(value) is not list:
                continue
            found: dict[str, Any] = {}
            rest: list[Any] = []
            for place, item in enumerate(value):
                name = as_text(self.name(item)) if type(item) is dict else ""
                if not name or name in found or not is_words(self.name(item)):
                    rest.append(item)
                    continue
                found[name] = self.value(item)
                moved[f"{pointer}/{escape_key(name)}"] = f"{pointer}/{place}"
                left = {key: more for key, more in item.items() if key not in self.keys}
                rest += [{name: left}] if left else []
            if rest and "@rest" not in found:
                found["@rest"] = rest
            work.put(pointer, found)


class _Merge:
    def __init__(self, rule: MergeRule) -> None:
        self.into = rule.into
        self.at = Query(rule.at)
        self.pattern = TextPattern(rule.pattern)
        self.paths = [path_keys(name) for name in self.pattern.names]
        self.parts = [make_getter(name) for name in self.pattern.names]

    def __call__(self, work: _Work) -> None:
        moved, _ = work.places.begin_layer()
        for pointer, record in work.find(self.at):
            values = [get(record) for get in self.parts] if type(record) is dict else [None]
            if None in values or not all(map(is_words, values)):
                continue
            text = self.pattern.put_together([as_text(value) for value in values])
            left = record
            for keys in self.paths:
                left = _without(left, keys)
            if self.into in left:
                work.tell(
                    pointer,
                    f"a record without the key '{self.into}'",
                    left[self.into],
                    "choose another name for `into`",
                )
                continue
            work.put(pointer, {**left, self.into: text})
            place = "".join(f"/{escape_key(key)}" for key in self.paths[0])
            moved[f"{pointer}/{escape_key(self.into)}"] = f"{pointer}{place}"


class _Catalogue:
    def __init__(self, rule: CatalogueRule, limits: Limits) -> None:
        self.limits = limits
        self.keyed = rule.id == KEY
        self.at, self.id = Query(rule.at), make_getter("" if self.keyed else rule.id)
        ids = [rule.id] if isinstance(rule.id, str) else rule.id
        self.id_keys = set() if self.keyed else {path for path in ids if len(path_keys(path)) == 1}
        self.refs = [Query(text) for text in rule.refs]

    def __call__(self, work: _Work) -> None:
        moved, _ = work.places.begin_layer()
        entries: dict[str, tuple[str, Any]] = {}
        for pointer, entry in work.find(self.at):
            key = last_key(pointer) if self.keyed else as_text(self.id(entry)) if type(entry) is dict else ""
            if key:
                entries.setdefault(key, (pointer, entry))
        used: dict[str, int] = {}
        left = self.limits.values
        hits = [hit for query in self.refs for hit in work.find(query)]
        for pointer, value in hits:
            if value is None or not is_words(value) or type(value) is list:
                continue
            known = entries.get(as_text(value))
            if known is None:
                expected = f"an entry of the catalogue at {self.at.text} with this id"
                work.tell(
                    pointer, expected, value, "export what it names as well, or mend the reference; it stays as it is"
                )
                continue
            place, entry = known
            # What many places refer to stands in each of them: that is counted before it is written out.
            size = used.get(place) or count_values(entry) + 1
            left -= size
            if left < 0:
                raise too_large(
                    "values", self.limits.values, "more values once entries of the catalogue are written out"
                )
            work.put(pointer, self._without_id(entry))
            moved[pointer] = place
            used[place] = size
        work.take_out(used)

    def _without_id(self, entry: Any) -> Any:
        """The entry without its id, which now says nothing more; its own, so that no two places share what may be changed."""
        if type(entry) is not dict:
            return entry
        return {key: _copied(value) for key, value in entry.items() if key not in self.id_keys}


def _copied(value: Any) -> Any:
    if type(value) is dict:
        return {key: _copied(item) for key, item in value.items()}
    return [_copied(item) for item in value] if type(value) is list else value


class _Group:
    def __init__(self, rule: GroupRule) -> None:
        self.rule = rule
        self.at, self.by = Query(rule.at), make_getter(rule.by)
        self.key = path_keys(rule.by)

    def __call__(self, work: _Work) -> None:
        moved, _ = work.places.begin_layer()
        rule = self.rule
        found: dict[str, tuple[str, dict[str, Any]]] = {}
        taken: list[str] = []
        for pointer, row in work.find(self.at):
            value = self.by(row) if type(row) is dict else None
            name = as_text(value)
            if not name or not is_words(value):
                continue
            place, group = found.setdefault(
                name, (f"/{escape_key(rule.into)}/{len(found)}", {self.key[-1]: value, rule.rows: []})
            )
            moved.setdefault(place, pointer)
            moved[f"{place}/{escape_key(rule.rows)}/{len(group[rule.rows])}"] = pointer
            group[rule.rows].append(_without(row, self.key))
            taken.append(pointer)
        if taken:
            work.take_out(taken)
            _put_into(work, rule.into, [group for _, group in found.values()])


def _put_into(work: _Work, key: str, made: list[Any]) -> None:
    root = work.root[""]
    if type(root) is not dict:
        root = work.root[""] = {"@rest": root} if root else {}
    if key in root:
        raise fail(
            "dialect-key",
            f"expected `into` to name a key that the document does not have, found '{key}'",
            "choose another name",
            work.base,
        )
    root[key] = made


def _without(row: dict[str, Any], keys: tuple[str, ...]) -> dict[str, Any]:
    """A row without the value that put it where it is now."""
    if len(keys) == 1:
        return {key: value for key, value in row.items() if key != keys[0]}
    inner = row.get(keys[0])
    return {**row, keys[0]: _without(inner, keys[1:])} if type(inner) is dict else row


class _Gather:
    def __init__(self, rule: GatherRule) -> None:
        self.rule = rule
        self.at, self.by, self.key = Query(rule.at), make_getter(rule.by), path_keys(rule.by)
        self.to, self.equals = Query(rule.to), make_getter(rule.equals)

    def __call__(self, work: _Work) -> None:
        moved, _ = work.places.begin_layer()
        into = self.rule.into
        owners: dict[str, tuple[str, dict[str, Any]]] = {}
        for pointer, owner in work.find(self.to):
            name = as_text(self.equals(owner)) if type(owner) is dict else ""
            if name:
                owners.setdefault(name, (pointer, owner))
        taken: list[str] = []
        given: dict[str, list[Any]] = {}
        for pointer, item, name in self._items(work):
            if name not in owners:
                continue
            place, owner = owners[name]
            if into in owner and name not in given:
                raise fail(
                    "dialect-key",
                    f"expected `into` to name a key that the records have not, found '{into}'",
                    "choose another name",
                    work.base,
                )
            listed = given.setdefault(name, [])
            moved[f"{place}/{escape_key(into)}/{len(listed)}"] = pointer
            listed.append(_without(item, self.key))
            owner[into] = listed
            taken.append(pointer)
        work.take_out(taken)

    def _items(self, work: _Work) -> Iterator[tuple[str, dict[str, Any], str]]:
        for pointer, item in work.find(self.at):
            value = self.by(item) if type(item) is dict else None
            if value is not None and is_words(value):
                yield pointer, item, as_text(value)

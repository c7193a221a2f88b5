# Values that are written otherwise than they are meant: a definition as text, several things in one text, names beside values, one
# thing in several texts.
"""Bringing single values into shape."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from zeitbuch.core.model.problems import Problem, ZeitbuchError
from zeitbuch.readers.input.limits import Counts, measure_tree, too_large
from zeitbuch.readers.input.pointers import escape_key

from .paths import as_text, is_words
from .query import Query
from .reshape_rules import DivideRule, MergeRule, PairsRule, SplitRule, TextRule, UnwrapRule
from .shaping import Work, drop_value, first_path, name_at, paths_of, value_of
from .text_patterns import TextPattern

REST = "@rest"  # of a list of pairs: what is none


class Texts:
    """Texts become what they hold."""

    def __init__(self, rule: TextRule) -> None:
        self.form = rule.form
        self.at = Query(rule.at)

    def __call__(self, work: Work) -> None:
        _, texts = work.places.begin_layer()
        left = work.limits.values
        for pointer, value in work.find(self.at):
            if type(value) is not str:
                continue
            made, count = self._decoded(value, work, pointer)
            if made is None:
                work.tell(pointer, f"{self.form.upper()} in the text", value)
                continue
            left -= count
            if left < 0:
                raise too_large("values", work.limits.values, "more values in the texts of the document")
            work.put(pointer, made)
            texts.add(pointer)

    def _decoded(self, text: str, work: Work, pointer: str) -> tuple[Any, int]:
        from zeitbuch.readers.input.decode import decode_bytes, repeated_keys  # that room loads parsers

        counts = Counts()
        try:
            decoded = decode_bytes(f"text.{self.form}", text.encode(), work.limits)
            count = measure_tree(decoded.value, work.limits, None, counts=counts)
        except (ZeitbuchError, UnicodeEncodeError):
            return None, 0
        if type(decoded.value) not in (dict, list):
            return None, 0
        twice = [*decoded.repeated, *repeated_keys(decoded.raw, decoded.form, counts)]
        if twice:
            place = work.base.at(work.base.pointer + work.places.former_place(pointer))
            message = f"expected keys that occur once in an object of the text, found '{twice[0][:40]}' again"
            hint = "the last value counts, and what stood there before is lost: mend the export"
            work.problems.append(Problem("key-twice", "finding", message, place, hint))
        return decoded.value, count


class Splits:
    """Texts become the things that are written into them."""

    def __init__(self, rule: SplitRule) -> None:
        self.each = rule.each
        self.at = Query(rule.at)
        patterns = rule.pattern if isinstance(rule.pattern, list) else [rule.pattern]
        self.patterns = [TextPattern(pattern) for pattern in patterns]

    def __call__(self, work: Work) -> None:
        _, texts = work.places.begin_layer()
        for pointer, value in work.find(self.at):
            if type(value) is not str or not value.strip():
                continue
            words = [part for part in value.split(self.each) if part.strip()] if self.each else [value]
            made = [self._take_apart(part) for part in words]
            if None in made:
                work.tell(
                    pointer, "a text like " + " or ".join(f"'{pattern.text}'" for pattern in self.patterns), value
                )
                continue
            work.put(pointer, made if self.each else made[0])
            texts.add(pointer)

    def _take_apart(self, text: str) -> dict[str, str] | None:
        return next((made for pattern in self.patterns if (made := pattern.take_apart(text)) is not None), None)


class Pairs:
    """Lists of names and values become objects; what in them is no pair, or a name that was there before, is kept beside them."""

    def __init__(self, rule: PairsRule) -> None:
        self.at = Query(rule.at)
        self.names, self.values = paths_of(rule.name), paths_of(rule.value)

    def __call__(self, work: Work) -> None:
        self.change_lists(work, work.find(self.at))

    def change_lists(self, work: Work, lists: Iterable[tuple[str, Any]]) -> None:
        """Put objects in the place of lists, each with its place in the document."""
        moved, _ = work.places.begin_layer()
        for pointer, value in lists:
            if type(value) is not list:
                continue
            found: dict[str, Any] = {}
            rest: list[Any] = []
            for place, item in enumerate(value):
                item, keys, name = self._named(item)
                if keys is None or name in ("", REST) or name in found:
                    rest.append(item)
                    continue
                drop_value(item, keys)
                found[name] = self._take_value(item)
                moved[f"{pointer}/{escape_key(name)}"] = f"{pointer}/{place}"
                rest += [{name: item}] if item else []
            if rest:
                found[REST] = rest
            work.put(pointer, found)

    def _named(self, item: Any) -> tuple[Any, tuple[str, ...] | None, str]:
        """An item with the place of its name, and the name; a bare pair goes by the places in it."""
        if type(item) is list:
            item = {str(index): part for index, part in enumerate(item)}
        keys = first_path(item, self.names) if type(item) is dict else None
        return item, keys, "" if keys is None else name_at(item, keys)

    def _take_value(self, item: dict[str, Any]) -> Any:
        keys = first_path(item, self.values)
        if keys is None:
            return None
        value = value_of(item, keys)
        drop_value(item, keys)
        return value


class Divide:
    """Lists of records of several sorts become objects with a list for each; what says no sort is kept beside these."""

    def __init__(self, rule: DivideRule) -> None:
        self.at = Query(rule.at)
        (self.by,) = paths_of(rule.by)

    def __call__(self, work: Work) -> None:
        moved, _ = work.places.begin_layer()
        for pointer, value in work.find(self.at):
            if type(value) is not list:
                continue
            found: dict[str, list[Any]] = {}
            for place, item in enumerate(value):
                sort = name_at(item, self.by) or REST
                listed = found.setdefault(sort, [])
                moved[f"{pointer}/{escape_key(sort)}/{len(listed)}"] = f"{pointer}/{place}"
                if sort != REST:
                    drop_value(item, self.by)
                listed.append(item)
            work.put(pointer, found)


class Unwrap:
    """Records with a single key become what stands below it; others are told and stay."""

    def __init__(self, rule: UnwrapRule) -> None:
        self.at, self.into, self.value = Query(rule.at), rule.into, rule.value

    def __call__(self, work: Work) -> None:
        moved, _ = work.places.begin_layer()
        for pointer, record in work.find(self.at):
            if type(record) is not dict or len(record) != 1:
                work.tell(pointer, "a record with a single key", record)
                continue
            ((key, inner),) = record.items()
            below = f"{pointer}/{escape_key(key)}"
            held = type(inner) is dict
            inner = inner if held else {} if inner is None else {self.value: inner}
            if self.into in inner:
                work.tell(pointer, f"a record without the key '{self.into}'", key, "choose another name for `into`")
                continue
            for name in inner:
                moved[f"{pointer}/{escape_key(name)}"] = f"{below}/{escape_key(name)}" if held else below
            work.put(pointer, {self.into: key, **inner})


class Merge:
    """Several texts of a record become one."""

    def __init__(self, rule: MergeRule) -> None:
        self.into = rule.into
        self.at = Query(rule.at)
        self.pattern = TextPattern(rule.pattern)
        self.paths = paths_of(self.pattern.names)

    def __call__(self, work: Work) -> None:
        moved, _ = work.places.begin_layer()
        for pointer, record in work.find(self.at):
            values = [value_of(record, keys) for keys in self.paths] if type(record) is dict else []
            text = self.pattern.put_together([as_text(value) if is_words(value) else "" for value in values])
            if text is None:
                continue
            if self.into in record and (self.into,) not in self.paths:
                work.tell(
                    pointer,
                    f"a record without the key '{self.into}'",
                    record[self.into],
                    "choose another name for `into`",
                )
                continue
            for keys, value in zip(self.paths, values, strict=True):
                if is_words(value):
                    drop_value(record, keys)
            record[self.into] = text
            place = "".join(f"/{escape_key(key)}" for key in self.paths[0])
            moved[f"{pointer}/{escape_key(self.into)}"] = f"{pointer}{place}"

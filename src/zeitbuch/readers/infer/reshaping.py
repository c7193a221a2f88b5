# Exports that are not built the way flows are: what a dialect would have to say first (definitions within texts, settings as lists of
# names and values), found in the documents, which are then looked at in that shape.
"""Finding the rules that bring unknown documents into shape."""

from __future__ import annotations

import copy
from collections import Counter
from collections.abc import Iterator
from typing import Any, NamedTuple

from msgspec import structs

from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Origin
from zeitbuch.core.model.words import count_words
from zeitbuch.readers.dialects.flow_rules import FlowRule, Signature
from zeitbuch.readers.dialects.paths import as_text
from zeitbuch.readers.dialects.reshape import Reshaper
from zeitbuch.readers.dialects.reshape_rules import PairsRule, Rule, TextRule
from zeitbuch.readers.dialects.rules import Dialect, StepRule
from zeitbuch.readers.input.decode import decode_bytes
from zeitbuch.readers.input.limits import Limits, measure_tree

from .catalogues import legends_of, record_legends_of
from .gathering import gather_rules
from .heads import head_rules
from .rows import INTO, ROWS, rows_rule
from .single_keys import unwrap_rules
from .sorted_records import divide_rules
from .survey import STAR, Path, count_leaves, dotted_path, find_groups, find_leaves, is_scalar, json_path, values_at
from .tables import rows_rules

_LIMITS = Limits(values=200_000)  # of one text: it is looked at, not read
_LEAST_TEXT = 60  # letters of a text that holds a definition
_LEAST_SHARE = 0.3  # of all letters of the documents: a body of a call is JSON, too
_FEWEST_TEXTS, _NEARLY = 3, 0.9  # texts that hold an object, and the share of the records
_LEAST_NAMES = 4  # different names in lists of settings: fewer are messages with a speaker, or ends of links


class Shaping(NamedTuple):
    """Documents in the shape that the rules give them, and as they came; ``rules`` by table of the dialect; what was understood, in
    words."""

    documents: list[Any]
    raw: list[Any]
    rules: dict[str, list[Rule]]
    words: list[str]

    def with_rule(self, table: str, rule: Rule, words: str) -> Shaping:
        """The documents with one more rule carried out, or as they were where it cannot be (its key is in use, say). A dialect carries
        its tables out in an order of its own: what is found in grouped rows is said of the rows."""
        grouped = self.rules.get("group", [])
        if grouped and table in ("text", "rows", "divide", "unwrap", "split", "pairs", "merge", "catalogue"):
            at = rule.at.replace(f"$.{INTO}[*].{ROWS}[*]", grouped[0].at)  # type: ignore[attr-defined]
            rule = structs.replace(rule, at=at)
        rules = {**self.rules, table: [*self.rules.get(table, []), rule]}
        try:
            documents = [_reshape(document, rules) for document in self.raw]
        except ZeitbuchError:
            return self
        return Shaping(documents, self.raw, rules, [*self.words, words])


def shape_documents(documents: list[Any]) -> Shaping:
    """Definitions within texts are opened, settings as lists of names and values become objects."""
    shaping = Shaping(documents, documents, {}, [])
    for _ in range(2):
        found = next(_definition_texts(shaping.documents), None)
        if found is None:
            break
        path, form, count = found
        words = f"{count_words(count, 'definition')} as text at {json_path(path)}"
        shaping = shaping.with_rule("text", TextRule(at=json_path(path), form=form), words)
    for path in list(_texts_in_records(shaping.documents)):
        words = f"'{path[-1]}' of records holds an object as text"
        shaping = shaping.with_rule("text", TextRule(at=json_path(path)), words)
    for table in rows_rules(shaping.documents):
        names = f"at '{table.columns}'" if table.columns else "in the first row"
        shaping = shaping.with_rule("rows", table, f"rows of values at {table.at}, the names of their columns {names}")
    for unwrap in unwrap_rules(shaping.documents):
        words = f"records at {unwrap.at} are what stands below their only key"
        shaping = shaping.with_rule("unwrap", unwrap, words)
    for divide in list(divide_rules(shaping.documents)):
        words = f"records at {divide.at} are of several sorts, by '{divide.by}'"
        shaping = shaping.with_rule("divide", divide, words)
    shaping = _with_heads(shaping)
    for path, name, value, count in _setting_lists(shaping.documents):
        rule = PairsRule(at=json_path(path), name=dotted_path((name,)), value=dotted_path((value,)))
        words = f"{count_words(count, 'list')} of names and values at {json_path(path)}"
        shaping = shaping.with_rule("pairs", rule, words)
    rows = rows_rule(shaping.documents)
    if rows is not None:
        words = f"rows of one '{rows.by}' are a flow" if rows.by else "the rows of a file are one flow"
        shaping = shaping.with_rule("group", rows, words)
        for path in list(_texts_in_rows(shaping.documents)):
            shaping = shaping.with_rule(
                "text", TextRule(at=json_path(path)), f"'{path[-1]}' of a row holds an object as text"
            )
    for gather in gather_rules(shaping.documents):
        words = f"items of {gather.at} belong to {gather.to} by '{gather.by}'"
        shaping = shaping.with_rule("gather", gather, words + (", each a setting" if gather.name else ""))
    for legend in [*legends_of(shaping.documents), *record_legends_of(shaping.documents)]:
        shaping = shaping.with_rule(
            "catalogue", legend, f"codes at {', '.join(legend.refs)} are explained at {legend.at}"
        )
    return shaping


def _with_heads(shaping: Shaping) -> Shaping:
    """What belongs to flows put into the records that are their heads, where both stand in one list."""
    heads = head_rules(shaping.documents)
    if heads is None:
        return shaping
    words = f"records at {heads.divide.at} are heads of flows and what belongs to them, by '{heads.divide.by}'"
    shaping = shaping.with_rule("divide", heads.divide, words)
    for gather in heads.gathers:
        words = f"items of {gather.at} belong to {gather.to} by '{gather.by}'"
        shaping = shaping.with_rule("gather", gather, words)
    return shaping


def _reshape(document: Any, rules: dict[str, list[Rule]]) -> Any:
    bare = Dialect(dialect=1, name="shape", signature=Signature(all=["$"]), flow=FlowRule(), step=StepRule(at="$"))
    dialect = structs.replace(bare, **rules)
    return Reshaper(dialect).reshape(copy.deepcopy(document), Origin("")).value


def _texts_in_records(documents: list[Any]) -> Iterator[Path]:
    """Fields of records in which nearly each holds an object as text."""
    for group in find_groups(documents):
        texts: dict[Path, list[str]] = {}
        for path, value in (leaf for item in group.items for leaf in find_leaves(item.value, depth=2)):
            if type(value) is str and value[:1] == "{" and STAR not in path:
                texts.setdefault((*group.path, *path), []).append(value)
        least = max(_FEWEST_TEXTS, _NEARLY * len(group.items))
        yield from (path for path, listed in texts.items() if len(listed) >= least and all(map(_holds_object, listed)))


def _holds_object(text: str) -> bool:
    return _may_be(text, "json") and type(_opened(text, "json")) is dict


def _texts_in_rows(documents: list[Any]) -> Iterator[Path]:
    """Fields of grouped rows that hold objects as text."""
    found: dict[Path, list[str]] = {}
    for document in documents:
        for row in values_at(document, (INTO, STAR, ROWS, STAR)):
            for key, value in row.items():
                if type(value) is str and value.strip():
                    found.setdefault((INTO, STAR, ROWS, STAR, key), []).append(value)
    for path, texts in found.items():
        if all(map(_holds_object, texts)):
            yield path


def _texts_by_path(value: Any, path: Path, found: dict[Path, list[str]], depth: int = 8) -> None:
    """Long texts by path; the items of a list, and the entries of an object in which many keys look alike, are one place."""
    if type(value) is str:
        if len(value) >= _LEAST_TEXT:
            found.setdefault(path, []).append(value)
    elif depth and type(value) is dict:
        alike = len(value) > 3 and len({frozenset(item) for item in value.values() if type(item) is dict}) == 1
        for key, inner in value.items():
            _texts_by_path(inner, (*path, STAR if alike else key), found, depth - 1)
    elif depth and type(value) is list:
        for inner in value:
            _texts_by_path(inner, (*path, STAR), found, depth - 1)


def _definition_texts(documents: list[Any]) -> Iterator[tuple[Path, Any, int]]:
    """Places where texts hold most of what the documents say."""
    found: dict[Path, list[str]] = {}
    for document in documents:
        _texts_by_path(document, (), found)
    every = sum(len(as_text(leaf)) for document in documents for _, leaf in find_leaves(document, depth=40))
    for path, texts in sorted(found.items(), key=lambda entry: -sum(map(len, entry[1]))):
        if sum(map(len, texts)) < _LEAST_SHARE * every:
            return
        for form in ("json", "yaml"):
            opened = [_opened(text, form) for text in texts if _may_be(text, form)]
            if sum(map(_is_definition, opened)) >= 0.9 * len(texts):
                yield path, form, len(texts)


def _opened(text: str, form: str) -> Any:
    """The object or list that a text holds, or None; within the limits of any export."""
    try:
        value = decode_bytes(f"text.{form}", text.encode(), _LIMITS).value
        measure_tree(value, _LIMITS, None)
    except (ZeitbuchError, UnicodeEncodeError):
        return None
    return value if type(value) in (dict, list) else None


def _may_be(text: str, form: str) -> bool:
    """Whether a text is worth opening."""
    return text.lstrip()[:1] in ("{", "[") if form == "json" else "\n" in text and ":" in text


def _is_definition(value: Any) -> bool:
    """Whether a value holds records of its own."""
    return (
        type(value) in (dict, list)
        and count_leaves(value) >= 4
        and any(path.count(STAR) or len(path) > 1 for path, _ in find_leaves(value))
    )


def _setting_lists(documents: list[Any]) -> Iterator[tuple[Path, str, str, int]]:
    """Lists of which every item has a name and a value, where the names of one list differ and those of all lists repeat. Where one
    place has such lists, lists under the same key with the same keys in their items are such lists elsewhere too."""
    elsewhere = _scalars_of(documents)
    places: list[tuple[Path, tuple[str, frozenset[str]], list[list[dict[str, Any]]]]] = []
    alike: dict[tuple[str, frozenset[str]], list[list[dict[str, Any]]]] = {}
    for group in find_groups(documents):
        lists: dict[tuple[int, str], list[dict[str, Any]]] = {}
        for item in group.items:
            lists.setdefault((item.document, item.parent), []).append(item.value)
        keys = frozenset(key for item in group.items for key in item.value)
        if group.keyed or len(group.path) < 2 or not 2 <= len(keys) <= 4:
            continue
        places.append((group.path[:-1], (group.path[-2], keys), list(lists.values())))
        alike.setdefault((group.path[-2], keys), []).extend(lists.values())
    for path, pairs in _bare_pairs(documents).items():
        form = path[-1], frozenset("01")
        places.append((path, form, pairs))
        alike.setdefault(form, []).extend(pairs)
    known = {form: _name_and_value(lists, elsewhere) for form, lists in alike.items() if len(lists) >= 3}
    for path, form, found in places:
        names = known.get(form)
        if names is not None:
            yield path, *names, len(found)


def _bare_pairs(documents: list[Any]) -> dict[Path, list[list[dict[str, Any]]]]:
    """Lists in records of which every item is a list of two, the first a text; each pair by its places."""
    lists: dict[Path, list[list[Any]]] = {}
    for group in find_groups(documents):
        for key, value in (field for item in group.items for field in item.value.items()):
            if type(value) is list and value:
                lists.setdefault((*group.path, key), []).append(value)
    return {
        path: [[{"0": name, "1": value} for name, value in listed] for listed in found]
        for path, found in lists.items()
        if all(_is_pair(pair) for listed in found for pair in listed)
    }


def _is_pair(value: Any) -> bool:
    return type(value) is list and len(value) == 2 and type(value[0]) is str


def _scalars_of(documents: list[Any]) -> Counter[str]:
    return Counter(
        as_text(leaf) for document in documents for _, leaf in find_leaves(document, depth=40) if is_scalar(leaf)
    )


def _name_and_value(lists: list[list[dict[str, Any]]], elsewhere: Counter[str]) -> tuple[str, str] | None:
    items = [item for listed in lists for item in listed]
    keys = Counter(key for item in items for key in item)
    for name in (key for key in keys if keys[key] == len(items)):
        values = [
            key
            for key in keys
            if key != name and keys[key] >= 0.8 * len(items) and _holds_settings(items, key, elsewhere)
        ]
        if values and _holds_names(lists, name):
            return name, max(values, key=lambda key: len({str(item.get(key)) for item in items}))
    return None


def _holds_names(lists: list[list[dict[str, Any]]], key: str) -> bool:
    """Whether values name settings: single words, each once in a list, that all lists draw from, and not all the same."""
    words = [item[key] for listed in lists for item in listed]
    if not all(type(word) is str and 0 < len(word) < 50 and " " not in word for word in words):
        return False
    sets = [{item[key] for item in listed} for listed in lists]
    alone = all(len(names) == len(listed) for names, listed in zip(sets, lists, strict=True))
    return alone and _LEAST_NAMES <= len(set(words)) <= 0.5 * len(words) and len(set(map(frozenset, sets))) > 1


def _holds_settings(items: list[dict[str, Any]], key: str, elsewhere: Counter[str]) -> bool:
    return _mixed(items, key) and not _names_others(items, key, elsewhere) and not _hold_records(items, key)


def _hold_records(items: list[dict[str, Any]], key: str) -> bool:
    """Whether values are the inner parts of records rather than settings: some hold records, or most are objects."""
    values = [item.get(key) for item in items]
    return any(map(_holds_record, values)) or sum(type(value) is dict for value in values) > 0.5 * len(values)


def _holds_record(value: Any) -> bool:
    """Whether a value is or holds an object of several keys, as a step does and a setting seldom."""
    if type(value) is dict:
        return len(value) > 2 or any(map(_holds_record, value.values()))
    return type(value) is list and any(map(_holds_record, value))


def _names_others(items: list[dict[str, Any]], key: str, elsewhere: Counter[str]) -> bool:
    """Whether the values name what stands elsewhere: ends of links, not settings."""
    texts = Counter(as_text(item.get(key)) for item in items if is_scalar(item.get(key)))
    return sum(number for text, number in texts.items() if elsewhere[text] > number) > 0.6 * sum(texts.values())


def _mixed(items: list[dict[str, Any]], key: str) -> bool:
    """Whether the values are of several makes, as those of settings are."""
    values = [item.get(key) for item in items]
    lengths = {len(value) for value in values if type(value) is str}
    return (
        len({type(value) for value in values}) > 1
        or not all(map(is_scalar, values))
        or (len(lengths) > 2 and max(lengths) > 40)
    )

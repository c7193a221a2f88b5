# Which fields of a step are its id and its name. An id is what other places of the flow refer to; a name is what
# people read.
"""Finding ids and names of steps."""

from __future__ import annotations

from collections import Counter
from typing import Any, NamedTuple

from zeitbuch.readers.dialects.paths import as_text
from zeitbuch.readers.dialects.statements import is_statement

from .fields import BRACKETED
from .steps import KEY, Found, Sample, Sight
from .survey import Group, Path, find_groups, find_leaves, is_scalar, value_at, without_path
from .vocabulary import words_of

_ENDS = 2  # of a link
_SOME = 0.3  # of the steps have a name
_LONGEST = 20_000  # letters of a text that is looked into
_ID_WORDS = frozenset(
    "id key ref uid uuid guid code number nr nummer clave cle chiave sleutel chave nokkel schluessel schlussel tag slug".split()
)
_NAME_WORDS = frozenset(
    "name title label heading caption titel nom titre nombre titulo navn tittel naam nome titolo bezeichnung display".split()
)


class Identity(NamedTuple):
    """Paths of id and name; either may be empty. ``ids`` and ``names`` of each sample: text -> index of the step."""

    id: Path
    name: Path
    referred: float
    ids: list[dict[str, int]]
    names: list[dict[str, int]]


def is_id_word(path: Path) -> bool:
    """Whether a field is called what ids are called."""
    return any(word in _ID_WORDS for word in words_of(path[-1]))


def is_name_word(path: Path) -> bool:
    """Whether a field is called what names are called."""
    return any(word in _NAME_WORDS for word in words_of(path[-1]))


def value_of(sight: Sight, path: Path) -> str:
    """The text at a path of a step; its key for ``@key``."""
    if path == KEY:
        return sight.key
    found = value_at(sight.raw, path)
    return as_text(found) if is_scalar(found) else ""


def _scalar_columns(found: Found) -> dict[Path, int]:
    """Scalar paths of at most two keys, and in how many steps they occur."""
    count: Counter[Path] = Counter()
    for sample in found.samples:
        for sight in sample.steps:
            for key, value in sight.raw.items():
                if is_scalar(value):
                    count[(key,)] += 1
                elif type(value) is dict:
                    count.update((key, k) for k, item in value.items() if is_scalar(item))
    return count


def _words_in(sample: Sample) -> Counter[str]:
    """All scalar texts and keys of a flow, and what placeholders begin with, counted: what may refer to a step."""
    texts = [as_text(value) for _, value in find_leaves(sample.raw, depth=40) if is_scalar(value)]
    words: Counter[str] = Counter(texts)
    words.update(
        matched["inner"].partition(".")[0].strip()
        for text in texts
        if len(text) < _LONGEST
        for matched in BRACKETED.finditer(text)
    )
    stack: list[Any] = [sample.raw]
    while stack:
        value = stack.pop()
        if type(value) is dict:
            words.update(list(value))
            stack += value.values()
        elif type(value) is list:
            stack += value
    return words


class FieldTraits(NamedTuple):
    """A field of the steps: of ``present`` values so many unique, referred to elsewhere, written as for people, or long."""

    path: Path
    present: int
    unique: int
    referred: int
    human: int
    long: int


def find_identity(found: Found) -> Identity:
    """The id and name fields of the steps."""
    total = sum(len(sample.steps) for sample in found.samples)
    words = [_words_in(sample) for sample in found.samples]
    columns = _scalar_columns(found)
    if found.keyed:
        columns[KEY] = total
    fields = {
        path: _traits_of_field(found, words, path, present)
        for path, present in columns.items()
        if path != found.operation and present >= 0.7 * total
    }
    ids = [each for each in fields.values() if each.unique >= 0.9 * each.present and each.present >= 0.9 * total]
    id_field = min(ids, key=lambda each: (-_id_score(each, total), each.path), default=None)
    if (id_field is None or id_field.referred < 0.3 * id_field.present) and _ends_are_places(found):
        id_field = fields[KEY] = _traits_of_field(found, words, KEY, total)
    name_path, id_path = _choose_name(found, fields, total, id_field.path if id_field is not None else ())
    referred = id_field.referred / id_field.present if id_field is not None else 0.0
    return Identity(id_path, name_path, referred, _tabulate(found, id_path), _tabulate(found, name_path))


def name_of_some(found: Found) -> Path:
    """The field called as names are that some steps have, each its own within a flow, where blocks around them have none."""
    named: dict[Path, int] = {}
    for path in {(key,) for sample in found.samples for sight in sample.steps for key in sight.raw}:
        values = [[value_of(sight, path) for sight in sample.steps] for sample in found.samples]
        texts = [[value for value in listed if value] for listed in values]
        alone = all(len(set(listed)) == len(listed) and not any(map(str.isdecimal, listed)) for listed in texts)
        if path != found.operation and alone and (is_name_word(path) or is_id_word(path)):
            named[path] = sum(map(len, texts))
    total = sum(len(sample.steps) for sample in found.samples)
    best = max(named, key=lambda path: (named[path], path), default=())
    return best if named.get(best, 0) >= _SOME * total else ()


def _ends_are_places(found: Found) -> bool:
    """Whether records beside the steps name two of them each by their places in the list, from 0 on."""
    groups = find_groups([without_path(sample.raw, found.steps_at[:-1]) for sample in found.samples])
    return any(_names_places(group, found) for group in groups)


def _names_places(group: Group, found: Found) -> bool:
    """Whether two fields of records are numbers below that of the steps, and name most of them."""
    columns = [[item.value.get(key) for item in group.items] for key in group.items[0].value]
    sizes = [len(found.samples[item.document].steps) for item in group.items]
    ends = [column for column in columns if all(map(_is_place, column, sizes))]
    named = {(item.document, column[place]) for column in ends for place, item in enumerate(group.items)}
    return len(ends) == _ENDS and len(named) >= 0.7 * sum(len(sample.steps) for sample in found.samples)


def _is_place(value: Any, size: int) -> bool:
    return type(value) is int and 0 <= value < size


def _traits_of_field(found: Found, words: list[Counter[str]], path: Path, present: int) -> FieldTraits:
    unique = referred = human = long = 0
    for sample, known in zip(found.samples, words, strict=True):
        values = [value_of(sight, path) for sight in sample.steps]
        count = Counter(value for value in values if value)
        unique += sum(count[value] == 1 for value in values if value)
        own = Counter(value for value in values if value)
        referred += sum(known[value] > own[value] for value in values if value)
        human += sum(map(_is_for_people, values))
        long += sum(len(value) > 70 for value in values if value)
    return FieldTraits(path, present, unique, referred, human, long)


def _is_for_people(text: str) -> bool:
    return (" " in text or (text[:1].isupper() and text.isalpha())) and not is_statement(text)


def _id_score(field: FieldTraits, total: int) -> float:
    """What speaks for a field as the id of the steps."""
    score = 2.5 * field.referred / field.present + (1.0 if field.path == KEY else 0.0)
    score += -1.0 * field.human / field.present - 0.3 * (len(field.path) - 1)
    score += 0.6 * any(word in _ID_WORDS for word in words_of(field.path[-1]))
    # Every step has an id; a pointer to the next is missing in the last.
    return score + 0.8 * (field.present == total)


def _name_score(field: FieldTraits) -> float:
    """What speaks for a field as the name of the steps."""
    return (
        2.0 * field.human / field.present
        + field.unique / field.present
        - 0.4 * (len(field.path) - 1)
        + any(word in _NAME_WORDS for word in words_of(field.path[-1]))
    )


def _choose_name(found: Found, fields: dict[Path, FieldTraits], total: int, id_path: Path) -> tuple[Path, Path]:
    names = [
        each
        for each in fields.values()
        if each.long < 0.2 * each.present and each.unique >= 0.4 * each.present and each.path not in (KEY, id_path)
    ]
    best = min(names, key=lambda each: (-_name_score(each), each.path), default=None)
    name_path: Path = best.path if best is not None and _name_score(best) > 1.2 else ()
    # Builders that go by names write no ids: the name field is then all there is.
    if not id_path and name_path:
        id_path = name_path
        return name_path, id_path
    short = bool(name_path) and _holds_short_texts(found, fields[name_path], total)
    if id_path and fields[id_path].human > 0.6 * fields[id_path].present and not short:
        name_path = id_path
    return name_path, id_path


def _holds_short_texts(found: Found, field: FieldTraits, total: int) -> bool:
    """Whether all steps have the field, with short texts without placeholders."""
    return (
        field.present >= 0.97 * total
        and not field.long
        and not any(
            BRACKETED.search(value_of(sight, field.path)) for sample in found.samples[:5] for sight in sample.steps[:20]
        )
    )


def _tabulate(found: Found, path: Path) -> list[dict[str, int]]:
    tables: list[dict[str, int]] = []
    for sample in found.samples:
        table: dict[str, int] = {}
        if path:
            for index, sight in enumerate(sample.steps):
                value = value_of(sight, path)
                if value:
                    table.setdefault(value, index)
        tables.append(table)
    return tables

# Which fields of a step are its id and its name. An id is what other places of the flow refer to; a name is what
# people read.
"""Finding ids and names of steps."""

from __future__ import annotations

from collections import Counter
from typing import Any, NamedTuple

from zeitbuch.readers.dialects.paths import as_text

from .fields import BRACKETED
from .steps import KEY, Found, Sample, Sight
from .survey import Path, find_leaves, is_scalar, value_at
from .vocabulary import words_of

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
    """All scalar texts and keys of a flow, counted: what may refer to a step."""
    words: Counter[str] = Counter(as_text(value) for _, value in find_leaves(sample.raw, depth=40) if is_scalar(value))
    stack: list[Any] = [sample.raw]
    while stack:
        value = stack.pop()
        if type(value) is dict:
            words.update(list(value))
            stack += value.values()
        elif type(value) is list:
            stack += value
    return words


def find_identity(found: Found) -> Identity:
    """The id and name fields of the steps."""
    total = sum(len(sample.steps) for sample in found.samples)
    words = [_words_in(sample) for sample in found.samples]
    rated: list[tuple[float, float, Path]] = []
    naming: list[tuple[float, Path]] = []
    people: dict[Path, float] = {}
    whole: set[Path] = set()  # fields of all steps that hold short texts without placeholders
    columns = _scalar_columns(found)
    if found.keyed:
        columns[KEY] = total
    for path, present in columns.items():
        if path == found.operation or present < 0.7 * total:
            continue
        _rate_field(found, words, path, present, people, total, rated, whole, naming)
    rated.sort(key=lambda r: (-r[0], r[2]))
    id_path: Path = rated[0][2] if rated else ()
    name_path, id_path = _choose_name(naming, id_path, people, whole)
    return Identity(
        id_path, name_path, rated[0][1] if rated else 0.0, _tabulate(found, id_path), _tabulate(found, name_path)
    )


def _rate_field(
    found: Found,
    words: list[Counter[str]],
    path: Path,
    present: int,
    people: dict[Path, float],
    total: int,
    rated: list[tuple[float, float, Path]],
    whole: set[Path],
    naming: list[tuple[float, Path]],
) -> None:
    """What speaks for a field of the steps as their id or their name."""
    unique, referred, human, long = _traits_of_field(found, words, path)
    key_words = words_of(path[-1])
    people[path] = human / max(1, present)
    if unique >= 0.9 * present and present >= 0.9 * total:
        _score_id(path, present, total, rated, referred, human, key_words)
    if (
        present >= 0.97 * total
        and not long
        and not any(
            BRACKETED.search(value_of(sight, path)) for sample in found.samples[:5] for sight in sample.steps[:20]
        )
    ):
        whole.add(path)
    if long < 0.2 * present and unique >= 0.4 * present and path != KEY:
        score = (
            2.0 * human / present
            + unique / present
            - 0.4 * (len(path) - 1)
            + any(word in _NAME_WORDS for word in key_words)
        )
        naming.append((score, path))


def _traits_of_field(found: Found, words: list[Counter[str]], path: Path) -> tuple[int, int, int, int]:
    unique = referred = human = long = 0
    for sample, known in zip(found.samples, words, strict=True):
        values = [value_of(sight, path) for sight in sample.steps]
        count = Counter(value for value in values if value)
        unique += sum(count[value] == 1 for value in values if value)
        own = Counter(value for value in values if value)
        referred += sum(known[value] > own[value] for value in values if value)
        human += sum(" " in value or (value[:1].isupper() and value.isalpha()) for value in values if value)
        long += sum(len(value) > 70 for value in values if value)
    return unique, referred, human, long


def _score_id(
    path: Path,
    present: int,
    total: int,
    rated: list[tuple[float, float, Path]],
    referred: int,
    human: int,
    key_words: tuple[str, ...],
) -> None:
    score = 2.5 * referred / present + (1.0 if path == KEY else 0.0) - 1.0 * human / present - 0.3 * (len(path) - 1)
    score += 0.6 * any(word in _ID_WORDS for word in key_words)
    # Every step has an id; a pointer to the next is missing in the last.
    score += 0.8 * (present == total)
    rated.append((score, referred / present, path))


def _choose_name(
    naming: list[tuple[float, Path]], id_path: Path, people: dict[Path, float], whole: set[Path]
) -> tuple[Path, Path]:
    name_path: Path = ()
    for score, path in sorted(naming, key=lambda n: (-n[0], n[1])):
        if path != id_path and score > 1.2:
            name_path = path
            break
    # Builders that go by names write no ids: the name field is then all there is.
    if not id_path and name_path:
        id_path = name_path
    elif id_path and people.get(id_path, 0) > 0.6 and name_path not in whole:
        name_path = id_path
    return name_path, id_path


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

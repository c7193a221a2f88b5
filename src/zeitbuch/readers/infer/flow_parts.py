# Stages and lanes stand in a list as flows do. What tells them apart: only one of them has a trigger, one takes what another makes, or they
# are called the same in file after file, each of which has a name of its own.
"""Whether the entries around steps are parts of a flow, or flows."""

from __future__ import annotations

import re
from collections import Counter
from typing import Any

from zeitbuch.readers.dialects.paths import as_text

from .operations import is_tokenlike
from .survey import Group, Path, find_leaves, is_scalar, value_at
from .vocabulary import guess_kinds, words_of

_FEWEST_FILES = 4
_MOSTLY = 0.6  # of the files have parts of the same names
_NAME = re.compile(r"[^\W\d][\w-]{2,60}")  # what may name a step within a text
_REFERENCE = re.compile(rf"[{{(\[<%$#]\s*({_NAME.pattern})")  # a name behind a bracket or sign
_LOOKED_AT, _FEWEST_ACROSS = 400, 4  # items whose texts are looked at, and how many of them name others
NAMING = frozenset(
    "name title label slug titel nom titre nombre titulo navn tittel naam nome titolo bezeichnung".split()
)


def are_named_alike(documents: list[Any], holder: Path) -> bool:
    """Whether the records of a list or an object (at ``holder`` of each document) are called the same in most documents, which have names of
    their own."""
    held = [value_at(document, holder) for document in documents]
    if len(documents) < _FEWEST_FILES or not _have_names(documents, holder):
        return False
    if all(type(value) is dict for value in held):
        return _come_again([list(value) for value in held])
    if not all(type(value) is list and value and type(value[0]) is dict for value in held):
        return False
    lists = [[entry for entry in value if type(entry) is dict] for value in held]
    return any(
        _come_again([[as_text(entry.get(key)) for entry in entries] for entries in lists]) for key in lists[0][0]
    )


def _have_names(documents: list[Any], holder: Path) -> bool:
    """Whether a record around the list has a name that is another in each document."""
    for size in range(len(holder)):
        around = [value_at(document, holder[:size]) for document in documents]
        for key in around[0] if all(type(record) is dict for record in around) else ():
            names = {as_text(record.get(key)) for record in around if is_scalar(record.get(key))}
            if len(names) == len(documents) and NAMING & set(words_of(key)):
                return True
    return False


def _come_again(lists: list[list[str]]) -> bool:
    """Whether most lists hold the same few words, each once."""
    words, count = Counter(tuple(sorted(said)) for said in lists).most_common(1)[0]
    alone = len(words) > 1 and len(set(words)) == len(words) and all(map(is_tokenlike, words))
    return alone and count >= _MOSTLY * len(lists)


def are_parts(group: Group, depth: int, operation: Path) -> bool:
    """Whether entries ``depth`` keys down are parts of flows: of those that stand together, one holds a trigger by its words. One
    such place tells nothing: of several flows one may have a trigger that is known."""
    triggers: dict[tuple[int, str], int] = {}
    for item in group.items:
        place = (item.document, "/".join(item.pointer.split("/")[: depth + 1]))
        guesses = guess_kinds(as_text(value_at(item.value, operation)))
        triggers[place] = triggers.get(place, 0) + bool(guesses and guesses[0].trigger is not None)
    together: dict[tuple[int, str], list[int]] = {}
    for (document, pointer), number in triggers.items():
        together.setdefault((document, pointer.rpartition("/")[0]), []).append(number)
    several = [numbers for numbers in together.values() if len(numbers) > 1]
    single = sum(sum(bool(number) for number in numbers) == 1 for numbers in several)
    return len(several) > 1 and single >= 0.8 * len(several)


def refer_across(group: Group, depth: int) -> bool:
    """Whether items take values of items of other entries ``depth`` keys down: steps of one flow do, steps of two flows never."""
    places = [(item.document, "/".join(item.pointer.split("/")[: depth + 1])) for item in group.items]
    named: dict[tuple[int, str], set[str]] = {}
    for item, (document, place) in zip(group.items, places, strict=True):
        for value in (item.key, *item.value.values()):
            if type(value) is str and _NAME.fullmatch(value):
                named.setdefault((document, value), set()).add(place)
    own = across = 0
    for item, (document, place) in zip(group.items[:_LOOKED_AT], places, strict=False):
        texts = [leaf for _, leaf in find_leaves(item.value) if type(leaf) is str]
        for word in {word for text in texts for word in _REFERENCE.findall(text)}:
            where = named.get((document, word), set())
            own += where == {place}
            across += len(where) == 1 and place not in where
    return across >= _FEWEST_ACROSS and across >= 0.2 * (own + across)

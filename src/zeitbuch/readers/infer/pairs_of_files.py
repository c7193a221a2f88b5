# Builders that write one flow into two files name both alike: "loan.steps.json" and "loan.links.json". Which of them holds the steps
# shows only when both are put together.
"""Finding files that belong to others."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

from zeitbuch.readers.dialects.reshape_rules import BesideRule

_TAIL = re.compile(r"[._-][^/\\]*")
_INTO = "beside"
_LEAST_PAIRS = 2
_MOST_GROUPS = 6
_LEAST_SHARE = 0.8  # of the files of either kind that have one of the other


class Paired(NamedTuple):
    """Documents of one kind with those beside them put in, by their numbers; all numbers of both kinds."""

    rule: BesideRule
    documents: dict[int, Any]
    mains: dict[int, Any]
    numbers: list[int]


def paired_files(found: Sequence[tuple[str, Any]], groups: Sequence[Sequence[int]]) -> Iterator[Paired]:
    """Every way to put the documents of one group into those of another whose files have the same names but for their ends."""
    stems = [_stems_of([found[number][0] for number in group]) for group in groups[:_MOST_GROUPS]]
    for main, group in enumerate(groups[:_MOST_GROUPS]):
        for other, beside in enumerate(groups[:_MOST_GROUPS]):
            shared = stems[main].names.keys() & stems[other].names.keys() if main != other else set()
            fewest = max(_LEAST_PAIRS, _LEAST_SHARE * max(len(group), len(beside)))
            if len(shared) >= fewest and stems[main].tail != stems[other].tail:
                yield _put_together(found, stems[main], stems[other], [*group, *beside], group, beside)


class _Stems(NamedTuple):
    """What file names end in, and by what stands before that the place of each among the names."""

    tail: str
    names: dict[str, int]


def _stems_of(files: list[str]) -> _Stems:
    common = os.path.commonprefix([name[::-1] for name in files])[::-1]  # noqa: RUF071  (names, no paths)
    hit = _TAIL.search(common) if len(files) >= _LEAST_PAIRS else None
    tail = hit[0] if hit is not None else ""
    return _Stems(tail, {name[: len(name) - len(tail)]: place for place, name in enumerate(files)} if tail else {})


def _put_together(
    found: Sequence[tuple[str, Any]],
    main: _Stems,
    other: _Stems,
    numbers: list[int],
    group: Sequence[int],
    beside: Sequence[int],
) -> Paired:
    into = _INTO
    mains = {number: found[number][1] for number in group}
    while any(type(value) is dict and into in value for value in mains.values()):
        into += "_file"
    rule = BesideRule(file=f"*{other.tail}", into=into, main=f"*{main.tail}")
    documents: dict[int, Any] = {}
    for stem, place in main.names.items():
        value = mains[group[place]]
        if stem in other.names and type(value) is dict:
            documents[group[place]] = {**value, into: found[beside[other.names[stem]]][1]}
    return Paired(rule, documents, mains, numbers)

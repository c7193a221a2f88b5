# Files of a folder or revision that cannot hold flows by their suffix: counted, so that nothing is passed over in silence.
"""Counting what is not looked into."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from pathlib import PurePosixPath

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Origin
from zeitbuch.core.model.words import count_words

from .text_heads import HEAD, TEXT_SUFFIXES, kind_of_head

_LOOKED_AT = 500  # tables and settings whose first lines are read; more of them are counted only
_NAMED = 6


def tell_passed_over(source: str, paths: Sequence[str]) -> Iterable[Problem]:
    """What files of a folder are that cannot hold flows: tables, logs and settings by their first lines, all others by number."""
    texts = [path for path in paths if path.lower().endswith(TEXT_SUFFIXES)][:_LOOKED_AT]
    for path in texts:
        yield _problem_of_text(path)
    known = set(texts)
    yield from count_passed_over(source, [path for path in paths if path not in known])


def _problem_of_text(path: str) -> Problem:
    try:
        with open(path, "rb") as file:  # noqa: PTH123
            kind = kind_of_head(path, file.read(HEAD))
    except OSError as error:
        message = f"expected a readable file, found: {error.strerror or error}"
        return Problem("source-unreadable", "error", message, Origin(path), "check its rights")
    words, hint = kind if kind is not None else ("another file", "")
    return Problem("other-kind", "info", f"expected a flow definition, found {words}", Origin(path), hint)


def count_passed_over(source: str, paths: Sequence[str]) -> Iterable[Problem]:
    """How many files were not looked into, by their suffixes; nothing where there are none."""
    if not paths:
        return
    suffixes = Counter(PurePosixPath(path).suffix.lower() or "no suffix" for path in paths)
    named = [f"{suffix} ({number:,})" for suffix, number in suffixes.most_common(_NAMED)]
    more = len(suffixes) - len(named)
    words = ", ".join(named) + (f" and {count_words(more, 'other suffix')}" if more else "")
    message = f"{count_words(len(paths), 'file')} not looked into, by suffix: {words}"
    hint = "a decoder plug-in can read other kinds of files"
    yield Problem("other-suffix", "info", message, Origin(source), hint)

# Builders write one flow into several files, or what many flows share into one. Which file belongs to which is said by their names.
"""Files that belong to others."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterable, Sequence
from typing import Any

from zeitbuch.core.model.problems import Problem, ZeitbuchError, place_within
from zeitbuch.core.model.records import Origin
from zeitbuch.readers.dialects.flows import DialectReader
from zeitbuch.readers.dialects.reshape_rules import BesideRule
from zeitbuch.readers.dialects.rules import Dialect

from .documents import Document, Opening

Load = Callable[[Origin], bytes | None]  # the bytes of a file or member; None where there is none


def file_beside(rule: BesideRule, name: str, wanted: str, given: str) -> str | None:
    """The name that goes with a name: of the file beside for ``main``, and the other way round; None where the pattern does not
    fit."""
    head, star, tail = given.partition("*")
    if not star:
        return wanted if name == given and "*" not in wanted else None
    hit = re.fullmatch(f"{re.escape(head)}(.+){re.escape(tail)}", name, re.DOTALL)
    return wanted.replace("*", hit[1], 1) if hit else None


def _beside(origin: Origin, name: str) -> Origin:
    """The place of another file in the same folder, or of another member of the same package."""
    if origin.member is not None:
        folder, slash, _ = origin.member.rpartition("/")
        return Origin(origin.source, member=f"{folder}{slash}{name}")
    return Origin(os.path.join(os.path.dirname(origin.source), name))  # noqa: PTH118, PTH120


def _name_of(origin: Origin) -> str:
    return origin.file.replace("!", "/").replace("\\", "/").rpartition("/")[2]


def _missing_problem(name: str, reader: DialectReader, origin: Origin) -> Problem:
    found, hint = "found none", "export it as well, into the same folder or package; what stands in it is missing"
    if origin.source.startswith(("git:", "@")):
        found = "which is not looked up in a revision or the book"
        hint = "read the folder itself; what stands in that file is missing here"
    message = f"expected the file '{name}' beside it, {found} (dialect '{reader.dialect.name}', `beside`)"
    return Problem("beside-missing", "finding", message, origin, hint)


def with_files_beside(dialect: Dialect, documents: Sequence[tuple[str, Any]]) -> list[tuple[str, Any]]:
    """Documents by name (a file, or a member behind its package), each with what stands beside it among them."""
    by_name = dict(documents)
    found = []
    for name, value in documents:
        source, _, member = name.partition("!")
        origin = Origin(source, member=member or None)
        for rule in dialect.beside if isinstance(value, dict) else ():
            other = file_beside(rule, _name_of(origin), rule.file, rule.main)
            place = _beside(origin, other).file if other is not None else ""
            if place in by_name:
                value = {**value, rule.into: by_name[place]}
        found.append((name, value))
    return found


class FilesBeside:
    """Puts into a document what stands in the files beside it."""

    def __init__(self, dialects: Iterable[DialectReader], opening: Opening, load: Load) -> None:
        self.rules = [rule for reader in dialects for rule in reader.dialect.beside]
        self.opening, self.load = opening, load

    def put_into(self, reader: DialectReader, document: Document) -> tuple[Any, int, list[Problem]]:
        """The value of a document with the files beside it, how many values there are, and what could not be read."""
        value, counted = document.value, document.counted
        problems: list[Problem] = []
        for rule in reader.dialect.beside:
            name = file_beside(rule, _name_of(document.origin), rule.file, rule.main)
            if name is None or not isinstance(value, dict):
                continue
            place = _beside(document.origin, name)
            raw = self.load(place)
            if raw is None:
                problems.append(_missing_problem(name, reader, document.origin))
                continue
            try:
                other = self.opening.open_file(place, raw)
            except ZeitbuchError as error:
                problems.append(place_within(error.problem, place))
                continue
            value = {**value, rule.into: other.value}
            counted += other.counted
            problems += other.problems
        return value, counted, problems

    def main_of(self, origin: Origin) -> Origin | None:
        """The file that a file belongs to; None when it belongs to none that is there."""
        for rule in self.rules:
            name = _name_of(origin)
            if "*" in rule.file:
                main = file_beside(rule, name, rule.main, rule.file)
                if main is not None and main != name and self.load(_beside(origin, main)) is not None:
                    return _beside(origin, main)
            elif name == rule.file:
                return _beside(origin, rule.main)
        return None

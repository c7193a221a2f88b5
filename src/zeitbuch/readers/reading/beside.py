# Builders write one flow into several files, or what many flows share into one. Which file belongs to which is said by their names.
"""Files that belong to others."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Any

from zeitbuch.core.model.problems import Problem, ZeitbuchError, place_within
from zeitbuch.core.model.records import Origin
from zeitbuch.readers.dialects.flows import DialectReader
from zeitbuch.readers.dialects.reshape_rules import BesideRule
from zeitbuch.readers.dialects.rules import Dialect
from zeitbuch.readers.input.sources import STDIN_NAME

from .documents import Document, Opening

Load = Callable[
    [Origin], bytes | Problem | None
]  # a file or member, or why it cannot be read; None where there is none


def file_beside(rule: BesideRule, name: str, wanted: str, given: str) -> str | None:
    """The name that goes with a name: of the file beside for ``main``, and the other way round; None where the pattern does not
    fit."""
    head, star, tail = given.partition("*")
    if not star:
        return wanted if name == given and "*" not in wanted else None
    hit = re.fullmatch(f"{re.escape(head)}(.+){re.escape(tail)}", name, re.DOTALL)
    return wanted.replace("*", hit[1], 1) if hit else None


def _folder_and_name(origin: Origin) -> tuple[str, str]:
    """The folder of a file, or of a member of a package, with what divides them; and the bare name. The name of a revision or of a
    state of the book ends like a folder does."""
    path = origin.member or origin.source
    cut = max(path.rfind("/"), path.rfind("\\"))
    if origin.member is None and is_held_name(path):
        cut = max(cut, path.rfind(":"))
    return path[: cut + 1], path[cut + 1 :]


def is_held_name(source: str) -> bool:
    """Whether a source is a file of a revision or of the book."""
    return source.startswith(("git:", "@"))


def _beside(origin: Origin, name: str) -> Origin:
    """The place of another file in the same folder, or of another member of the same package."""
    path = _folder_and_name(origin)[0] + name
    return Origin(origin.source, member=path) if origin.member is not None else Origin(path)


def _missing_problem(name: str, reader: DialectReader, origin: Origin) -> Problem:
    message = f"expected the file '{name}' beside it, found none (dialect '{reader.dialect.name}', `beside`)"
    hint = "export it as well, into the same folder or package; what stands in it is missing"
    if origin.source == STDIN_NAME:
        message = f"expected the file '{name}' beside it, found standard input, which has no folder"
        hint = "name the file itself; what stands in the other is missing"
    return Problem("beside-missing", "finding", message, origin, hint)


def _unread_error(name: str, found: Problem, origin: Origin) -> ZeitbuchError:
    """Half a flow would say that it has no links, or no prompts: what is beside it decides whether it is read."""
    place = f" at {found.origin}" if found.origin is not None else ""
    message = f"expected the file '{name}' beside it whole, found that it cannot be read{place}: {found.message}"
    hint = "mend or export that file again; without it nothing is said about the flows here"
    return ZeitbuchError(Problem("beside-unread", "error", message, origin, hint))


def names_beside(dialects: Iterable[Dialect], name: str) -> Iterator[str]:
    """The names of the files that would belong to a file."""
    folder, bare = _folder_and_name(Origin(name))
    for rule in (rule for dialect in dialects for rule in dialect.beside):
        other = file_beside(rule, bare, rule.file, rule.main)
        if other is not None:
            yield f"{folder}{other}"


def with_files_beside(dialect: Dialect, documents: Sequence[tuple[str, Any]]) -> list[tuple[str, Any]]:
    """Documents by name (a file, or a member behind its package), each with what stands beside it among them."""
    by_name = dict(documents)
    found = []
    for name, value in documents:
        source, _, member = name.partition("!")
        origin = Origin(source, member=member or None)
        for rule in dialect.beside if isinstance(value, dict) else ():
            other = file_beside(rule, _folder_and_name(origin)[1], rule.file, rule.main)
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
        """The value of a document with the files beside it, how many values there are, and what is odd. Raises ZeitbuchError where
        one of them is there and cannot be read."""
        value, counted = document.value, document.counted
        problems: list[Problem] = []
        for rule in reader.dialect.beside if isinstance(value, dict) else ():
            stream = document.origin.source == STDIN_NAME
            name = (
                rule.file if stream else file_beside(rule, _folder_and_name(document.origin)[1], rule.file, rule.main)
            )
            if name is None:
                continue
            other = None if stream else self._open_beside(name, document.origin)
            if other is None:
                problems.append(_missing_problem(name, reader, document.origin))
                continue
            value = {**value, rule.into: other.value}
            counted += other.counted
            problems += other.problems
        return value, counted, problems

    def _open_beside(self, name: str, origin: Origin) -> Document | None:
        place = _beside(origin, name)
        raw = self.load(place)
        if isinstance(raw, Problem):
            raise _unread_error(name, raw, origin)
        try:
            return self.opening.open_file(place, raw) if raw is not None else None
        except ZeitbuchError as error:
            raise _unread_error(name, place_within(error.problem, place), origin) from None

    def main_of(self, origin: Origin) -> Origin | None:
        """The file that a file belongs to; None when it belongs to none that is there."""
        for rule in self.rules:
            name = _folder_and_name(origin)[1]
            if "*" in rule.file:
                main = file_beside(rule, name, rule.main, rule.file)
                if main is not None and main != name and self.load(_beside(origin, main)) is not None:
                    return _beside(origin, main)
            elif name == rule.file:
                return _beside(origin, rule.main)
        return None

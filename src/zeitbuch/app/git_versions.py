# What git asks for: the flows of one file in two versions, the outline of a file, what the next commit does to the sources of the
# workspace. A file that is no flow is left to git's own ways.
"""Versions for git: drivers and hooks."""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Sequence
from pathlib import Path

from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Estate
from zeitbuch.readers.dialects.rules import suffixes_of
from zeitbuch.readers.input.git import PREFIX, has_commit, path_from_top, revision_files, staged_paths
from zeitbuch.readers.input.sources import Held, Input

from .session import Session


def staged_versions(session: Session) -> tuple[Estate, Estate] | None:
    """The workspace's sources in the last commit (nothing before the first) and as they are staged; None when the next commit does
    not touch them. Raises ZeitbuchError outside a repository, or for sources that are no paths."""
    sources = session.sources([])
    for source in sources:
        if source.startswith((PREFIX, "@", "-")):
            raise fail(
                "option", f"expected sources of the workspace that are files or folders beside --staged, found {source}"
            )
    read_by = [path for path in session.workspace.own_files() if path]
    if not _touch(staged_paths(), [path_from_top(path) for path in (*sources, *read_by)]):
        return None
    also = suffixes_of(session.dialects)

    def inputs(revision: str) -> list[Input]:
        found: list[Input] = []
        for source in sources:
            found += revision_files(f"{PREFIX}{revision}:{source}", session.limits, also, missing_is_empty=True)
        return found

    return session.compare_inputs(inputs("HEAD") if has_commit() else [], inputs(""))


def _touch(staged: Iterable[str], places: Iterable[str]) -> bool:
    wanted = list(places)
    return any(place == "." or path == place or path.startswith(f"{place}/") for path in staged for place in wanted)


def versions_of_file(session: Session, path: str, old: str, new: str) -> tuple[Estate, Estate] | None:
    """The flows of one file in two versions, as git hands them to a driver (the empty device: not there); None where there is no flow,
    or not all could be read."""
    found = session.compare_inputs(_held(path, old), _held(path, new))
    whole = not any(problem.severity == "error" for problem in session.problems)
    return found if whole and (found[0].flows or found[1].flows) else None


def _held(path: str, file: str) -> list[Input]:
    data = bytes_of(file)
    return [Held(path, data)] if data is not None else []


def merge_native_files(session: Session, files: Sequence[str], path: str) -> str | None:
    """The text of a native file in which two versions (ours, theirs) are brought together that set out from one (base): ``files`` in git's
    order base, ours, theirs. None where that would lose something: the flows contradict each other, or a file is not as Zeitbuch writes it."""
    from zeitbuch.core.diff.merging import merge_estates
    from zeitbuch.writers.exchange.native import write_json, write_yaml
    from zeitbuch.writers.theme.terminal import TextLook

    write = write_json if path.endswith(".json") else write_yaml
    look = TextLook(80, False, False, False, 1.0)
    sides: list[Estate] = []
    for file in files:
        raw = bytes_of(file)
        if raw is None:
            return None
        estate = session.estate_of([Held(path, raw)])
        if session.problems or write(estate, look).encode() != raw:
            return None
        sides.append(estate)
    merged = merge_estates(*sides)
    return write(merged, look) if merged is not None else None


def bytes_of(file: str) -> bytes | None:
    """The bytes of a file; None of the empty device, or of what is no file."""
    return Path(file).read_bytes() if Path(file).is_file() else None


def plain_difference(path: str, old: str, new: str) -> str:
    """The lines that differ, as git itself shows them."""
    sides = [bytes_of(file) or b"" for file in (old, new)]
    if sides[0] == sides[1]:
        return ""
    if any(b"\0" in side for side in sides):
        return f"Binary files a/{path} and b/{path} differ\n"
    lines = [side.decode("utf-8", "replace").splitlines(keepends=True) for side in sides]
    names = [
        f"{letter}/{path}" if bytes_of(file) is not None else "/dev/null"
        for letter, file in zip("ab", (old, new), strict=True)
    ]
    made = difflib.unified_diff(lines[0], lines[1], names[0], names[1])
    return "".join(line if line.endswith("\n") else f"{line}\n\\ No newline at end of file\n" for line in made)

# Where bytes come from: a file, a folder (recursive), standard input. One unreadable file never stops the others.
"""Sources of exports: names in, (name, bytes or problem) out, in a fixed order."""

from __future__ import annotations

import os
import re
import stat
import sys
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from msgspec import Struct

from zeitbuch.core.model.problems import Problem, ZeitbuchError
from zeitbuch.core.model.records import Origin

from .decoder_plugins import decoder_by_suffix
from .limits import Limits, too_large
from .passed_over import tell_passed_over

SUFFIXES = (".json", ".yaml", ".yml", ".xml", ".bpmn")
STDIN = "-"
STDIN_NAME = "<stdin>"  # as places name it
Suffixes = tuple[str, ...]


_ALL = 1 << 62
LONGEST = 200  # letters of a name in a message
PACKED = (".zip", ".tar", ".tar.gz", ".tgz")


_ADDRESS = re.compile(r"[a-z][a-z0-9+.-]+:(?:/|:)")  # two letters at least: a drive has one
_USERS = re.compile(r"\b((?:https?|ftp)://)[^/@\s]*@")  # a token may stand where a name is expected
_PASSWORDS = re.compile(r"(://[^/:@\s]*):[^/@\s]*@")
_SIGNATURES = re.compile(r"\b(https?://[^\s?]*)\?\S*")  # elsewhere a question mark is a letter of a name like others


def is_address(source: str) -> bool:
    """Whether a source is named by an address (s3://, https://, zip::...) rather than a path; a file of that name is a file."""
    return _ADDRESS.match(source) is not None and not source.startswith("git:") and not os.path.lexists(source)


def plain_address(text: str) -> str:
    """An address, or words that hold some, without what should not be shown: users and passwords, and signatures behind a question
    mark."""
    return _SIGNATURES.sub(r"\1", _PASSWORDS.sub(r"\1@", _USERS.sub(r"\1", text)))


def name_below(address: str, name: str) -> str:
    """The name of a file within the address that was named, or its path where it lies elsewhere."""
    root = plain_address(address).rstrip("/")
    if name.startswith(f"{root}/"):
        return name[len(root) + 1 :]
    if "!" in name and "://" not in name.rpartition("!")[2]:
        return name.rpartition("!")[2]  # of a package that was looked into
    path = name.partition("://")[2]
    return path.rpartition("/")[2] if name == root else path


class Item(NamedTuple):
    """One input: its name as shown, and its bytes or the problem that kept us from them.

    ``member`` names a member of a package; None as data means a member that is no candidate for a flow.
    """

    name: str
    data: bytes | Problem | None
    member: str | None = None


class Held(Struct, frozen=True):
    """An input whose bytes are at hand already (of a revision, of the book), with the name that messages give it; of what was fetched
    they lie in the file ``path``."""

    name: str
    raw: bytes = b""
    path: str = ""

    @property
    def data(self) -> bytes:
        """Its bytes. Raises OSError where its file is gone."""
        return _read_file(self.path, _ALL) if self.path else self.raw


Input = str | Held | Problem


def is_package(name: str) -> bool:
    """Whether a file is read as a package."""
    return name.lower().endswith(PACKED)


def is_candidate(name: str, also: Suffixes = ()) -> bool:
    """Whether a file may hold flows, by its suffix: one of ours, one that an active dialect names (``also``), or one that a decoder
    of another package takes."""
    lower = name.lower()
    return lower.endswith(SUFFIXES + PACKED + also) or ("." in lower and decoder_by_suffix(lower) is not None)


def _files_below(folder: str, also: Suffixes) -> tuple[list[str], list[str], list[Problem]]:
    """The regular files below a folder that may hold flows, those that may not, and folders that may not be looked into. A pipe
    or a device among the files would be waited for without end; what is hidden is left alone."""
    found: list[str] = []
    others: list[str] = []
    closed: list[Problem] = []
    folders = [folder]
    while folders:
        here = folders.pop()
        try:
            with os.scandir(here) as entries:
                for entry in entries:
                    if entry.name.startswith("."):
                        continue
                    if entry.is_dir(follow_symlinks=False):
                        folders.append(entry.path)
                    elif entry.is_file():
                        (found if is_candidate(entry.name, also) else others).append(entry.path)
        except OSError as error:
            message = f"expected a folder that may be looked into, found: {error.strerror or error}"
            closed.append(Problem("source-unreadable", "error", message, Origin(here), "check its rights"))
    return sorted(found), sorted(others), closed


def _mode_of(source: str) -> int | None:
    """What a path is, as the system says; None when nothing is there."""
    try:
        return os.stat(source).st_mode  # noqa: PTH116
    except (OSError, ValueError):
        return None


def list_files(sources: Iterable[str], also: Suffixes = ()) -> Iterator[Input]:
    """The files behind the sources, folders expanded; a source that is not there is a problem. A file whose name is no text is
    read at once, and goes by a name that can be written."""
    for one in _listed(sources, also):
        if isinstance(one, str) and not _is_text(one):
            item = load_input(one, Limits())
            shown = os.fsencode(one).decode("utf-8", "backslashreplace")
            yield Held(shown, item.data) if isinstance(item.data, bytes) else item.data or shown
        else:
            yield one


def _is_text(name: str) -> bool:
    try:
        name.encode()
    except UnicodeEncodeError:
        return False
    return True


def _listed(sources: Iterable[str], also: Suffixes) -> Iterator[str | Problem]:
    for source in sources:
        mode = _mode_of(source)
        if source == STDIN or (mode is not None and (stat.S_ISREG(mode) or stat.S_ISFIFO(mode))):
            yield source
        elif mode is not None and not stat.S_ISDIR(mode):
            message = "expected a file, folder or pipe, found a device or socket"
            yield Problem("source-missing", "error", message, Origin(source), "name the exported files")
        elif mode is not None:
            below, others, closed = _files_below(source, also)
            if not below and not closed:
                yield Problem(
                    "source-empty",
                    "error",
                    f"expected exports ({', '.join(SUFFIXES + PACKED)}) in the folder, found none",
                    Origin(source),
                    "name the folder that holds the exported files",
                )
            yield from below
            yield from closed
            yield from tell_passed_over(source, others)
        else:
            yield Problem(
                "source-missing",
                "error",
                "expected a file or folder, found nothing of that name",
                Origin(source if len(source) <= LONGEST else f"{source[:LONGEST]}..."),
                "check the spelling; a path is taken from the current folder",
            )


def _read_file(name: str, most: int) -> bytes:
    """The bytes of a file, at most so many: one call of the system for a small file."""
    handle = os.open(name, os.O_RDONLY)
    try:
        size = min(os.fstat(handle).st_size + 1, most)
        data = os.read(handle, size)
        if len(data) < size - 1 or len(data) == size < most:
            # A pipe, a growing file, or one too large for a single call.
            parts = [data]
            left = most - len(data)
            while left > 0 and (more := os.read(handle, min(left, 1 << 24))):
                parts.append(more)
                left -= len(more)
            data = b"".join(parts)
        return data
    finally:
        os.close(handle)


def name_of(one: str | Held) -> str:
    """What an input is called."""
    return one if isinstance(one, str) else one.name


def load_input(one: str | Held, limits: Limits) -> Item:
    """Read one input. Never raises for what the file system says: the problem is returned."""
    if isinstance(one, Held) and not one.path:
        return Item(one.name, one.raw)
    name, path = (one.name, one.path) if isinstance(one, Held) else (one, one)
    try:
        most = limits.bytes + 1
        data = sys.stdin.buffer.read(most) if name == STDIN else _read_file(path, most)
        if len(data) > limits.bytes:
            raise too_large("bytes", limits.bytes, "a larger file")
    except OSError as error:
        reason = error.strerror or str(error)
        return Item(
            name,
            Problem(
                "source-unreadable",
                "error",
                f"expected a readable file, found: {reason}",
                Origin(name),
                "check its rights",
            ),
        )
    except ZeitbuchError as error:
        problem = error.problem
        return Item(name, Problem(problem.code, problem.severity, problem.message, Origin(name), problem.hint))
    return Item(STDIN_NAME if name == STDIN else name, data)


def input_digests(inputs: Iterable[Input], limits: Limits) -> list[bytes | None]:
    """For each input the hash of its bytes; None where there are none to hash (standard input, a problem)."""
    import hashlib

    found: list[bytes | None] = []
    for one in inputs:
        data = None if isinstance(one, Problem) or one == STDIN else load_input(one, limits).data
        found.append(hashlib.sha256(data).digest() if isinstance(data, bytes) else None)
    return found

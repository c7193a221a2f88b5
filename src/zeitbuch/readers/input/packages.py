# Packages (zip, tar, tar.gz, nested) are read member by member, in memory and never to disk: a member's name is a
# label and no path. What a package may cost is limited before anything is unpacked.
"""Reading the members of packages."""

from __future__ import annotations

import io
import tarfile
import zipfile
import zlib
from collections.abc import Callable, Iterator
from typing import Any, cast

from zeitbuch.core.model.problems import Problem, ZeitbuchError, fail
from zeitbuch.core.model.records import Origin

from .limits import Limits, too_large
from .sources import Item, Suffixes, is_candidate, is_package

_BROKEN = (
    zipfile.BadZipFile,
    tarfile.TarError,
    zlib.error,
    EOFError,
    OSError,
    NotImplementedError,
    RuntimeError,
    ValueError,
)
_SMALL = 64  # bytes that a block which describes a member counts for: a package has one or three for each
_ENTRY = b"PK\x01\x02"  # an entry of the directory of a zip file
Member = tuple[str, int, Callable[[], bytes]]  # name, stated size, what reads it


class _Budget:
    """What is left of the limits of one outermost package; ``also`` are suffixes of members that may be flows too."""

    def __init__(self, limits: Limits, also: Suffixes) -> None:
        self.limits = limits
        self.also = also
        self.members = limits.members
        self.unpacked = limits.unpacked
        self.headers = limits.headers

    def count_members(self, n: int) -> None:
        self.members -= n
        if self.members < 0:
            raise too_large("members", self.limits.members, "more members in the package")

    def count_header(self, n: int) -> None:
        self.headers -= n
        if self.headers < 0:
            raise too_large("headers", self.limits.headers, "more bytes that only describe members")

    def spend_bytes(self, n: int) -> None:
        self.unpacked -= n
        if self.unpacked < 0:
            raise too_large("unpacked", self.limits.unpacked, "a package that unpacks to more bytes")


class _Counting:
    """What an archive is read from. While it looks for its next member, what it reads is counted before: long names and extended headers
    stand in the archive like members, and may be as large."""

    def __init__(self, file: Any, count: Callable[[int], None]) -> None:
        self.file, self.count = file, count
        self.looking = False

    def read(self, size: int = -1) -> bytes:
        """Bytes of the archive."""
        if self.looking and size >= tarfile.BLOCKSIZE:
            self.count(size if size > tarfile.BLOCKSIZE else _SMALL)
        read: bytes = self.file.read(size)
        return read

    def __getattr__(self, name: str) -> Any:
        return getattr(self.file, name)


class _CountedTar(tarfile.TarFile):
    """A tar archive of which ``count`` is told what only describes members, before it is read."""

    def __init__(self, name: Any = None, mode: Any = "r", fileobj: Any = None, *, count: Any, **more: Any) -> None:
        self._counting = _Counting(fileobj, count)
        super().__init__(name, mode, cast("Any", self._counting), **more)

    def next(self) -> tarfile.TarInfo | None:
        """The next member."""
        self._counting.looking = True
        try:
            return super().next()
        finally:
            self._counting.looking = False


def _zip_members(data: bytes, budget: _Budget) -> Iterator[Member]:
    if data.count(_ENTRY) > budget.members:
        budget.count_members(data.count(_ENTRY))  # before each is made a record
    with zipfile.ZipFile(io.BytesIO(data)) as package:
        infos = package.infolist()
        budget.count_members(len(infos))
        for info in sorted(infos, key=lambda i: i.filename):
            if not info.is_dir():

                def read(info: zipfile.ZipInfo = info) -> bytes:
                    with package.open(info) as member:
                        return member.read(budget.limits.bytes + 1)

                yield info.filename, info.file_size, read


def _tar_members(data: bytes, budget: _Budget) -> Iterator[Member]:
    opened = cast("Any", _CountedTar).open(fileobj=io.BytesIO(data), mode="r:*", count=budget.count_header)
    with opened as package:
        # One after the other, as they come: looking ahead would unpack everything.
        for info in package:
            budget.count_members(1)
            package.members = []  # it would keep them all
            if info.issparse():
                raise fail(
                    "package",
                    f"expected plain members, found a sparse one, '{info.name[:200]}'",
                    "make the package anew without --sparse",
                )
            if info.isfile():

                def read(info: tarfile.TarInfo = info) -> bytes:
                    member = package.extractfile(info)
                    return member.read(budget.limits.bytes + 1) if member is not None else b""

                if not is_candidate(info.name, budget.also):
                    budget.spend_bytes(info.size)  # passed over, but unpacked on the way
                yield info.name, info.size, read


def _is_unsafe(name: str) -> bool:
    parts = name.replace("\\", "/").split("/")
    return ".." in parts or name.startswith(("/", "\\")) or ":" in parts[0] or "\x00" in name


def package_members(path: str, data: bytes, limits: Limits, also: Suffixes = ()) -> Iterator[Item]:
    """The members of a package that may be flows, or problems; other members come with no data."""
    yield from _nested_members(path, "", data, _Budget(limits, also), 1)


def _nested_members(path: str, prefix: str, data: bytes, budget: _Budget, depth: int) -> Iterator[Item]:
    limits = budget.limits
    here = prefix or None

    def problem(error: ZeitbuchError, member: str | None) -> Item:
        p = error.problem
        return Item(path, Problem(p.code, p.severity, p.message, Origin(path, member=member), p.hint), member)

    try:
        if depth > limits.nesting:
            raise too_large("nesting", limits.nesting, "packages within packages deeper")
        inside = _zip_members(data, budget) if data[:2] == b"PK" else _tar_members(data, budget)
        for name, stated, read in inside:
            label = f"{prefix}!{name}" if prefix else name
            nested = is_package(name)
            if not nested and not is_candidate(name, budget.also):
                yield Item(path, None, label)
                continue
            try:
                raw = _read_member(budget, name, stated, limits, read)
            except ZeitbuchError as error:
                yield problem(error, label)
                if error.problem.code == "limit" and budget.unpacked < 0:
                    return
                continue
            except _BROKEN as error:
                yield problem(_unreadable_words(error), label)
                continue
            if nested:
                yield from _nested_members(path, label, raw, budget, depth + 1)
            else:
                yield Item(path, raw, label)
    except ZeitbuchError as error:
        yield problem(error, here)
    except _BROKEN as error:
        yield problem(_unreadable_words(error), here)


def _read_member(budget: _Budget, name: str, stated: int, limits: Limits, read: Callable[[], bytes]) -> bytes:
    if _is_unsafe(name):
        raise fail(
            "package-path",
            f"expected a member's name within the package, found '{name[:200]}'",
            "the member is not read; make the package anew",
        )
    if stated > limits.bytes:
        raise too_large("bytes", limits.bytes, f"a member of {stated:,} bytes")
    budget.spend_bytes(stated)
    raw = read()
    if len(raw) > limits.bytes:
        raise too_large("bytes", limits.bytes, "a larger member")
    budget.spend_bytes(max(0, len(raw) - stated))
    return raw


def _unreadable_words(error: Exception) -> ZeitbuchError:
    reason = str(error).splitlines()[0] if str(error) else type(error).__name__
    return fail(
        "package",
        f"expected a package that can be unpacked (zip, tar, tar.gz), found: {reason[:200]}",
        "download the package again; one with a password must be unpacked by hand",
    )

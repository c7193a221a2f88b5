# One member of a package put in the place of another: all others keep their bytes, names, times and order.
"""Replacing a member of a zip or tar file."""

from __future__ import annotations

import gzip
import io
import tarfile
import zipfile
from collections.abc import Callable

from zeitbuch.core.model.problems import fail


def replace_member(name: str, data: bytes, member: str, source: bytes, source_name: str) -> bytes:
    """The package ``data`` with its ``member`` as it stands in the package ``source``. Raises ZeitbuchError when one of them is no
    package or has no such member."""
    fresh = _member_of(source_name, source, member)
    return _of_kind(name, data)[1](name, data, member, fresh)


def _of_kind(
    name: str, data: bytes
) -> tuple[Callable[[bytes, str], bytes | None], Callable[[str, bytes, str, bytes], bytes]]:
    if zipfile.is_zipfile(io.BytesIO(data)):
        return _from_zip, _into_zip
    try:
        with tarfile.open(fileobj=io.BytesIO(data)):
            return _from_tar, _into_tar
    except tarfile.TarError:
        raise fail("package", f"{name}: expected a zip or tar file, found something else") from None


def _member_of(name: str, data: bytes, member: str) -> bytes:
    found = _of_kind(name, data)[0](data, member)
    if found is None:
        raise fail(
            "package",
            f"{name}: expected the member '{member}' itself, found none",
            "a member of a package within the package is restored with the whole file (-o FILE)",
        )
    return found


def _from_zip(data: bytes, member: str) -> bytes | None:
    with zipfile.ZipFile(io.BytesIO(data)) as package:
        return package.read(member) if member in package.namelist() else None


def _from_tar(data: bytes, member: str) -> bytes | None:
    with tarfile.open(fileobj=io.BytesIO(data)) as package:
        info = next((info for info in package if info.name == member and info.isfile()), None)
        found = package.extractfile(info) if info is not None else None
        return found.read() if found is not None else None


def _into_zip(name: str, data: bytes, member: str, fresh: bytes) -> bytes:
    made = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as package, zipfile.ZipFile(made, "w") as target:
        _require_member(name, member, package.namelist())
        target.comment = package.comment
        for info in package.infolist():
            target.writestr(info, fresh if info.filename == member else package.read(info), info.compress_type)
    return made.getvalue()


def _into_tar(name: str, data: bytes, member: str, fresh: bytes) -> bytes:
    made = io.BytesIO()
    with (
        tarfile.open(fileobj=io.BytesIO(data)) as package,
        tarfile.open(fileobj=made, mode="w", format=tarfile.PAX_FORMAT) as target,
    ):
        infos = package.getmembers()
        _require_member(name, member, [info.name for info in infos])
        for info in infos:
            held = package.extractfile(info) if info.isfile() else None
            raw = held.read() if held is not None else None
            if info.name == member:
                raw, info.size = fresh, len(fresh)
            target.addfile(info, io.BytesIO(raw) if raw is not None else None)
    # No time of packing: the same input gives the same bytes.
    return gzip.compress(made.getvalue(), mtime=0) if data[:2] == b"\x1f\x8b" else made.getvalue()


def _require_member(name: str, member: str, names: list[str]) -> None:
    if member not in names:
        raise fail(
            "package",
            f"{name}: expected a package with the member '{member}', found none",
            "name the package it belongs to",
        )

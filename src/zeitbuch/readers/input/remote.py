# Exports in object storage and wherever else fsspec reaches. What was named is fetched, nothing else; an object that has not changed
# since (by its tag) is taken from the copy of it in the user's cache folder, which only its owner reads.
"""Sources by address: s3://, gs://, az://, https://, memory://, zip://..."""

from __future__ import annotations

import contextlib
import hashlib
import os
import tempfile
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from zeitbuch.core.model.extras import telling_missing
from zeitbuch.core.model.problems import Problem, ZeitbuchError, fail
from zeitbuch.core.model.records import Origin

from .limits import Limits, too_large
from .passed_over import count_passed_over
from .sources import Held, Suffixes, is_candidate, plain_address

BATCH = 200  # objects asked for at a time
TRIES = 3  # of what fails for no reason of its own
PAUSE = 0.5  # seconds before the second try; twice as long before the third
STALE = 60 * 86400.0  # seconds after which a copy that nobody asked for is dropped
_TAGS = ("ETag", "etag", "e_tag", "md5Hash", "content_md5", "crc", "sha256", "checksum", "VersionId", "generation")
_TIMES = ("LastModified", "last_modified", "mtime", "created", "updated")
_FINAL = (FileNotFoundError, PermissionError, IsADirectoryError, NotADirectoryError)  # another try would not help


class _Store(NamedTuple):
    """A file system of fsspec, and what turns a path of it into an address."""

    system: Any
    address_of: Callable[[str], str]


class _Object(NamedTuple):
    path: str
    size: int | None
    tag: str  # empty where nothing tells one state from another


def fetch_files(
    address: str, limits: Limits, also: Suffixes = (), cache: Path | None = None, advance: Callable[[int, int], None] | None = None
) -> list[Held | Problem]:  # fmt: skip
    """The files at an address, folders expanded, as inputs whose bytes lie in ``cache`` (None: in a folder that goes with the program).
    ``advance`` is told how many of how many objects are there. One that cannot be had is a problem in its place. Raises ZeitbuchError for
    an address that is none, or cannot be reached."""
    store, root = _open_store(address)
    try:
        with _told(address):
            listed = _listed(store, root)
    except (ImportError, ValueError) as error:
        raise _unreachable(address, _words_of(error)) from None
    wanted = {name: one for name, one in listed.items() if is_candidate(name, also) or name == root}
    others = [store.address_of(name) for name in listed if name not in wanted]
    if not wanted:
        raise fail(
            "source-empty",
            "expected exports at the address, found none",
            "name the folder that holds them",
            Origin(plain_address(address)),
        )
    folder = cache / "remote" if cache is not None else Path(_passing_folder())
    found = list(_fetched(store, wanted, limits, folder, advance))
    _drop_stale(folder)
    return [*found, *count_passed_over(plain_address(address), others)]


def _open_store(address: str) -> tuple[_Store, str]:
    with telling_missing():
        import fsspec
    try:
        with _told(address):
            system, root = fsspec.core.url_to_fs(address)
    except ImportError as error:
        reason = str(error).split("\n")[0]
        raise _unreachable(address, f"a library is missing: {reason}", "install the library that it names") from None
    except ValueError as error:
        known = "s3://, gs://, az://, https://, memory://, zip://... are known" if "rotocol" in str(error) else ""
        raise _unreachable(address, _words_of(error), known) from None
    own, _, behind = (plain_address(part) for part in address.partition("::"))

    def address_of(path: str) -> str:
        below = path.removeprefix(root.rstrip("/")).lstrip("/")
        base = f"{behind}!{own.partition('://')[2]}" if behind else own  # as members of packages are called
        return f"{base.rstrip('/')}{'' if base.endswith('!') else '/'}{below}" if below else base

    return _Store(system, address_of), root


@contextlib.contextmanager
def _told(address: str) -> Iterator[None]:
    """What a store raises, as a message."""
    try:
        yield
    except (ZeitbuchError, ImportError, ValueError):
        raise
    except FileNotFoundError:
        message = "expected a file or folder at the address, found nothing there"
        raise fail(
            "source-missing",
            message,
            "check the spelling, and whether you may look there",
            Origin(plain_address(address)),
        ) from None
    except Exception as error:  # whatever a store's library has to say
        raise _unreachable(address, _words_of(error)) from None


def _unreachable(address: str, reason: str, hint: str = "") -> ZeitbuchError:
    return fail(
        "source-unreadable",
        f"expected an address that can be read, found: {reason}",
        hint or "check address, rights and network; credentials are those that fsspec finds",
        Origin(plain_address(address)),
    )


def _words_of(error: BaseException) -> str:
    said = plain_address(" ".join(str(error).split()))[:300]
    return f"{type(error).__name__}: {said}" if said else type(error).__name__


def _listed(store: _Store, root: str) -> dict[str, _Object]:
    """The objects at a path and below it, by path; what is hidden is left alone."""
    with contextlib.suppress(NotImplementedError):
        store.system.invalidate_cache()
    about = store.system.info(root)
    if about.get("type") != "directory":
        return {root: _object_of(root, about)}
    found: Mapping[str, Mapping[str, Any]] = store.system.find(root, detail=True)
    start = root.rstrip("/")
    shown = {path: about for path, about in found.items() if not _is_hidden(path.removeprefix(start))}
    return {path: _object_of(path, about) for path, about in sorted(shown.items()) if about.get("type") != "directory"}


def _is_hidden(path: str) -> bool:
    return any(part.startswith(".") for part in path.split("/"))


def _object_of(path: str, about: Mapping[str, Any]) -> _Object:
    size = about.get("size")
    tags = [f"{key}={about[key]}" for key in _TAGS if about.get(key)]
    times = [f"{key}={about[key]}" for key in _TIMES if about.get(key)]
    return _Object(
        path, size if isinstance(size, int) else None, f"{size} {' '.join(tags or times)}" if tags or times else ""
    )


def _fetched(
    store: _Store, wanted: Mapping[str, _Object], limits: Limits, folder: Path, advance: Callable[[int, int], None] | None
) -> Iterator[Held | Problem]:  # fmt: skip
    objects = list(wanted.values())
    for begin in range(0, len(objects), BATCH):
        batch = objects[begin : begin + BATCH]
        copies = {one.path: _copy_path(store, one, folder) for one in batch}
        small = [one for one in batch if one.size is None or one.size <= limits.bytes]
        missing = [one.path for one in small if not (one.tag and copies[one.path].is_file())]
        failed = _copy_objects(store, missing, copies) if missing else {}
        for one in batch:
            yield _input_of(store, one, copies[one.path], failed.get(one.path), limits)
        if advance is not None:
            advance(begin + len(batch), len(objects))


def _copy_path(store: _Store, one: _Object, folder: Path) -> Path:
    whole = f"{store.address_of(one.path)}\n{one.path}\n{one.tag}"  # what is not shown tells objects apart, too
    mark = whole.encode("utf-8", "surrogatepass")
    return folder / hashlib.sha256(mark).hexdigest()


def _copy_objects(store: _Store, paths: Sequence[str], copies: Mapping[str, Path]) -> dict[str, BaseException]:
    """Fetches objects into their copies, all at once as far as the store can; what failed, after some tries."""
    failed: dict[str, BaseException] = {}
    left = list(paths)
    for place in range(TRIES):
        try:
            got = store.system.cat(left, on_error="return")
        except Exception as error:  # the whole request, not an object of it
            got = dict.fromkeys(left, error)
        failed = {}
        for path, data in got.items() if isinstance(got, dict) else [(left[0], got)]:
            if isinstance(data, bytes):
                _write_copy(copies[path], data)
            else:
                failed[path] = data
        left = [path for path, error in failed.items() if not isinstance(error, _FINAL)]
        if not left or place == TRIES - 1:
            break
        time.sleep(PAUSE * 2**place)
    return failed


def _write_copy(path: Path, data: bytes) -> None:
    path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    beside = path.with_name(f".{os.urandom(8).hex()}")
    try:
        with os.fdopen(os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as file:
            file.write(data)
        beside.replace(path)
    except BaseException:
        with contextlib.suppress(OSError):
            beside.unlink()
        raise


def _input_of(store: _Store, one: _Object, copy: Path, error: BaseException | None, limits: Limits) -> Held | Problem:
    name = store.address_of(one.path)
    if one.size is not None and one.size > limits.bytes:
        problem = too_large("bytes", limits.bytes, "a larger object").problem
        return Problem(problem.code, problem.severity, problem.message, Origin(name), problem.hint)
    if error is not None:
        message = f"expected an object that can be fetched, found: {_words_of(error)}"
        return Problem("source-unreadable", "error", message, Origin(name), "check its rights, and try again")
    with contextlib.suppress(OSError):
        os.utime(copy, ns=(time.time_ns(), copy.stat().st_mtime_ns))  # asked for just now
    return Held(name, path=str(copy))


def _drop_stale(folder: Path) -> None:
    now = time.time()
    with contextlib.suppress(OSError), os.scandir(folder) as entries:
        for entry in entries:
            if now - entry.stat().st_atime > STALE:
                Path(entry.path).unlink()


def _passing_folder() -> str:
    import atexit
    import shutil

    folder = tempfile.mkdtemp(prefix="zeitbuch-")
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    return folder

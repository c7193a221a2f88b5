# Exports as they stood in a revision of a git repository, read through git's own program: it lists the files and hands out their
# objects as they were stored. An archive would leave out what an attribute of the repository excludes from one. Nothing is written.
"""The source git:REV[:PATH]; without REV (git::PATH) what is staged for the next commit, as git's own :PATH is."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Iterable
from typing import NamedTuple

from zeitbuch.core.model.problems import Problem, fail
from zeitbuch.core.model.records import Origin

from .limits import Limits, too_large
from .passed_over import count_passed_over
from .sources import PACKED, SUFFIXES, Held, Suffixes, is_candidate

PREFIX = "git:"


def _split_source(source: str) -> tuple[str, str]:
    revision, _, path = source[len(PREFIX) :].partition(":")
    return revision, path


class _Stored(NamedTuple):
    """One entry of a revision: its mode as git writes it, its object, its path from the top."""

    mode: str
    object: str
    path: str


def _run_git(*words: str, given: bytes | None = None) -> subprocess.CompletedProcess[bytes]:
    try:
        # No pager, no prompt, no optional locks, nothing fetched: reading only what is there.
        quiet = {"GIT_TERMINAL_PROMPT": "0", "GIT_OPTIONAL_LOCKS": "0", "GIT_NO_LAZY_FETCH": "1", "LC_ALL": "C"}
        env = {**os.environ, **quiet}
        return subprocess.run(["git", "--no-pager", *words], input=given, capture_output=True, check=False, env=env)
    except FileNotFoundError:
        raise fail("git", "expected git's program for a git: source, found none", "install git") from None


def revision_files(
    source: str, limits: Limits, also: Suffixes = (), missing_is_empty: bool = False
) -> list[Held | Problem]:
    """The exports below a path of a revision, in the order of their names. Paths are taken from the current folder, as for
    files. Raises ZeitbuchError when there is no repository or no such revision or path (no path, with ``missing_is_empty``, is none
    yet)."""
    revision, path = _split_source(source)
    if revision.startswith("-"):
        raise fail("git", f"expected a revision, found '{revision}'", "write git:REV or git:REV:PATH")
    top = _run_git("rev-parse", "--show-toplevel")
    if top.returncode:
        raise fail(
            "git",
            f"{source}: expected a git repository, found: {_error_words(top)}",
            "run within the repository that holds the exports",
        )
    folder = top.stdout.decode("utf-8", "surrogateescape").strip()
    inside = path_from_top(path)
    if inside.startswith("../") or inside == "..":
        raise fail("git", f"{source}: expected a path within the repository, found '{path}'")
    stored = _stored_files(source, folder, revision, inside)
    if not stored and inside != "." and not missing_is_empty:
        raise fail(
            "git",
            f"{source}: expected the path '{path or '.'}' in the revision, found none",
            f"`git ls-tree -r --name-only {revision or 'HEAD'}` lists its files",
        )
    wanted = [one for one in stored if _is_wanted(one, inside, also)]
    if not wanted and missing_is_empty:
        return []
    return _read_stored(source, folder, wanted, limits, stored)


def path_from_top(path: str) -> str:
    """A path of the current folder, seen from the top of the repository."""
    base = _run_git("rev-parse", "--show-prefix").stdout.decode("utf-8", "surrogateescape").strip()
    return os.path.normpath(os.path.join(base, path or ".")).replace(os.sep, "/")  # noqa: PTH118


def has_commit() -> bool:
    """Whether anything was committed yet."""
    return _run_git("rev-parse", "--verify", "--quiet", "HEAD^{commit}").returncode == 0


def staged_paths() -> list[str]:
    """The paths (from the top) that the next commit adds, changes or removes. Raises ZeitbuchError outside a repository."""
    words = ["diff", "--cached", "--no-renames", "--name-only", "-z", "--no-ext-diff", "--ignore-submodules=all"]
    done = _run_git(*words)
    if done.returncode:
        raise fail(
            "git",
            f"expected a git repository, found: {_error_words(done)}",
            "run within the repository that holds the exports",
        )
    return [path for path in done.stdout.decode("utf-8", "surrogateescape").split("\0") if path]


class Made(NamedTuple):
    """Who made a commit, and when (RFC 3339)."""

    author: str
    at: str


def commit_of(source: str) -> Made | None:
    """Who made the commit that a source names, and when; None for what is staged."""
    revision, _ = _split_source(source)
    if not revision:
        return None
    done = _run_git("show", "-s", "--no-show-signature", "--format=%an%x00%aI", _find_commit(source, revision))
    author, _, at = done.stdout.decode("utf-8", "replace").strip().partition("\0")
    return Made(author, at) if at else None


def last_changes(source: str, paths: Iterable[str]) -> dict[str, Made]:
    """Who changed each of some files last, up to the commit that a source names, and when; by their paths from the top."""
    revision, _ = _split_source(source)
    wanted = set(paths)
    if not revision or not wanted:
        return {}
    top = _run_git("rev-parse", "--show-toplevel").stdout.decode("utf-8", "surrogateescape").strip()
    words = ["log", "-z", "--no-show-signature", "--no-renames", "--name-only", "--format=%x01%an%x02%aI%x03"]
    done = _run_git("-C", top, *words, _find_commit(source, revision))
    found: dict[str, Made] = {}
    for entry in done.stdout.decode("utf-8", "surrogateescape").split("\x01")[1:]:
        about, _, names = entry.partition("\x03")
        author, _, at = about.partition("\x02")
        for path in names.strip("\0\n").split("\0"):
            name = path.strip("\n")
            if name in wanted and name not in found:
                found[name] = Made(author, at)
        if len(found) == len(wanted):
            break
    return found


def files_around(source: str, limits: Limits, also: Suffixes = ()) -> list[Held]:
    """The exports in the folder of a single file of a revision. Raises ZeitbuchError as ``revision_files`` does."""
    revision, path = _split_source(source)
    found = revision_files(f"{PREFIX}{revision}:{os.path.dirname(path)}", limits, also)  # noqa: PTH120
    return [one for one in found if isinstance(one, Held)]


def _stored_files(source: str, folder: str, revision: str, inside: str) -> list[_Stored]:
    """The entries of a revision, or of the index, at and below a path."""
    place = [] if inside == "." else ["--", f":(top,literal){inside}"]
    if not revision:
        done = _run_git("-C", folder, "ls-files", "--stage", "-z", *place)
    else:
        commit = _find_commit(source, revision)
        place = [] if inside == "." else ["--", inside]
        done = _run_git("-C", folder, "--literal-pathspecs", "ls-tree", "-r", "-z", "--full-tree", commit, *place)
    if done.returncode:
        raise fail("git", f"{source}: expected a list of files from git, found: {_error_words(done)}")
    found: list[_Stored] = []
    for line in done.stdout.decode("utf-8", "surrogateescape").split("\0"):
        about, tab, path = line.partition("\t")
        words = about.split()
        if tab and len(words) == 3:
            # ls-tree: mode, type, object; ls-files: mode, object, stage (0 but in a merge, where 2 is ours).
            if revision:
                found.append(_Stored(words[0], words[2], path))
            elif words[2] in ("0", "2"):
                found.append(_Stored(words[0], words[1], path))
    return found


def _is_wanted(one: _Stored, inside: str, also: Suffixes) -> bool:
    if one.path == inside and one.mode.startswith("100"):
        return True  # a single file is read whatever its suffix
    return _is_plain(one) and is_candidate(one.path, also)


def _is_plain(one: _Stored) -> bool:
    """A file that is not hidden; no link, no other repository."""
    return one.mode.startswith("100") and not any(part.startswith(".") for part in one.path.split("/"))


def _find_commit(source: str, revision: str) -> str:
    known = _run_git("rev-parse", "--verify", "--quiet", f"{revision}^{{commit}}")
    if known.returncode:
        raise fail(
            "git",
            f"{source}: expected a revision of the repository, found none named '{revision}'",
            "`git log --oneline` lists them; write git:REV or git:REV:PATH",
        )
    return known.stdout.decode().strip()


def _read_stored(
    source: str, folder: str, wanted: list[_Stored], limits: Limits, every: list[_Stored]
) -> list[Held | Problem]:
    """The files wanted, with a word on repositories within the repository, which are left out."""
    prefix = source[: len(PREFIX)] + source[len(PREFIX) :].partition(":")[0]
    sizes = _object_sizes(folder, wanted)
    contents = _object_contents(folder, [one for one, size in sizes.items() if size <= limits.bytes])
    found: list[Held | Problem] = []
    for one in wanted:
        shown = f"{prefix}:{one.path}"
        if one.object in contents:
            found.append(Held(shown, contents[one.object]))
        elif sizes.get(one.object, 0) > limits.bytes:
            problem = too_large("bytes", limits.bytes, "a larger file").problem
            found.append(Problem(problem.code, problem.severity, problem.message, Origin(shown), problem.hint))
        else:
            message = "expected the file's object in the repository, found that it is not there or damaged"
            hint = "`git fsck` says more; of a partial clone the rest must be fetched first"
            found.append(Problem("source-unreadable", "error", message, Origin(shown), hint))
    others = [one.path for one in every if one.mode == "160000"]
    if others:
        message = f"repositories within the repository are left out: {', '.join(others[:5])}"
        hint = "run within each of them to read it"
        found.append(Problem("git-submodule", "warning", message, Origin(source), hint))
    known = {one.path for one in wanted}
    found += count_passed_over(source, [one.path for one in every if one.path not in known and _is_plain(one)])
    if not wanted:
        hint = "name the folder that holds the exported files"
        text = f"expected exports ({', '.join(SUFFIXES + PACKED)}) in the revision, found none"
        found.append(Problem("source-empty", "error", text, Origin(source), hint))
    return sorted(found, key=lambda f: f.name if isinstance(f, Held) else "")


def _object_sizes(folder: str, wanted: list[_Stored]) -> dict[str, int]:
    given = "".join(f"{one.object}\n" for one in wanted).encode()
    lines = _run_git("-C", folder, "cat-file", "--batch-check", given=given).stdout.decode().splitlines()
    words = [line.split() for line in lines]
    return {parts[0]: int(parts[2]) for parts in words if len(parts) == 3 and parts[2].isdecimal()}


def _object_contents(folder: str, objects: list[str]) -> dict[str, bytes]:
    """The bytes of objects: each comes after a line with its name, kind and size."""
    raw = _run_git("-C", folder, "cat-file", "--batch", given="".join(f"{name}\n" for name in objects).encode()).stdout
    found: dict[str, bytes] = {}
    at = 0
    while at < len(raw):
        end = raw.index(b"\n", at)
        parts = raw[at:end].decode().split()
        if len(parts) != 3:  # a missing object
            at = end + 1
            continue
        size = int(parts[2])
        found[parts[0]] = raw[end + 1 : end + 1 + size]
        at = end + 2 + size
    return found


def _error_words(done: subprocess.CompletedProcess[bytes]) -> str:
    lines = done.stderr.decode("utf-8", "replace").strip().splitlines()
    return lines[-1][:200] if lines else f"exit status {done.returncode}"

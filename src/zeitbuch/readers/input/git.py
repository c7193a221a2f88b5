# Exports as they stood in a revision of a git repository, read through git's own program: the files of a revision come in
# one archive and never touch the disk.
"""The source git:REV[:PATH]; without REV (git::PATH) what is staged for the next commit, as git's own :PATH is."""

from __future__ import annotations

import io
import os
import subprocess
import tarfile

from zeitbuch.core.model.problems import Problem, fail
from zeitbuch.core.model.records import Origin

from .limits import Limits, too_large
from .sources import PACKED, SUFFIXES, Held, is_candidate

PREFIX = "git:"


def _split_source(source: str) -> tuple[str, str]:
    revision, _, path = source[len(PREFIX) :].partition(":")
    return revision, path


def _run_git(*words: str) -> subprocess.CompletedProcess[bytes]:
    try:
        # No pager, no prompt, no optional locks: reading only.
        env = {**os.environ, "GIT_TERMINAL_PROMPT": "0", "GIT_OPTIONAL_LOCKS": "0", "LC_ALL": "C"}
        return subprocess.run(["git", "--no-pager", *words], capture_output=True, check=False, env=env)
    except FileNotFoundError:
        raise fail("git", "expected git's program for a git: source, found none", "install git") from None


def revision_files(source: str, limits: Limits) -> list[Held | Problem]:
    """The exports below a path of a revision, in the order of their names. Paths are taken from the current folder, as for
    files. Raises ZeitbuchError when there is no repository or no such revision or path."""
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
    # Of the index git makes an archive only by way of a tree; such an object is never seen again.
    commit = _find_commit(source, revision)
    base = _run_git("rev-parse", "--show-prefix").stdout.decode("utf-8", "surrogateescape").strip()
    inside = os.path.normpath(os.path.join(base, path or ".")).replace(os.sep, "/")  # noqa: PTH118
    if inside.startswith("../") or inside == "..":
        raise fail("git", f"{source}: expected a path within the repository, found '{path}'")
    words = ["archive", "--format=tar", commit] + ([] if inside == "." else ["--", f":(top,literal){inside}"])
    done = _run_git("-C", top.stdout.decode("utf-8", "surrogateescape").strip(), *words)
    if done.returncode:
        raise fail(
            "git",
            f"{source}: expected the path '{path or '.'}' in the revision, found: {_error_words(done)}",
            f"`git ls-tree -r --name-only {revision}` lists its files",
        )
    return _archive_members(source, revision, inside, path, done.stdout, limits)


def _find_commit(source: str, revision: str) -> str:
    known = (
        _run_git("rev-parse", "--verify", "--quiet", f"{revision}^{{commit}}") if revision else _run_git("write-tree")
    )
    if known.returncode:
        found = f"none named '{revision}'" if revision else _error_words(known)
        raise fail(
            "git",
            f"{source}: expected a revision of the repository, found {found}",
            "`git log --oneline` lists them; write git:REV or git:REV:PATH",
        )
    return known.stdout.decode().strip()


def _archive_members(
    source: str, revision: str, inside: str, path: str, archive: bytes, limits: Limits
) -> list[Held | Problem]:
    found: list[Held | Problem] = []
    with tarfile.open(fileobj=io.BytesIO(archive)) as package:
        for info in package:
            name = info.name
            one = name == inside  # a single file is named: it is read whatever its suffix
            hidden = any(part.startswith(".") for part in name.split("/"))
            if not info.isfile() or not (one or (is_candidate(name) and not hidden)):
                continue
            shown = f"{PREFIX}{revision}:{name}"
            if info.size > limits.bytes:
                problem = too_large("bytes", limits.bytes, "a larger file").problem
                found.append(Problem(problem.code, problem.severity, problem.message, Origin(shown), problem.hint))
                continue
            member = package.extractfile(info)
            found.append(Held(shown, member.read() if member is not None else b""))
    if not found:
        hint = "name the folder that holds the exported files"
        text = f"expected exports ({', '.join(SUFFIXES + PACKED)}) in the revision, found none"
        found.append(Problem("source-empty", "error", text, Origin(source), hint))
    return sorted(found, key=lambda f: f.name if isinstance(f, Held) else "")


def _error_words(done: subprocess.CompletedProcess[bytes]) -> str:
    lines = done.stderr.decode("utf-8", "replace").strip().splitlines()
    return lines[-1][:200] if lines else f"exit status {done.returncode}"

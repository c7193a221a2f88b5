"""What git starts for a file: `diff --driver` and `convert --driver`. Whatever the file is, git goes on."""

from __future__ import annotations

import argparse
import subprocess
import sys
from pathlib import Path

from zeitbuch.app.basis import EstimateBasis
from zeitbuch.app.diff import DiffRequest, changes_report, compare_versions
from zeitbuch.app.git_versions import bytes_of, merge_native_files, plain_difference, versions_of_file
from zeitbuch.cli.shared.exit_codes import NO, OK
from zeitbuch.cli.shared.session import open_session
from zeitbuch.cli.shared.stream import colour_wanted, terminal_width, write_output
from zeitbuch.core.model.problems import ZeitbuchError, fail
from zeitbuch.writers.outputs.rendering import render
from zeitbuch.writers.theme.terminal import TextLook


def run_diff_driver(args: argparse.Namespace) -> int:
    """Git's words: path, old file, its hash and mode, new file, its hash and mode; of a path that is not merged yet the path alone."""
    words = [word for word in (args.old, args.new, *args.more) if word is not None]
    if len(words) < 5:
        write_output(f"* {words[0] if words else ''}: not merged yet\n", None)
        return OK
    path, old, new = words[0], words[1], words[4]
    try:
        text = _changes_in_words(args, path, old, new)
    except (ZeitbuchError, OSError):
        text = None
    write_output(text if text is not None else plain_difference(path, old, new), None)
    return OK


def _changes_in_words(args: argparse.Namespace, path: str, old: str, new: str) -> str | None:
    """The changes of meaning; None for a file without flows. What one file costs is not what the estate costs: no figures."""
    session = open_session(args, str(Path(path).parent))
    found = versions_of_file(session, path, old, new)
    if found is None:
        return None
    session.sides = []
    outcome = compare_versions(session, *found, EstimateBasis(), DiffRequest(figures=False))
    look = TextLook(terminal_width(), colour_wanted(), False, False, 1.0)
    text = render("changes", "text", changes_report(outcome, maps=False), look)
    return f"{path}\n{text if isinstance(text, str) else text.decode()}"


def run_merge_driver(args: argparse.Namespace) -> int:
    """Git's words %O %A %B %P: base, ours (which takes the result), theirs, path. What cannot be merged honestly is left to git's own way,
    with its marks of conflict."""
    words = [word for word in (args.old, args.new, *args.more) if word is not None]
    if len(words) != 4:
        raise fail("option", f"expected %O %A %B %P of git after --merge-driver, found {len(words)} words")
    *files, path = words
    try:
        text = merge_native_files(open_session(args, str(Path(path).parent)), files, path)
    except (ZeitbuchError, OSError):
        text = None
    if text is not None:
        write_output(text, files[1])
        return OK
    names = ["-L", "ours", "-L", "base", "-L", "theirs"]
    done = subprocess.run(["git", "merge-file", *names, files[1], files[0], files[2]], check=False)
    return OK if done.returncode == 0 else NO


def run_text_driver(args: argparse.Namespace) -> int:
    """The outline of the flows of a file, or the file as it is."""
    raw = bytes_of(args.source[0]) if len(args.source) == 1 else None
    try:
        session = open_session(args)
        estate = session.estate(args.source)
        if estate.flows and not any(problem.severity == "error" for problem in session.problems):
            look = TextLook(terminal_width(), False, False, False, 1.0)
            text = render("flows", args.format or "yaml", estate, look)
            raw = text.encode() if isinstance(text, str) else text
    except (ZeitbuchError, OSError):
        pass
    sys.stdout.flush()
    write_output(raw or b"", None)
    return OK

# The one owner of the stream: standard output, or a file written beside and moved into place.
"""Writing results."""

from __future__ import annotations

import argparse
import contextlib
import os
import sys
from pathlib import Path
from typing import Any, TextIO

from zeitbuch.core.model.problems import fail
from zeitbuch.writers.outputs.rendering import render
from zeitbuch.writers.outputs.rows import OutputSubject, formats_of
from zeitbuch.writers.theme.terminal import TextLook

from .formats import rows_of_plugins


def colour_wanted() -> bool:
    """Colour only on a terminal, and never with NO_COLOR."""
    return sys.stdout.isatty() and not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"


def links_wanted(stream: TextIO) -> bool:
    """Links only on a terminal with more than bare letters, and never with NO_COLOR."""
    return (
        stream.isatty() and not os.environ.get("NO_COLOR") and os.environ.get("TERM", "") not in ("", "dumb", "linux")
    )


def terminal_width() -> int:
    """The terminal's width; in a pipe wide enough that nothing needs to be broken, unless COLUMNS says."""
    if not sys.stdout.isatty() and not os.environ.get("COLUMNS"):
        return 180
    import shutil

    return shutil.get_terminal_size((180, 40)).columns


def write_output(data: str | bytes, target: str | None) -> None:
    """Write to standard output (None or ``-``) or to a file, whole or not at all."""
    if target is None or target == "-":
        raw = data.encode("utf-8", "replace") if isinstance(data, str) else data
        sys.stdout.flush()
        sys.stdout.buffer.write(raw)
        sys.stdout.buffer.flush()
        return
    raw = data.encode("utf-8", "replace") if isinstance(data, str) else data
    path = Path(os.path.realpath(target))  # a link is written through
    try:
        if path.exists() and not path.is_file():
            # A device or a pipe is written to, never replaced by a file.
            with path.open("wb", buffering=0) as file:
                _write_whole(file, raw)
        else:
            _write_beside(path, raw)
    except (OSError, ValueError) as error:
        raise fail(
            "write",
            f"expected to write {target}, found: {getattr(error, 'strerror', None) or error}",
            "choose another place with -o FILE",
        ) from None


def write_private(raw: bytes, target: str) -> None:
    """Write to a file that only its owner reads."""
    write_output(raw, target)
    place = Path(target)
    if place.is_file():
        place.chmod(0o600)


def _write_whole(file: Any, raw: bytes) -> None:
    """All bytes to an unbuffered stream, which may take them piece by piece."""
    view = memoryview(raw)
    while view:
        view = view[file.write(view) :]


def _write_beside(path: Path, raw: bytes) -> None:
    """A file written beside its place and moved into it; nothing is left behind, whatever ends the writing."""
    path.parent.mkdir(parents=True, exist_ok=True)
    # The name is known before the file is there: an interrupt at any moment finds what to remove.
    beside = str(path.parent / f".zeitbuch.{os.urandom(8).hex()}")
    try:
        with os.fdopen(os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as file:
            file.write(raw)
        mask = os.umask(0)
        os.umask(mask)
        os.chmod(beside, 0o666 & ~mask)  # noqa: PTH101
        os.replace(beside, path)  # noqa: PTH105
    except BaseException:
        with contextlib.suppress(OSError):
            os.unlink(beside)  # noqa: PTH108
        raise


def show_result(
    subject: OutputSubject, form: str, value: Any, args: argparse.Namespace, evidence: bool = False, scale: float = 2.0
) -> None:
    """Write a value in a format to standard output or the file of ``-o``."""
    to_file = bool(args.output) and args.output != "-"
    look = TextLook(
        terminal_width(),
        colour_wanted() and not to_file,
        evidence,
        to_file,
        scale,
        links_wanted(sys.stdout) and not to_file,
    )
    added = () if form in formats_of(subject) else rows_of_plugins()
    write_output(render(subject, form, value, look, added), args.output)

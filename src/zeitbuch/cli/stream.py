# The one owner of the stream: standard output, or a file written beside and moved into place.
"""Writing results."""

from __future__ import annotations

import contextlib
import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from zeitbuch.core.model.problems import fail

if TYPE_CHECKING:
    from zeitbuch.core.model.sheet import Sheet


def colour_wanted() -> bool:
    """Colour only on a terminal, and never with NO_COLOR."""
    return sys.stdout.isatty() and not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"


def width() -> int:
    """The terminal's width; in a pipe wide enough that nothing needs to be broken, unless COLUMNS says."""
    if not sys.stdout.isatty() and not os.environ.get("COLUMNS"):
        return 180
    import shutil

    return shutil.get_terminal_size((180, 40)).columns


def write(data: str | bytes, target: str | None) -> None:
    """Write to standard output (None or ``-``) or to a file, whole or not at all."""
    if target is None or target == "-":
        raw = data.encode("utf-8", "replace") if isinstance(data, str) else data
        sys.stdout.flush()
        sys.stdout.buffer.write(raw)
        sys.stdout.buffer.flush()
        return
    import tempfile

    raw = data.encode("utf-8", "replace") if isinstance(data, str) else data
    path = Path(target)
    beside = None
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, beside = tempfile.mkstemp(prefix=f".{path.name[:40]}.", dir=path.parent)
        with os.fdopen(handle, "wb") as file:
            file.write(raw)
        mask = os.umask(0)
        os.umask(mask)
        os.chmod(beside, 0o666 & ~mask)  # noqa: PTH101
        os.replace(beside, path)  # noqa: PTH105
    except OSError as error:
        if beside is not None:
            with contextlib.suppress(OSError):
                os.unlink(beside)  # noqa: PTH108
        raise fail(
            "write",
            f"expected to write {target}, found: {error.strerror or error}",
            "choose another place with -o FILE",
        ) from None


def write_sheet(sheet: Sheet, form: str, target: str | None) -> None:
    """A sheet as table, CSV or Markdown. A CSV file begins with a mark by which spreadsheets know its encoding."""
    from zeitbuch.writers.table.tables import in_form

    out = in_form(sheet, form, width(), colour_wanted())
    write(("\ufeff" if form == "csv" and target else "") + out, target)

# From a value and the name of a format to text or bytes. Outputs of other packages stand in the same table for the length of
# a run: they are looked up only when a format is asked for that is none of ours.
"""Writing a value in a format of the table of outputs."""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module
from typing import Any

from zeitbuch.core.model.extras import telling_missing
from zeitbuch.core.model.problems import fail
from zeitbuch.writers.theme.terminal import TextLook

from .rows import OUTPUTS, Content, OutputRow, OutputSubject, Write, formats_of


def find_output(subject: OutputSubject, name: str, added: tuple[OutputRow, ...] = ()) -> OutputRow:
    """The row of a format. Raises ZeitbuchError with the formats there are when it is none of the subject's."""
    for row in (*OUTPUTS, *added):
        if row.subject == subject and row.name == name:
            return row
    names = (*formats_of(subject), *(row.name for row in added if row.subject == subject))
    raise fail(
        "format", f"expected one of the formats {', '.join(names)}, found '{name}'", "name another with --format"
    )


def load_writer(row: OutputRow) -> Write:
    """The function of a row."""
    module, _, function = row.writer.partition(":")
    write: Write = getattr(import_module(module), function)
    return write


def render(
    subject: OutputSubject, name: str, value: Any, look: TextLook | None = None, added: tuple[OutputRow, ...] = ()
) -> Content:
    """The value in the format ``name``; ``added`` are rows of plug-ins. Raises ZeitbuchError for an unknown format."""
    row = find_output(subject, name, added)
    with telling_missing():
        return load_writer(row)(value, look or TextLook())


def render_files(
    subject: OutputSubject, name: str, value: Any, added: Callable[[], tuple[OutputRow, ...]] = tuple
) -> dict[str, Content]:
    """The same for subjects that make several files: path within a folder -> content. ``added`` is asked for rows of plug-ins
    when the format is none of ours."""
    rows = () if name in formats_of(subject) else added()
    files: dict[str, Content] = load_writer(find_output(subject, name, rows))(value, TextLook())  # type: ignore[assignment]
    return files

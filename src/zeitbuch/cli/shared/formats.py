# Which format is meant: named by an option, told by the suffix of the output file, or the first of the table of outputs.
"""The format of a command's output."""

from __future__ import annotations

import argparse
from pathlib import Path

from zeitbuch.core.model.problems import fail
from zeitbuch.writers.outputs.plugins import added_outputs
from zeitbuch.writers.outputs.rows import OutputRow, OutputSubject, format_by_suffix, formats_of


def chosen_format(args: argparse.Namespace, *subjects: OutputSubject) -> str:
    """The format asked for. Raises ZeitbuchError for one in which none of the subjects can be written."""
    formats = formats_of(*subjects)
    if args.format:
        return _format_of_name(args.format, subjects, formats)
    if not args.output or args.output == "-":
        return formats[0]
    suffix = Path(args.output).suffix.lower()
    found = format_by_suffix(suffix, subjects)
    if found is None and suffix:
        added = [row for row in rows_of_plugins() if row.subject in subjects]
        found = next((row.name for row in added if suffix in row.suffixes), None)
    if found is not None:
        return found
    if suffix:
        raise fail(
            "format",
            f"expected one of the formats {', '.join(formats)}, found the suffix '{suffix}' of {args.output}",
            "name the format with --format",
        )
    return formats[0]


def _format_of_name(name: str, subjects: tuple[OutputSubject, ...], formats: tuple[str, ...]) -> str:
    if name in formats:
        return name
    added = [row.name for row in rows_of_plugins() if row.subject in subjects]
    if name in added:
        return name
    import difflib  # a slip of the fingers is rare, and start-up is to be light

    near = difflib.get_close_matches(name, [*formats, *added], 1)
    hint = f"did you mean '{near[0]}'?" if near else "`zeitbuch list plugins` shows formats of other packages"
    raise fail("format", f"expected one of the formats {', '.join([*formats, *added])}, found '{name}'", hint)


def rows_of_plugins() -> tuple[OutputRow, ...]:
    """Outputs that other packages add."""
    return added_outputs()

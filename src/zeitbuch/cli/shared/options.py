# Options that several commands have are declared once, with one wording.
"""Common options of the commands."""

from __future__ import annotations

import argparse

from zeitbuch.writers.outputs.rows import OutputSubject, formats_of


def add_reading(parser: argparse.ArgumentParser) -> None:
    """Options for how sources are read."""
    group = parser.add_argument_group("reading")
    group.add_argument(
        "--dialect", metavar="FILE", action="append", default=[], help="a dialect file to use; may be repeated"
    )
    add_limits(group)
    group.add_argument("--book", metavar="PLACE", help="book for @N: a file or a URL; default: the workspace's")
    group.add_argument(
        "--workers",
        metavar="WHO",
        help="who shares the work on many files and flows: a number of processes (1: none), or the scheduler of a Dask cluster, as in "
        "tcp://HOST:8786 (docs/scale.md); default: the cores of this machine",
    )
    group.add_argument(
        "--no-cache", action="store_true", help="read every file anew, and keep nothing for the next run"
    )
    add_talk(parser)


def add_line(group: argparse._ActionsContainer) -> None:
    """The option that names a line of the book."""
    group.add_argument(
        "--line",
        metavar="NAME",
        help="line of the book (dev, prod, a team), with snapshots and flows of its own; default: main",
    )


def add_limits(group: argparse._ActionsContainer) -> None:
    """The option that raises limits."""
    group.add_argument(
        "--limit", metavar="NAME=N", action="append", default=[], help="raise a limit on inputs, e.g. text=5000000"
    )


def add_talk(parser: argparse.ArgumentParser) -> None:
    """Options for how much is said on stderr."""
    group = parser.add_argument_group("messages")
    group.add_argument("-q", "--quiet", action="store_true", help="no progress, no warnings; errors only")
    group.add_argument("-v", "--verbose", action="store_true", help="notices too, beside errors and warnings")


def add_sources(parser: argparse.ArgumentParser) -> None:
    """The SOURCE arguments."""
    parser.add_argument(
        "source",
        metavar="SOURCE",
        nargs="*",
        help="file, folder, package (zip, tar.gz), address (s3://..., docs/remote.md), git:REV[:PATH], @N of the book, or - for standard "
        "input; without it, the workspace's sources",
    )


def add_source_option(
    parser: argparse._ActionsContainer, words: str = "file, folder or -; default: the workspace's sources"
) -> None:
    """``--source``, for commands whose arguments name something else."""
    parser.add_argument("--source", metavar="SOURCE", action="append", default=[], help=words)


def add_steps_of_logs(parser: argparse.ArgumentParser, words: str) -> None:
    """Options for what usage logs have of steps; ``words`` say what is added."""
    group = parser.add_argument_group("what really happened (docs/usage.md)")
    group.add_argument("--usage", action="store_true", help=f"{words}, from the workspace's usage logs")
    group.add_argument(
        "--mapping",
        metavar="FILE",
        action="append",
        default=[],
        help="from the logs of this usage mapping (TOML) instead; may be repeated",
    )
    group.add_argument(
        "--from", dest="first", metavar="DAY", default="", help="from this day of the logs on (YYYY-MM-DD)"
    )
    group.add_argument("--to", dest="last", metavar="DAY", default="", help="up to this day")


def add_figures(parser: argparse.ArgumentParser) -> None:
    """Options naming the rate card and the assumptions."""
    group = parser.add_argument_group("figures")
    group.add_argument("--rates", metavar="FILE", default="", help="rate card (TOML); default: the workspace's")
    group.add_argument("--assumptions", metavar="FILE", default="", help="assumptions (TOML); default: the workspace's")
    group.add_argument(
        "--measured",
        metavar="FILE",
        default="",
        help="assumptions that `calibrate` wrote, beside the others; default: the workspace's",
    )


def add_output(
    parser: argparse.ArgumentParser,
    *subjects: OutputSubject,
    file_words: str = "write to FILE instead of standard output",
    default: str = "",
) -> None:
    """``--format`` and ``-o`` (what it does in ``file_words``); the format follows the suffix of FILE when not given, else it is the
    ``default``, or the first of the table."""
    formats = formats_of(*subjects)
    group = parser.add_argument_group("output")
    group.add_argument(
        "-f",
        "--format",
        metavar="FORMAT",
        help=f"one of {', '.join(formats)}, or of a plug-in; default: from the suffix of FILE, else {default or formats[0]}",
    )
    group.add_argument("-o", "--output", metavar="FILE", help=file_words)

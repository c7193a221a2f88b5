"""Write the very bytes of a recorded export back: of one version of a flow, or all files of a snapshot."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING

from .common import Session, add_reading
from .main import OK

if TYPE_CHECKING:
    from zeitbuch.book.records import Version
    from zeitbuch.book.store import Reading

EXAMPLE = """\
examples:
  zeitbuch restore "Customer letters@2" -o letters.json     the export as it was in version 2 of the flow
  zeitbuch restore SH-1040@2026-10-31 > before.json         as it was on that day
  zeitbuch restore @3 -o october/                           every file of snapshot 3

A file that holds several flows, or a package, is written whole, and that is said."""


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "what", metavar="FLOW@N", help="a flow and its version (number, latest, date), or @N for a snapshot"
    )
    parser.add_argument(
        "-o", "--output", metavar="FILE", help="where to write; default: standard output (a folder for @N)"
    )
    add_reading(parser)


def run(args: argparse.Namespace) -> int:
    from zeitbuch.book.selection import flow_versions, version
    from zeitbuch.core.model.problems import fail
    from zeitbuch.writers.escape.text import inert

    from . import stream
    from .book import opened

    name, at, key = args.what.rpartition("@")
    if not at or not key:
        raise fail(
            "option",
            f"expected FLOW@VERSION or @SNAPSHOT, found '{args.what}'",
            "`zeitbuch history FLOW` lists the versions of a flow",
        )
    session = Session(args)
    with opened(session).reading() as reading:
        if not name:
            return _all(args, session, reading, key)
        found = version(flow_versions(reading.versions(), name), key, reading.snapshots())
        data = reading.content(found.hash)
        others = _others(reading, found)
    stream.write(data, args.output)
    if others and not args.quiet:
        said = f"{found.file} holds {len(others)} other flows too and is written whole: {', '.join(others[:5])}"
        print(inert(said, keep_lines=False), file=sys.stderr)
    if args.output and args.output != "-" and not args.quiet:
        words = f"{args.output}: {len(data):,} bytes of {found.file}, version {found.number} of '{found.name}'"
        print(inert(words, keep_lines=False), file=sys.stderr)
    return OK


def _others(reading: Reading, found: Version) -> list[str]:
    """Names of other flows that stood in the same bytes."""
    return list(dict.fromkeys(v.name for v in reading.versions() if v.hash == found.hash and v.flow != found.flow))


def _all(args: argparse.Namespace, session: Session, reading: Reading, key: str) -> int:
    """Every file of a snapshot, below a folder."""
    from pathlib import Path

    from zeitbuch.book.selection import snapshot
    from zeitbuch.core.model.problems import fail

    from . import stream

    if not args.output or args.output == "-":
        raise fail("option", "expected a folder for the files of a snapshot, found none", "name one with -o FOLDER")
    entry = snapshot(reading.snapshots(), key)
    files = reading.files(entry)
    with session.progress(len(files), "writing") as bar:
        for i, f in enumerate(files):
            # A name in the book is a label: nothing is written outside the folder.
            parts = [p for p in f.name.replace("\\", "/").split("/") if p not in ("", ".", "..")]
            stream.write(reading.content(f.hash), str(Path(args.output, *parts)))
            bar.at(i)
    if not args.quiet:
        print(f"{args.output}: {len(files)} files of snapshot {entry.number} ({entry.at})", file=sys.stderr)
    return OK

"""The work of `restore`."""

from __future__ import annotations

import argparse
from pathlib import Path

from zeitbuch.app.restore import restore_snapshot, restore_version
from zeitbuch.app.session import Session
from zeitbuch.cli.shared.exit_codes import OK
from zeitbuch.cli.shared.session import open_session, say
from zeitbuch.cli.shared.stream import write_output
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.words import count_words


def run(args: argparse.Namespace) -> int:
    """One version of a flow, or a whole snapshot."""
    name, place, key = args.what.rpartition("@")
    if not place or not key:
        raise fail(
            "option",
            f"expected FLOW@VERSION or @SNAPSHOT, found '{args.what}'",
            "`zeitbuch history FLOW` lists the versions of a flow",
        )
    session = open_session(args)
    if not name:
        return _restore_snapshot(args, session, key)
    found = restore_version(session, name, key)
    version, others = found.version, found.others
    write_output(found.data, args.output)
    if others and not args.quiet:
        holds = count_words(len(others), "other flow")
        say(f"{version.file} holds {holds} too and is written whole: {', '.join(others[:5])}")
    if found.beside and not args.quiet:
        say(f"{', '.join(found.beside)} with it: `zeitbuch restore @{version.snapshot} -o FOLDER` writes every file")
    if args.output and args.output != "-" and not args.quiet:
        say(f"{args.output}: {len(found.data):,} bytes of {version.file}, version {version.number} of '{version.name}'")
    return OK


def _restore_snapshot(args: argparse.Namespace, session: Session, key: str) -> int:
    """Every file of a snapshot, below a folder."""
    if not args.output or args.output == "-":
        raise fail("option", "expected a folder for the files of a snapshot, found none", "name one with -o FOLDER")
    entry, contents, count = restore_snapshot(session, key)
    with session.progress(count, "writing") as advance:
        for place, (file, data) in enumerate(contents):
            # A name in the book is a label: nothing is written outside the folder.
            parts = [part for part in file.name.replace("\\", "/").split("/") if part not in ("", ".", "..")]
            write_output(data, str(Path(args.output, *parts)))
            advance(place)
    if not args.quiet:
        say(f"{args.output}: {count_words(count, 'file')} of snapshot {entry.number} ({entry.at})")
    return OK

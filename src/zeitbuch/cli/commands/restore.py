"""The work of `restore`."""

from __future__ import annotations

import argparse
from pathlib import Path

from zeitbuch.app.restore import (
    RestoredVersion,
    files_in_the_way,
    find_restored,
    member_into_package,
    restore_version,
    restored_contents,
)
from zeitbuch.app.session import Session
from zeitbuch.book.lines import state_name
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
    if args.into:
        return _restore_member(args, found)
    version, others = found.version, found.others
    _keep_other_file(args, found.data)
    write_output(found.data, args.output)
    if others and not args.quiet:
        holds = count_words(len(others), "other flow")
        say(f"{version.file} holds {holds} too and is written whole: {', '.join(others[:5])}")
    if found.beside and not args.quiet:
        state = state_name(version.line, version.snapshot)
        say(f"{', '.join(found.beside)} with it: `zeitbuch restore {state} -o FOLDER` writes every file")
    if args.output and args.output != "-" and not args.quiet:
        say(f"{args.output}: {len(found.data):,} bytes of {version.file}, version {version.number} of '{version.name}'")
    return OK


def _keep_other_file(args: argparse.Namespace, data: bytes) -> None:
    """What stands at the place and is another is overwritten only where that is asked for."""
    path = Path(args.output or "-")
    if args.overwrite or args.output in (None, "-") or not path.is_file() or path.read_bytes() == data:
        return
    raise fail(
        "write",
        f"expected no other file at {args.output}, found one of {path.stat().st_size:,} bytes",
        "name another place with -o, or add --overwrite",
    )


def _restore_member(args: argparse.Namespace, found: RestoredVersion) -> int:
    """One member back into its package."""
    data = member_into_package(found, args.into)
    target = args.output or args.into
    if target == args.into and not args.overwrite:
        raise fail(
            "write",
            f"expected -o FILE for the package with the member put back, or --overwrite to write {args.into}, found neither",
        )
    if args.output:
        _keep_other_file(args, data)
    write_output(data, target)
    if not args.quiet:
        version = found.version
        say(
            f"{target}: {version.member} as in version {version.number} of '{version.name}'; all else as it is in {args.into}"
        )
    return OK


def _restore_snapshot(args: argparse.Namespace, session: Session, key: str) -> int:
    """Every file of a snapshot, below a folder."""
    if not args.output or args.output == "-" or args.into:
        raise fail("option", "expected a folder for the files of a snapshot, found none", "name one with -o FOLDER")
    entry, files = find_restored(session, key)
    if not args.overwrite and (others := files_in_the_way(args.output, restored_contents(session, files))):
        raise fail(
            "write",
            f"expected no other files in {args.output}, found {count_words(len(others), 'file')} that would be overwritten: {', '.join(others[:3])}",
            "name another folder with -o, or add --overwrite; nothing was written",
        )
    with session.progress(len(files), "writing") as advance:
        for place, (one, data) in enumerate(restored_contents(session, files)):
            write_output(data, str(Path(args.output, one.path)))
            advance(place)
    moved = [one for one in files if not one.file.name.endswith(one.path)]
    if not args.quiet:
        say(
            f"{args.output}: {count_words(len(files), 'file')} of snapshot {state_name(entry.line, entry.number)} ({entry.at})"
        )
        for one in moved:
            say(f"{one.file.name} is written as {one.path}: another file has its name")
    return OK

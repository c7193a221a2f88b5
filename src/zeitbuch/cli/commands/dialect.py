"""The work of `dialect`."""

from __future__ import annotations

import argparse

from zeitbuch.app.dialects import (
    dialects_table,
    list_dialects,
    near_kinds,
    preview_files,
    preview_table,
    propose_dialect,
)
from zeitbuch.app.session import Session
from zeitbuch.cli.shared.exit_codes import NO, OK, WRONG
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.progress import progress_for
from zeitbuch.cli.shared.session import finish, limits_of, open_session, report, say
from zeitbuch.cli.shared.stream import show, write
from zeitbuch.core.model.words import plural
from zeitbuch.readers.config import workspace
from zeitbuch.readers.infer.propose import Proposal
from zeitbuch.readers.infer.spell import spelled


def run(args: argparse.Namespace) -> int:
    """One of the parts."""
    return {"suggest": _suggest, "test": _test, "list": _list}[args.part](args)


def _suggest(args: argparse.Namespace) -> int:
    session = Session(limits=limits_of(args), progress=progress_for(args.quiet))
    proposal, problems = propose_dialect(session, args.source, args.name)
    if proposal is None:
        return report(problems, args, WRONG)
    write(spelled(proposal.made, proposal.used), args.output)
    if not args.quiet:
        for line in _lines(proposal):
            say(line, keep_lines=True)
        if args.output:
            say(f"next: zeitbuch dialect test {args.source[0]} --dialect {args.output}")
    return report(problems, args, OK)


def _lines(proposal: Proposal) -> list[str]:
    """What a proposal is based on, how sure each part is, and what was left open."""
    made = proposal.made
    files = plural(len(proposal.used), "file")
    lines = [f"{plural(made.flows, 'flow')} with {plural(made.steps, 'step')} in {files} written alike"]
    lines += [f"  {note.sure:>4.0%} sure  {note.part:<12} {note.words}" for note in made.notes]
    for operation, near in made.unclassified:
        closest = ", ".join(near or near_kinds(operation)) or "no word of it is known"
        lines.append(f"  not classified: '{operation}' (closest: {closest})")
    for words, names in (
        ("written in another way (suggest for them apart)", proposal.others),
        ("other objects, left out", proposal.bare),
    ):
        if names:
            shown = ", ".join(names[:3]) + (" …" if len(names) > 3 else "")
            lines.append(f"  {words}: {plural(len(names), 'file')} ({shown})")
    return lines


def _test(args: argparse.Namespace) -> int:
    form = chosen_format(args, "table")
    session = open_session(args)
    rows = preview_files(session, args.source)
    show("table", form, preview_table(rows), args)
    if not args.quiet:
        for operation in dict.fromkeys(operation for row in rows for operation in row.unclassified):
            closest = ", ".join(near_kinds(operation)) or "no word of it is known"
            say(f"not classified: '{operation}' (closest: {closest})")
    return finish(session, args, NO if any(not row.flows for row in rows) else OK)


def _list(args: argparse.Namespace) -> int:
    form = chosen_format(args, "table")
    listed, problems = list_dialects(workspace.load(workspace.find()), args.dialect)
    show("table", form, dialects_table(listed), args)
    return report(problems, args, OK)

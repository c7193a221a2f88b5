"""Dialects say how a builder writes its exports: propose one from files never seen, try it, or list those active."""

from __future__ import annotations

import argparse
import sys

from .common import Progress, Session, add_output, add_reading, add_sources, add_talk, chosen_format, report
from .main import NO, OK, WRONG

TEST_FORMATS = ("table", "csv", "json", "markdown")
EXAMPLE = """\
examples:
  zeitbuch dialect suggest exports/ -o builder.toml     propose a dialect for files never seen
  zeitbuch dialect test exports/ --dialect builder.toml what it makes of each file
  zeitbuch dialect list                                 which dialects are active, and from where"""


def add(parser: argparse.ArgumentParser) -> None:
    parts = parser.add_subparsers(dest="part", metavar="suggest|test|list", required=True)
    raw = argparse.RawDescriptionHelpFormatter
    suggest = parts.add_parser(
        "suggest",
        formatter_class=raw,
        help="propose a complete, commented dialect file from exports",
        description="Propose a dialect from the structure of exports: which records are steps, how they are linked, what\n"
        "looks like a clock text, a prompt, a model's name, a placeholder. Every part says how sure it is.",
        epilog="example:\n  zeitbuch dialect suggest exports/ --name harbour -o harbour.toml",
    )
    suggest.add_argument("source", metavar="FILE", nargs="+", help="exports of one builder: files, folders, packages")
    suggest.add_argument("--name", metavar="NAME", default="", help="the dialect's name (default: that of the source)")
    suggest.add_argument("-o", "--output", metavar="FILE", help="write the dialect to FILE instead of standard output")
    suggest.add_argument("--limit", metavar="NAME=N", action="append", default=[], help="raise a limit on inputs")
    add_talk(suggest)
    test = parts.add_parser(
        "test",
        formatter_class=raw,
        help="preview what the active dialects make of files, side by side",
        description="Preview what the active dialects make of files: flows, steps, links, the share of the content\n"
        "read, and operations not classified. Exit status 1 when a file was not recognised.",
        epilog="example:\n  zeitbuch dialect test exports/ --dialect harbour.toml",
    )
    add_sources(test)
    add_output(test, TEST_FORMATS, "table")
    add_reading(test)
    listing = parts.add_parser(
        "list",
        formatter_class=raw,
        help="list active dialects: of options, workspace, user folder; and those shipped for the demo",
        epilog="example:\n  zeitbuch dialect list",
    )
    add_output(listing, TEST_FORMATS, "table")
    listing.add_argument("--dialect", metavar="FILE", action="append", default=[], help="a dialect file to use too")
    add_talk(listing)


def run(args: argparse.Namespace) -> int:
    return {"suggest": _suggest, "test": _test, "list": _list}[args.part](args)


def _suggest(args: argparse.Namespace) -> int:
    from zeitbuch.readers.infer import propose
    from zeitbuch.readers.infer.spell import spelled
    from zeitbuch.readers.input.sources import names
    from zeitbuch.writers.escape.text import inert

    from . import stream
    from .common import limits_of

    inputs = list(names(args.source))
    with Progress(len(inputs), args) as progress:
        found, problems = propose.documents(inputs, limits_of(args), progress.at)
    if not found:
        return report(problems, args, WRONG)
    proposal = propose.propose(found, args.name or propose.default_name(args.source))
    made = proposal.made
    stream.write(spelled(made, proposal.used), args.output)
    if not args.quiet:
        lines = [f"{made.flows} flows with {made.steps} steps in {len(proposal.used)} files written alike"]
        lines += [f"  {n.sure:>4.0%} sure  {n.part:<12} {n.words}" for n in made.notes]
        for operation, near in made.unclassified:
            closest = ", ".join(near or propose.closest_kinds(operation)) or "no word of it is known"
            lines.append(f"  not classified: '{operation}' (closest: {closest})")
        for words, files in (
            ("written in another way (suggest for them apart)", proposal.others),
            ("other objects, left out", proposal.bare),
        ):
            if files:
                shown = ", ".join(files[:3]) + (" …" if len(files) > 3 else "")
                lines.append(f"  {words}: {len(files)} files ({shown})")
        if args.output:
            lines.append(f"next: zeitbuch dialect test {args.source[0]} --dialect {args.output}")
        print(inert("\n".join(lines)), file=sys.stderr)
    return report(problems, args, OK)


def _test(args: argparse.Namespace) -> int:
    from zeitbuch.core.report import export_preview
    from zeitbuch.readers.infer.propose import closest_kinds
    from zeitbuch.writers.escape.text import inert
    from zeitbuch.writers.table import tables

    from . import stream

    form = chosen_format(args, TEST_FORMATS, "table")
    session = Session(args)
    rows = [export_preview.preview(name, flows) for name, flows in session.by_file(args.source)]
    out = tables.in_form(export_preview.sheet(rows), form, stream.width(), stream.colour_wanted())
    stream.write(tables.to_json("preview", {"files": rows}) if form == "json" else out, args.output)
    if not args.quiet:
        for operation in dict.fromkeys(o for r in rows for o in r.unclassified):
            closest = ", ".join(closest_kinds(operation)) or "no word of it is known"
            print(inert(f"not classified: '{operation}' (closest: {closest})", keep_lines=False), file=sys.stderr)
    return session.finish(NO if any(not r.flows for r in rows) else OK)


def _list(args: argparse.Namespace) -> int:
    from zeitbuch.core.model.sheet import Column, Sheet
    from zeitbuch.readers.config import workspace
    from zeitbuch.writers.table import tables

    from . import stream

    form = chosen_format(args, TEST_FORMATS, "table")
    listed, problems = workspace.listing(workspace.load(workspace.find()), args.dialect)
    columns = tuple(Column(k, k) for k in ("name", "from", "active", "what", "file"))
    sheet = Sheet(
        columns=columns, rows=tuple((d.name, d.place, "yes" if d.active else "no", d.title, d.file) for d in listed)
    )
    if form == "json":
        entries = [
            {"name": d.name, "from": d.place, "active": d.active, "title": d.title, "file": d.file} for d in listed
        ]
        out = tables.to_json("dialects", {"dialects": entries})
    else:
        out = tables.in_form(sheet, form, stream.width(), stream.colour_wanted())
    stream.write(out, args.output)
    return report(problems, args, OK)

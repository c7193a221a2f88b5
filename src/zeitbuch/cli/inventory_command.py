"""List the flows of exports: what sets each off, its steps, AI steps, models and pattern class."""

from __future__ import annotations

import argparse

from .common import Session, add_output, add_reading, add_sources, chosen_format

FORMATS = ("table", "csv", "json", "markdown")
EXAMPLE = """\
examples:
  zeitbuch inventory exports/
  zeitbuch inventory exports/ --ai --sort ai
  zeitbuch inventory exports/ --trigger schedule,polling --owner brekke -o flows.csv"""

TRIGGERS = "schedule, webhook, event, polling, chat, form, manual, call, fault, tool-call"
PATTERNS = "plain, assisted, agent, dispatcher, ensemble"
SORTS = ("read-order", "name", "owner", "trigger", "pattern", "steps", "ai", "changed", "read")


def add(parser: argparse.ArgumentParser) -> None:
    add_sources(parser)
    group = parser.add_argument_group("which flows (all conditions must hold)")
    group.add_argument("--ai", action="store_true", help="only flows with model calls, agents or embeddings")
    group.add_argument("--trigger", metavar="KIND", default="", help=f"only these triggers, comma between: {TRIGGERS}")
    group.add_argument("--owner", metavar="TEXT", default="", help="only flows with TEXT in an owner's name")
    group.add_argument("--model", metavar="TEXT", default="", help="only flows that use a model with TEXT in its name")
    group.add_argument("--pattern", metavar="CLASS", default="", help=f"only these classes, comma between: {PATTERNS}")
    group.add_argument("--text", metavar="TEXT", default="", help="only flows with TEXT in names, notes or prompts")
    group.add_argument("--sort", choices=SORTS, default="name", help="order of the rows (default: name)")
    add_output(parser, FORMATS, "table")
    add_reading(parser)


def _words(text: str, known: str, option: str) -> tuple[str, ...]:
    from zeitbuch.core.model.problems import fail

    words = tuple(w.strip() for w in text.split(",") if w.strip())
    for word in words:
        if word not in known.split(", "):
            raise fail("option", f"expected for {option} one of {known}, found '{word}'")
    return words


def run(args: argparse.Namespace) -> int:
    from zeitbuch.core.report import inventory
    from zeitbuch.writers.table import tables

    from . import stream

    form = chosen_format(args, FORMATS, "table")
    conditions = inventory.Filter(
        ai=args.ai,
        trigger=_words(args.trigger, TRIGGERS, "--trigger"),
        owner=args.owner,
        model=args.model,
        pattern=_words(args.pattern, PATTERNS, "--pattern"),
        text=args.text,
    )
    session = Session(args)
    if args.text:
        rows = [r for f in session.flows(args.source) if (r := inventory.row_if_wanted(conditions, f)) is not None]
    else:
        rows = [r for r in session.rows(args.source) if inventory.fits(r, conditions)]
    if args.sort != "read-order":
        rows.sort(key=inventory.SORTS[args.sort])
    if form == "json":
        stream.write(tables.to_json("inventory", {"flows": rows, "totals": inventory.totals(rows)}), args.output)
    else:
        stream.write_sheet(inventory.sheet(rows, full=form == "csv"), form, args.output)
    return session.finish()

"""Dialects say how a builder writes its exports: propose one from files never seen, try it, or list those active."""

from __future__ import annotations

import argparse

from zeitbuch.cli.shared.help_text import ParagraphHelp
from zeitbuch.cli.shared.options import add_limits, add_output, add_reading, add_sources, add_talk

EXAMPLE = """\
examples:
  zeitbuch dialect suggest exports/ -o builder.toml     propose a dialect for files never seen
  zeitbuch dialect test exports/ --dialect builder.toml what it makes of each file
  zeitbuch dialect list                                 which dialects are active, and from where"""


def add(parser: argparse.ArgumentParser) -> None:
    parts = parser.add_subparsers(dest="part", metavar="suggest|test|list", required=True)
    suggest = parts.add_parser(
        "suggest",
        formatter_class=ParagraphHelp,
        help="propose a complete, commented dialect file from exports",
        description="Propose a dialect from the structure of exports: which records are steps, how they are linked, what\n"
        "looks like a clock text, a prompt, a model's name, a placeholder. Every part says how sure it is. What is\n"
        "not sure is asked: --ask on the terminal, --answers from a file; unanswered, it stands in the dialect as\n"
        "comments. At the end stands what the proposal means for money and safety.",
        epilog="examples:\n  zeitbuch dialect suggest exports/ --name harbour -o harbour.toml\n"
        "  zeitbuch dialect suggest exports/ --name harbour -o harbour.toml --ask\n"
        "  zeitbuch dialect suggest exports/ --name harbour -o harbour.toml --answers answers.toml",
    )
    suggest.add_argument("source", metavar="FILE", nargs="+", help="exports of one builder: files, folders, packages")
    suggest.add_argument("--name", metavar="NAME", default="", help="the dialect's name (default: that of the source)")
    suggest.add_argument("-o", "--output", metavar="FILE", help="write the dialect to FILE instead of standard output")
    months = "month of the consequence, or YYYY for an average one; default: of the workspace, else the current one"
    suggest.add_argument("--month", metavar="YYYY-MM", default="", help=months)
    asked = suggest.add_mutually_exclusive_group()
    asked.add_argument("--ask", action="store_true", help="ask what is not sure, on the terminal")
    asked.add_argument("--answers", metavar="FILE", help="take the answers from FILE (TOML)")
    add_limits(suggest)
    add_talk(suggest)
    test = parts.add_parser(
        "test",
        formatter_class=ParagraphHelp,
        help="preview what the active dialects make of files, side by side",
        description="Preview what the active dialects make of files: flows, steps, links, the share of the content\n"
        "read, and operations not classified. Exit status 1 when a file was not recognised.\n"
        "With --rules, what every rule of the dialect found: rules that find nothing, what stands near them, values\n"
        "that could not be used, and the places of the exports that no rule touches, the largest first.",
        epilog="examples:\n  zeitbuch dialect test exports/ --dialect harbour.toml\n"
        "  zeitbuch dialect test exports/ --dialect harbour.toml --rules\n"
        "  zeitbuch dialect test exports/ --dialect harbour.toml --compare older.toml",
    )
    add_sources(test)
    shown = test.add_mutually_exclusive_group()
    shown.add_argument("--rules", action="store_true", help="show what each rule of the dialect finds")
    shown.add_argument("--compare", metavar="FILE", help="show what another dialect makes of the same files, beside")
    add_output(test, "table")
    add_reading(test)
    listing = parts.add_parser(
        "list",
        formatter_class=ParagraphHelp,
        help="list active dialects: of options, workspace, user folder; and those shipped for the demo",
        epilog="example:\n  zeitbuch dialect list",
    )
    add_output(listing, "table")
    listing.add_argument("--dialect", metavar="FILE", action="append", default=[], help="a dialect file to use too")
    add_talk(listing)

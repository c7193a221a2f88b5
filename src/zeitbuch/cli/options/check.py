"""Find what is wrong or dangerous in flows: values that were to be replaced, failures nobody hears of, agents that may act alone,
references to what is not there. Each finding says where, with the values, and what to do."""

from __future__ import annotations

import argparse

from zeitbuch.cli.shared.numbers import number_for
from zeitbuch.cli.shared.options import add_figures, add_output, add_reading, add_sources

EXAMPLE = """\
examples:
  zeitbuch check exports/
  zeitbuch check exports/ --fail-on high                  in a pipeline: exit status 1 on a high finding
  zeitbuch check --only agent-acts-alone,webhook-open
  zeitbuch check --flow "Customer *" -o findings.xlsx
  zeitbuch check -f sarif -o findings.sarif               for a reviewer of code; -f junit for a pipeline
  zeitbuch check --since @3 --fail-on medium              only what version 3 of the book had not
  zeitbuch check --try rules.toml                         rules of your own, before they go into zeitbuch.toml
  zeitbuch check --usage                                  also: cases never taken, models that no step names
  zeitbuch check --accept-all -o accept.toml              today's findings as exceptions, each to be given a reason
  zeitbuch check --explain agent-acts-alone               why, how it is found, what it misses, what to do

What is let be stands in zeitbuch.toml: [[accept]] with code, flow, step (patterns), reason, by, until.
exit status: 0 no finding that --fail-on asks for; 1 there is one; 2 wrong use or unreadable input"""


def add(parser: argparse.ArgumentParser) -> None:
    add_sources(parser)
    group = parser.add_argument_group("what to look for")
    group.add_argument("--only", metavar="CODE,...", default="", help="only these checks")
    group.add_argument(
        "--flow",
        metavar="NAME",
        action="append",
        default=[],
        help="only findings of these flows (id or name, with *); may be repeated",
    )
    group.add_argument(
        "--usage",
        action="store_true",
        help="also hold the flows against the usage logs of the workspace (see docs/usage.md)",
    )
    group.add_argument(
        "--mapping",
        metavar="FILE",
        action="append",
        default=[],
        help="the logs of this usage mapping (TOML) instead; may be repeated",
    )
    group.add_argument("--codes", action="store_true", help="list the checks instead")
    group.add_argument("--explain", metavar="CODE", default="", help="say all about one check instead")
    group.add_argument(
        "--since",
        metavar="STATE",
        default="",
        help="only findings that an earlier state had not: @N of the book, a folder or file",
    )
    group.add_argument(
        "--try",
        dest="try_rules",
        metavar="FILE",
        default="",
        help="look for the rules of a file instead (see docs/rules.md)",
    )
    group.add_argument(
        "--accepted", action="store_true", help="also show what the workspace accepts (JSON always does)"
    )
    group.add_argument("--top", metavar="N", type=number_for("--top"), help="only the first N findings")
    group.add_argument(
        "--accept-all",
        action="store_true",
        help="write exceptions for all that is found instead, as a start (TOML; -o FILE)",
    )
    group = parser.add_argument_group("when the answer is no")
    group.add_argument(
        "--fail-on", choices=("high", "medium", "low"), help="exit status 1 on findings this bad or worse"
    )
    add_figures(parser)
    add_output(parser, "table", "findings")
    add_reading(parser)

"""Draw the step graph of flows: from top to bottom, scopes as frames, error routes dashed, in the order of execution."""

from __future__ import annotations

import argparse

from zeitbuch.cli.shared.numbers import number_for
from zeitbuch.cli.shared.options import add_figures, add_output, add_reading, add_sources, add_steps_of_logs
from zeitbuch.core.actuals.step_records import USAGE_SHOWS

EXAMPLE = """\
examples:
  zeitbuch map exports/ --flow "Lost property matching" -o lost-property.svg
  zeitbuch map --flow SH-1040 --format text                 a tree in the terminal
  zeitbuch map --flow SH-1040 -o lost-property.html         a page to search, fold and click
  zeitbuch map --flow "Customer letters" --depth 1 -o letters.svg
  zeitbuch map --flow "Weather warnings" --around "How rough?" --after 1 -o rough.svg
  zeitbuch map --flow "Crew swap approvals" --lineage "Read both rotas" --format text
  zeitbuch map --flow "Berth delay notices" --show cost -o cost.svg
  zeitbuch map --flow "Crew swap approvals" --show duration --mapping usage/steps.toml -o slow.svg
  zeitbuch map exports/ -o maps/              one file a flow and an index, in a folder
  zeitbuch map exports/ --estate --by owner -o estate.svg"""


def add(parser: argparse.ArgumentParser) -> None:
    add_sources(parser)
    group = parser.add_argument_group("what to draw")
    group.add_argument(
        "--flow", metavar="NAME", help="this flow (id or name); without it all flows, into the folder of -o"
    )
    group.add_argument("--estate", action="store_true", help="the flows as cards, with their calls")
    group.add_argument(
        "--by", choices=("owner", "connection", "environment", "none"), default="owner", help="frames of --estate"
    )
    group.add_argument(
        "--stores", action="store_true", help="with --estate: draw what one flow writes and another reads"
    )
    group = parser.add_argument_group("which part of a flow")
    group.add_argument(
        "--depth", type=number_for("--depth"), metavar="N", help="fold scopes that stand N scopes deep (0: all)"
    )
    group.add_argument("--fold", metavar="SCOPE", action="append", default=[], help="fold this scope; may be repeated")
    group.add_argument("--around", metavar="STEP", help="only this step (id, number or name) and what is near it")
    for option, way in (("--before", "upstream"), ("--after", "downstream")):
        words = f"with --around: links {way} (default: 2)"
        group.add_argument(option, type=number_for(option), default=2, metavar="N", help=words)
    group.add_argument(
        "--lineage", metavar="STEP[:PATH]", help="only the way of a value, from the step that gives it on"
    )
    group.add_argument("--ai", action="store_true", help="only steps that use AI, and what stands beside them")
    group = parser.add_argument_group("what the cards show")
    group.add_argument(
        "--detail", choices=("names", "settings", "prompts"), default="settings", help="default: settings"
    )
    group.add_argument("--direction", choices=("down", "right"), default="down", help="where time runs (default: down)")
    group.add_argument(
        "--show",
        choices=("passes", "calls", "cost", "findings", *USAGE_SHOWS),
        metavar="WHAT",
        help="with bars: passes, calls or cost of the estimate; findings; or what the usage logs have: runs (with shares of cases, "
        "the busiest way heavier), duration, failures, actual-cost",
    )
    group.add_argument("--month", metavar="YYYY-MM", default="", help="month of the estimate; default as in `estimate`")
    group.add_argument(
        "--scale", type=number_for("--scale"), default=2.0, metavar="N", help="pixels a point in PNG (default: 2)"
    )
    add_steps_of_logs(parser, "what logs have of each step in the panel of a page")
    add_figures(parser)
    add_output(parser, "map", file_words="write to FILE instead of standard output; to a folder, all flows with an index; with {flow}, {id}, {owner}, "
               "{environment} or {folder} in it, a file for each flow, as in -o maps/{flow}.svg")  # fmt: skip
    add_reading(parser)

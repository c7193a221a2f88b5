"""Hold the estimate against usage logs: what was estimated for the days of the log, what it has, and what explains the difference in money:
runs, calls a run, sizes, models, prices, days without lines, flows that only one side knows."""

from __future__ import annotations

import argparse

from zeitbuch.cli.shared.numbers import number_for
from zeitbuch.cli.shared.options import add_figures, add_output, add_reading, add_source_option
from zeitbuch.core.actuals.records import SIDES

from .usage import add_usage

EXAMPLE = """\
examples:
  zeitbuch reconcile log.csv --mapping usage.toml
  zeitbuch reconcile --by day --from 2026-11-01 --to 2026-11-15
  zeitbuch reconcile --explanations -o why.xlsx
  zeitbuch reconcile -o days.png                      a chart by day, with what explains the difference
  zeitbuch reconcile --max-gap 15% --quiet            exit status 1 when the log is further from the estimate

The parts of an explanation add up: what no reason takes up is said to be unexplained."""


def add(parser: argparse.ArgumentParser) -> None:
    add_usage(parser)
    group = parser.add_argument_group("what is shown")
    group.add_argument(
        "--by", choices=SIDES, default="flow", metavar="SIDE", help=f"one of {', '.join(SIDES)}; default: flow"
    )
    group.add_argument(
        "--from", dest="first", metavar="DAY", default="", help="first day (YYYY-MM-DD); default: the log's"
    )
    group.add_argument("--to", dest="last", metavar="DAY", default="", help="last day; default: the log's")
    group.add_argument("--explanations", action="store_true", help="show all explanations instead of the gaps")
    group.add_argument("--top", metavar="N", type=number_for("--top"), help="show the N largest gaps only")
    group.add_argument(
        "--max-gap",
        metavar="PERCENT",
        type=number_for("--max-gap"),
        help="exit status 1 when log and estimate are further apart",
    )
    add_source_option(parser)
    add_figures(parser)
    add_output(parser, "table", "chart")
    add_reading(parser)

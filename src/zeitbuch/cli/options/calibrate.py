"""Measure assumptions on usage logs: how often flows run, shares of cases, failures, items, rounds, turns, and what calls take in and give out,
each with its range, the cases that it rests on, and what held before. Only what a log tells, and nothing over a declared value unless asked."""

from __future__ import annotations

import argparse

from zeitbuch.cli.shared.options import add_figures, add_output, add_reading, add_source_option

from .usage import add_usage

EXAMPLE = """\
examples:
  zeitbuch calibrate -o measured.toml                 the logs of the workspace
  zeitbuch calibrate log.csv --mapping usage.toml     show what the log tells, write nothing
  zeitbuch calibrate --check                          fit two thirds of the days, predict the last
  zeitbuch estimate --measured measured.toml          the estimate with what was measured

Where a flow changed within the log, the time behind the change counts, and its rules begin there."""


def add(parser: argparse.ArgumentParser) -> None:
    add_usage(parser)
    group = parser.add_argument_group("what is measured")
    group.add_argument(
        "--from", dest="first", metavar="DAY", default="", help="first day (YYYY-MM-DD); default: the log's"
    )
    group.add_argument("--to", dest="last", metavar="DAY", default="", help="last day; default: the log's")
    group.add_argument("--over", choices=["declared"], help="put what was measured over what somebody declared, too")
    group.add_argument(
        "--check", action="store_true", help="fit the first two thirds of the days and predict the last third"
    )
    add_source_option(parser)
    add_figures(parser)
    add_output(parser, "table", file_words="write the assumptions to FILE (TOML); with --check the table")
    add_reading(parser)

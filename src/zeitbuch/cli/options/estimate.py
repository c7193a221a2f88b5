"""Estimate passes, model calls, tokens and cost of flows: per run, month or year, with distribution, evidence and drivers."""

from __future__ import annotations

import argparse
from typing import get_args

from zeitbuch.cli.shared.numbers import number_for
from zeitbuch.cli.shared.options import add_figures, add_output, add_reading, add_sources
from zeitbuch.core.estimate.breakdown import By
from zeitbuch.core.report.presentations import ChartKind

SIDES: tuple[str, ...] = get_args(By)
CHARTS: tuple[str, ...] = get_args(ChartKind)
EXAMPLE = """\
examples:
  zeitbuch estimate exports/ --rates rates.toml --assumptions assumptions.toml
  zeitbuch estimate --flow "Lost property matching" --steps
  zeitbuch estimate --by model --per year            what each model costs in the year
  zeitbuch estimate --per run                        mean, P10, P50, P90 and P99 of one run
  zeitbuch estimate --drivers                        which assumptions move the figure most
  zeitbuch estimate --assume assumptions.toml        write down what is left to declare, what moves the bill most first
  zeitbuch estimate --why "Customer letters/Refund agent"
  zeitbuch estimate --max-per-month 200              exit status 1 when the estate costs more
  zeitbuch estimate --month 2026-12 -o cost.png      a chart of monthly cost by flow
  zeitbuch estimate --chart months -o months.png     month by month, over price and host changes

A rate card and an assumptions file with comments are written by `zeitbuch init`. Without a rate card the
cost is unknown (?); without assumptions every figure that needs one is based on defaults and says so.
Low, likely and high are P10, P50 and P90 of the bill, over what varies from run to run and what is in doubt:
every assumption is one unknown of the month, and a default may be half or double. The same draws every time."""


def add(parser: argparse.ArgumentParser) -> None:
    add_sources(parser)
    group = parser.add_argument_group("what to estimate")
    group.add_argument(
        "--flow",
        metavar="NAME",
        action="append",
        default=[],
        help="only this flow (id, name or a pattern with *); may be repeated",
    )
    group.add_argument("--by", choices=SIDES, default="flow", help="one row for each of these (default: flow)")
    group.add_argument("--steps", action="store_true", help="one row per step, in order, with passes per run")
    group.add_argument(
        "--per", choices=("run", "month", "year"), default="", help="show this span with its distribution"
    )
    group.add_argument(
        "--drivers", action="store_true", help="which assumptions move the month (with --per run: the run) most"
    )
    group.add_argument(
        "--why", metavar="FLOW[/STEP]", default="", help="where every number of a flow or step comes from"
    )
    months = "calendar month, or YYYY for an average month; default: of the workspace or the assumptions, else the current one"
    group.add_argument("--month", metavar="YYYY-MM", default="", help=months)
    group.add_argument(
        "--chart", choices=CHARTS, default="", help="what png and svg show: flows (default), runs, drivers, months"
    )
    sampled = "sample so many runs of each flow; default: until figures stand to 1 %%; 0 samples none"
    group.add_argument("--runs", metavar="N", type=number_for("--runs"), default=None, help=sampled)
    group.add_argument(
        "--assume",
        metavar="FILE",
        default="",
        help="write what is not declared yet (with --flow: of these flows) into an assumptions file, to be filled in; what stands in it is kept",
    )
    group.add_argument(
        "--top", metavar="N", type=number_for("--top"), default=None, help="show the first N rows (JSON holds all)"
    )
    gates = parser.add_argument_group("budgets (exit status 1 when a figure is over its limit or not known)")
    gates.add_argument(
        "--max-per-run",
        metavar="X",
        type=number_for("--max-per-run"),
        help="limit per run of each flow, with the flows it calls",
    )
    gates.add_argument(
        "--max-per-month",
        metavar="X",
        type=number_for("--max-per-month"),
        help="limit for the month: of the estate, or of each --flow",
    )
    gates.add_argument(
        "--measure",
        choices=("mean", "p50", "p90", "p99"),
        default="",
        help="which figure is held against the limits (default: mean)",
    )
    add_figures(parser)
    add_output(parser, "table", "chart")
    add_reading(parser)

"""List the flows of exports: their triggers, steps, AI steps, models and pattern class."""

from __future__ import annotations

import argparse
from typing import get_args

from zeitbuch.cli.shared.numbers import number_for
from zeitbuch.cli.shared.options import add_figures, add_output, add_reading, add_sources
from zeitbuch.core.model.records import FlowState, PatternClass, TriggerKind
from zeitbuch.core.report.inventory import SORTS

EXAMPLE = """\
examples:
  zeitbuch inventory exports/
  zeitbuch inventory exports/ --ai --sort ai
  zeitbuch inventory exports/ --where "kind=agent and cost>5"
  zeitbuch inventory exports/ --format cyclonedx -o bill.cdx.json         a bill of materials (CycloneDX 1.6)
  zeitbuch inventory exports/ --trigger schedule,polling --owner brekke -o flows.csv"""

TRIGGERS: tuple[str, ...] = get_args(TriggerKind)
PATTERNS: tuple[str, ...] = get_args(PatternClass)
STATES: tuple[str, ...] = get_args(FlowState)
ORDERS = ("read-order", *SORTS)


def add(parser: argparse.ArgumentParser) -> None:
    add_sources(parser)
    group = parser.add_argument_group("which flows (all conditions must hold)")
    group.add_argument("--ai", action="store_true", help="only flows with model calls, agents or embeddings")
    group.add_argument(
        "--trigger", metavar="KIND", default="", help=f"only these triggers, comma between: {', '.join(TRIGGERS)}"
    )
    group.add_argument("--owner", metavar="TEXT", default="", help="only flows with TEXT in an owner's name")
    group.add_argument("--model", metavar="TEXT", default="", help="only flows that use a model with TEXT in its name")
    group.add_argument(
        "--pattern", metavar="CLASS", default="", help=f"only these classes, comma between: {', '.join(PATTERNS)}"
    )
    group.add_argument(
        "--state", metavar="STATE", default="", help=f"only these states, comma between: {', '.join(STATES)}"
    )
    group.add_argument("--folder", metavar="TEXT", default="", help="only flows with TEXT in their folder")
    group.add_argument(
        "--connection", metavar="TEXT", default="", help="only flows with a connection or account of that name"
    )
    group.add_argument("--service", metavar="TEXT", default="", help="only flows with a connection to such a service")
    group.add_argument("--id", metavar="PATTERN", default="", help="only flows with that id or name, with *")
    group.add_argument(
        "--where",
        metavar="CONDITION",
        default="",
        help='only flows for which it holds: "kind=agent and cost>5" (docs/rules.md has the facts)',
    )
    group.add_argument("--text", metavar="TEXT", default="", help="only flows with TEXT in names, notes or prompts")
    group.add_argument("--sort", choices=ORDERS, default="name", help="order of the rows (default: name)")
    group.add_argument("--checks", action="store_true", help="count what `check` finds in each flow")
    group.add_argument("--top", metavar="N", type=number_for("--top"), help="show the first N rows (JSON holds all)")
    add_figures(parser)
    add_output(parser, "table", "bill")
    add_reading(parser)

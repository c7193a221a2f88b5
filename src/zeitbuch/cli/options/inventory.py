"""List the flows of exports: their triggers, steps, AI steps, models and pattern class."""

from __future__ import annotations

import argparse
from typing import get_args

from zeitbuch.cli.shared.options import add_output, add_reading, add_sources
from zeitbuch.core.model.records import PatternClass, TriggerKind
from zeitbuch.core.report.inventory import SORTS

EXAMPLE = """\
examples:
  zeitbuch inventory exports/
  zeitbuch inventory exports/ --ai --sort ai
  zeitbuch inventory exports/ --trigger schedule,polling --owner brekke -o flows.csv"""

TRIGGERS: tuple[str, ...] = get_args(TriggerKind)
PATTERNS: tuple[str, ...] = get_args(PatternClass)
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
    group.add_argument("--text", metavar="TEXT", default="", help="only flows with TEXT in names, notes or prompts")
    group.add_argument("--sort", choices=ORDERS, default="name", help="order of the rows (default: name)")
    add_output(parser, "table")
    add_reading(parser)

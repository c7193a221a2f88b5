"""Put scenarios beside the estimate: another model, a slower poll, another host, a plain call for an agent; or propose some."""

from __future__ import annotations

import argparse

from zeitbuch.cli.shared.options import add_figures, add_output, add_reading, add_sources

EXAMPLE = """\
examples:
  zeitbuch compare --scenario small-model.toml --scenario own-machine.toml
  zeitbuch compare --propose                         the cheapest safe changes, found in the flows
  zeitbuch compare --propose --write proposals       and a scenario file for each

a scenario file:
  scenario = 1
  name = "small model for labels"
  [[change]]
  do = "model"                 # or setting, admit, poll, batch, cache, defer, host, plain call, drop, assume
  flow = "Customer letters"
  step = "Desk"
  to = "fulmar-mini-2"

`zeitbuch schema scenario` prints all keys; docs/scenarios.md explains them."""


def add(parser: argparse.ArgumentParser) -> None:
    add_sources(parser)
    group = parser.add_argument_group("what to compare")
    group.add_argument(
        "--scenario", metavar="FILE", action="append", default=[], help="a scenario (TOML); may be repeated"
    )
    group.add_argument("--propose", action="store_true", help="let Zeitbuch look for changes that save")
    group.add_argument(
        "--write", metavar="FOLDER", default="", help="with --propose: write a scenario file for each proposal"
    )
    group.add_argument("--all", action="store_true", help="all flows, not only those that a scenario changes")
    group.add_argument(
        "--no-break-even", action="store_true", help="do not look for volumes and months at which options cross"
    )
    group.add_argument(
        "--month", metavar="YYYY-MM", default="", help="calendar month, or YYYY for an average month of a year"
    )
    add_figures(parser)
    add_output(parser, "table")
    add_reading(parser)

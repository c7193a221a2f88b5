"""Say in plain words what a flow does, what one of its steps does, or what a message means."""

from __future__ import annotations

import argparse

from zeitbuch.cli.shared.options import add_figures, add_output, add_reading, add_source_option, add_steps_of_logs

EXAMPLE = """\
examples:
  zeitbuch explain "Berth delay notices"
  zeitbuch explain "Berth delay notices" "By severity"
  zeitbuch explain SH-1052 2 --source exports/      a step by its number
  zeitbuch explain "Lost property matching" --empty "Look up handed-in items"
  zeitbuch explain "Crew swap approvals" --case allowed --fails "Change the rota"
  zeitbuch explain "Berth delay notices" --case minor
  zeitbuch explain "Customer letters" "Desk" --upstream
  zeitbuch explain "Crew swap approvals" --mapping usage/steps.toml
  zeitbuch explain --message link-end               what a message means, by its code"""


def add(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("flow", metavar="FLOW", nargs="?", help="id or name of the flow")
    parser.add_argument(
        "step", metavar="STEP", nargs="?", help="id, name or number of a step; without it the whole flow"
    )
    parser.add_argument("--message", metavar="CODE", help="what the message with this code means, and what to do")
    group = parser.add_argument_group("what happens when")
    group.add_argument(
        "--case", metavar="[STEP=]CASE", action="append", default=[], help="a decision takes this case; may be repeated"
    )
    group.add_argument(
        "--fails", metavar="STEP", action="append", default=[], help="this step fails, every time it is tried"
    )
    group.add_argument("--empty", metavar="STEP", action="append", default=[], help="this step gives nothing")
    group = parser.add_argument_group("where values come from and go, over all flows")
    group.add_argument("--upstream", action="store_true", help="where what STEP takes comes from")
    group.add_argument("--downstream", action="store_true", help="where what STEP makes goes")
    add_steps_of_logs(parser, "also how often each step ran, how long it took, how it ended and what it cost")
    add_source_option(parser)
    add_figures(parser)
    add_output(parser, "page")
    add_reading(parser)

"""Put scenarios beside the estimate: another model, a slower poll, another host, a plain call for an agent; or propose some."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING

from .common import Session, add_output, add_reading, add_sources, chosen_format, report
from .estimate_command import add_figures, check_shares, counters_of, figures

if TYPE_CHECKING:
    from zeitbuch.core.assumptions.rules import Assumptions
    from zeitbuch.core.estimate.proposals import Proposal
    from zeitbuch.core.estimate.scenario import Scenario
    from zeitbuch.core.model.records import Estate
    from zeitbuch.core.pricing.rate_card import RateCard

FORMATS = ("table", "csv", "json", "markdown")
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
    add_output(parser, FORMATS, "table")
    add_reading(parser)


def _scenarios(args: argparse.Namespace, card: RateCard | None) -> list[Scenario]:
    """The scenarios named. Raises ZeitbuchError at the first that is wrong."""
    from zeitbuch.core.model.problems import ZeitbuchError
    from zeitbuch.readers.config.figures import load_scenario

    found = []
    for path in args.scenario:
        scenario, problems = load_scenario(path, card)
        wrong = [p for p in problems if p.severity == "error"]
        if wrong:
            report(wrong[:-1], args)
            raise ZeitbuchError(wrong[-1])
        found.append(scenario)
    return found


def run(args: argparse.Namespace) -> int:
    from zeitbuch.core.estimate.comparison import compare
    from zeitbuch.core.model.problems import fail
    from zeitbuch.core.report.comparison_tables import comparison_sheet
    from zeitbuch.writers.table import tables

    from . import stream

    form = chosen_format(args, FORMATS, "table")
    if not args.scenario and not args.propose:
        raise fail(
            "scenario",
            "expected --scenario FILE or --propose, found neither",
            "`zeitbuch compare -h` shows a scenario file",
        )
    session = Session(args)
    card, assumptions, problems = figures(args, session)
    scenarios = _scenarios(args, card)
    estate = session.estate(args.source)
    check_shares(args, session, estate, assumptions)
    session.reader.problems += problems
    if args.propose:
        return _propose(session, args, form, estate, card, assumptions)
    counters = counters_of(args, session, card)
    with session.progress(len(scenarios), "comparing") as bar:
        found = compare(estate, card, assumptions, scenarios, args.month, counters, not args.no_break_even, bar.at)
    session.reader.problems += found.problems
    if form == "json":
        stream.write(tables.to_json("comparison", found), args.output)
    else:
        stream.write_sheet(comparison_sheet(found, args.all or form == "csv"), form, args.output)
    return session.finish()


def _propose(
    session: Session,
    args: argparse.Namespace,
    form: str,
    estate: Estate,
    card: RateCard | None,
    assumptions: Assumptions,
) -> int:
    from zeitbuch.core.assumptions.volume import month_text
    from zeitbuch.core.estimate.comparison import compare
    from zeitbuch.core.estimate.estate import month_for
    from zeitbuch.core.estimate.proposals import proposals, together
    from zeitbuch.core.report.comparison_tables import proposals_sheet
    from zeitbuch.core.report.results import ProposalsResult
    from zeitbuch.writers.table import tables

    from . import stream

    counters = counters_of(args, session, card)
    with session.progress(len(estate.flows), "looking") as bar:
        found = proposals(estate, card, assumptions, args.month, counters, bar.at)
    month = month_text(month_for(assumptions, card, args.month))
    whole = together(found)
    everything = None
    if whole is not None:
        everything = (
            -compare(estate, card, assumptions, [whole], args.month, counters, crossings=False).options[1].difference
        )
    currency = card.currency if card is not None else ""
    if form == "json":
        stream.write(tables.to_json("proposals", ProposalsResult(month, currency, tuple(found))), args.output)
    elif not found:
        print("nothing found that saves money", file=sys.stderr)
        stream.write_sheet(proposals_sheet(found, currency, month, None), form, args.output)
    else:
        stream.write_sheet(proposals_sheet(found, currency, month, everything), form, args.output)
    if args.write:
        _write(args.write, found, args)
    return session.finish()


def _write(folder: str, found: list[Proposal], args: argparse.Namespace) -> None:
    from pathlib import Path

    from zeitbuch.writers.escape.file_names import file_names
    from zeitbuch.writers.exchange.templates import scenario

    from . import stream

    chosen = [p for p in found if p.scenario is not None]
    names = file_names([p.scenario.name for p in chosen if p.scenario is not None])
    for p, name in zip(chosen, names, strict=True):
        assert p.scenario is not None
        path = Path(folder) / f"{name}.toml"
        stream.write(scenario(p.scenario, p.check), str(path))
        if not args.quiet:
            print(f"written  {path}", file=sys.stderr)

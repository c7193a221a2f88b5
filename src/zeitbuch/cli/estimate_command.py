"""Estimate passes, model calls, tokens and cost of flows, per run and per month, with what each figure rests on."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from .common import Session, add_output, add_reading, add_sources, chosen_format, pick, report

if TYPE_CHECKING:
    from zeitbuch.core.assume import Assumptions
    from zeitbuch.core.estimate import EstateEstimate
    from zeitbuch.core.model import Estate
    from zeitbuch.core.problems import Problem
    from zeitbuch.core.rates import RateCard

FORMATS = ("table", "csv", "json", "markdown", "png", "svg")
EXAMPLE = """\
examples:
  zeitbuch estimate exports/ --rates rates.toml --assumptions assumptions.toml
  zeitbuch estimate --flow "Lost property matching" --steps
  zeitbuch estimate --month 2026-12 -o cost.png      a chart of monthly cost by flow

A rate card and an assumptions file with comments are written by `zeitbuch init`. Without a rate card the
cost is unknown (?); without assumptions every figure that needs one rests on defaults and says so."""


def add(parser: argparse.ArgumentParser) -> None:
    add_sources(parser)
    group = parser.add_argument_group("what to estimate")
    group.add_argument(
        "--flow", metavar="NAME", action="append", default=[], help="only this flow (id or name); may be repeated"
    )
    group.add_argument("--steps", action="store_true", help="one row a step instead of one a flow")
    group.add_argument(
        "--month",
        metavar="YYYY-MM",
        default="",
        help="calendar month; default: of the assumptions, else of the newest price",
    )
    add_figures(parser)
    add_output(parser, FORMATS, "table")
    add_reading(parser)


def add_figures(parser: argparse.ArgumentParser) -> None:
    """Options naming the rate card and the assumptions."""
    group = parser.add_argument_group("figures")
    group.add_argument("--rates", metavar="FILE", help="rate card (TOML); default: the workspace's")
    group.add_argument("--assumptions", metavar="FILE", help="assumptions (TOML); default: the workspace's")


def figures(args: argparse.Namespace, session: Session) -> tuple[RateCard | None, Assumptions, list[Problem]]:
    """Rate card and assumptions of a command. Raises ZeitbuchError at the first wrong value: nothing is computed from it."""
    from zeitbuch.core.assume import Assumptions
    from zeitbuch.core.problems import ZeitbuchError
    from zeitbuch.readers.figures import load_assumptions, load_rates

    workspace = session.workspace
    problems: list[Problem] = []
    card, assumptions = None, Assumptions()
    rates_path = args.rates or (workspace.path(workspace.rates) if workspace.rates else "")
    if rates_path:
        card, found = load_rates(rates_path)
        problems += found
    assumptions_path = args.assumptions or (workspace.path(workspace.assumptions) if workspace.assumptions else "")
    if assumptions_path:
        assumptions, found = load_assumptions(assumptions_path)
        problems += found
    wrong = [p for p in problems if p.severity == "error"]
    if wrong:
        report(wrong[:-1], args)
        raise ZeitbuchError(wrong[-1])
    return card, assumptions, problems


def estimated(args: argparse.Namespace, session: Session) -> tuple[Estate, EstateEstimate]:
    """The estate of a command's sources and its estimate; what is wrong goes to the session's problems."""
    from zeitbuch.core.estimate import estimate

    card, assumptions, problems = figures(args, session)
    estate = session.estate(args.source)
    result = estimate(estate, card, assumptions, args.month)
    session.reader.problems += [*problems, *result.problems]
    return estate, result


def run(args: argparse.Namespace) -> int:
    from msgspec import structs

    from zeitbuch.core.estimate import totalled
    from zeitbuch.core.estimate_sheet import flows_sheet, steps_sheet
    from zeitbuch.writers import tables

    from . import stream

    form = chosen_format(args, FORMATS, "table")
    session = Session(args)
    # Volumes of called flows need the whole estate: it is estimated first and narrowed then.
    estate, result = estimated(args, session)
    if args.flow:
        wanted = {pick(estate, name).id for name in args.flow}
        result = totalled(structs.replace(result, flows=tuple(f for f in result.flows if f.id in wanted)))
    if form in ("png", "svg"):
        from zeitbuch.writers.chart import monthly_cost

        stream.write(monthly_cost(result, form), args.output)
        return session.finish()
    sheet = steps_sheet(result, form == "csv") if args.steps else flows_sheet(result)
    if form == "json":
        if not args.steps:
            result = structs.replace(result, flows=tuple(structs.replace(f, steps=()) for f in result.flows))
        out = tables.to_json("estimate", result)
    elif form == "csv":
        out = tables.to_csv(sheet)
    elif form == "markdown":
        out = tables.to_markdown(sheet)
    else:
        out = tables.to_table(sheet, stream.width(), stream.colour_wanted())
    stream.write(("\ufeff" if form == "csv" and args.output else "") + out, args.output)
    return session.finish()

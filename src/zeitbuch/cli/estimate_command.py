"""Estimate passes, model calls, tokens and cost of flows: per run, month or year, with distribution, evidence and drivers."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from .common import Session, add_output, add_reading, add_sources, chosen_format, pick, report
from .main import NO

if TYPE_CHECKING:
    from collections.abc import Callable

    from zeitbuch.core.assumptions.rules import Assumptions
    from zeitbuch.core.estimate.budget import Budget
    from zeitbuch.core.estimate.estate import EstateEstimate, Runs
    from zeitbuch.core.model.problems import Problem
    from zeitbuch.core.model.records import Estate
    from zeitbuch.core.model.sheet import Sheet
    from zeitbuch.core.pricing.rate_card import RateCard

FORMATS = ("table", "csv", "json", "markdown", "png", "svg")
SIDES = ("flow", "step", "model", "connection", "owner", "environment", "host", "meter")
CHARTS = ("flows", "runs", "drivers", "months")
EXAMPLE = """\
examples:
  zeitbuch estimate exports/ --rates rates.toml --assumptions assumptions.toml
  zeitbuch estimate --flow "Lost property matching" --steps
  zeitbuch estimate --by model --per year            what each model costs in the year
  zeitbuch estimate --per run                        mean, P50, P90 and P99 of one run
  zeitbuch estimate --drivers                        which assumptions move the figure most
  zeitbuch estimate --why "Customer letters/Refund agent"
  zeitbuch estimate --max-per-month 200              exit status 1 when the estate costs more
  zeitbuch estimate --month 2026-12 -o cost.png      a chart of monthly cost by flow
  zeitbuch estimate --chart months -o months.png     month by month, over price and host changes

A rate card and an assumptions file with comments are written by `zeitbuch init`. Without a rate card the
cost is unknown (?); without assumptions every figure that needs one rests on defaults and says so.
Means are exact where they can be; P50, P90 and P99 come from sampled runs, the same ones every time."""


def add(parser: argparse.ArgumentParser) -> None:
    add_sources(parser)
    group = parser.add_argument_group("what to estimate")
    group.add_argument(
        "--flow", metavar="NAME", action="append", default=[], help="only this flow (id or name); may be repeated"
    )
    group.add_argument("--by", choices=SIDES, default="flow", help="one row for each of these (default: flow)")
    group.add_argument("--steps", action="store_true", help="one row a step, in order, with passes of a run")
    group.add_argument(
        "--per", choices=("run", "month", "year"), default="", help="show this span with its distribution"
    )
    group.add_argument(
        "--drivers", action="store_true", help="which assumptions move the month (with --per run: the run) most"
    )
    group.add_argument(
        "--why", metavar="FLOW[/STEP]", default="", help="where every number of a flow or step comes from"
    )
    months = "calendar month, or YYYY for an average month; default: of the assumptions, else of the newest price"
    group.add_argument("--month", metavar="YYYY-MM", default="", help=months)
    group.add_argument(
        "--chart", choices=CHARTS, default="", help="what png and svg show: flows (default), runs, drivers, months"
    )
    group.add_argument("--runs", metavar="N", type=int, default=None, help="sample so many runs of each flow; default: until figures stand to 1 %%; 0 samples none")  # fmt: skip
    gates = parser.add_argument_group("budgets (exit status 1 when a figure is over its limit or not known)")
    gates.add_argument(
        "--max-per-run", metavar="X", type=float, help="limit for a run of each flow, with the flows it calls"
    )
    gates.add_argument(
        "--max-per-month", metavar="X", type=float, help="limit for the month: of the estate, or of each --flow"
    )
    gates.add_argument(
        "--measure",
        choices=("mean", "p50", "p90", "p99"),
        default="mean",
        help="which figure is held against the limits",
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
    from zeitbuch.core.assumptions.rules import Assumptions
    from zeitbuch.core.model.problems import ZeitbuchError
    from zeitbuch.readers.config.figures import load_assumptions, load_rates

    problems: list[Problem] = []
    card, assumptions = None, Assumptions()
    rates = rates_path(args, session)
    if rates:
        card, found = load_rates(rates)
        problems += found
    path = assumptions_path(args, session)
    if path:
        assumptions, found = load_assumptions(path)
        problems += found
    wrong = [p for p in problems if p.severity == "error"]
    if wrong:
        report(wrong[:-1], args)
        raise ZeitbuchError(wrong[-1])
    return card, assumptions, problems


def rates_path(args: argparse.Namespace, session: Session) -> str:
    """The rate card named by the option or the workspace."""
    workspace = session.workspace
    return str(args.rates or (workspace.path(workspace.rates) if workspace.rates else ""))


def assumptions_path(args: argparse.Namespace, session: Session) -> str:
    """The assumptions named by the option or the workspace."""
    workspace = session.workspace
    return str(args.assumptions or (workspace.path(workspace.assumptions) if workspace.assumptions else ""))


def check_shares(args: argparse.Namespace, session: Session, estate: Estate, assumptions: Assumptions) -> None:
    """Raises ZeitbuchError when shares of the cases of a decision sum to more than 1: nothing is computed from them."""
    from zeitbuch.core.model.problems import ZeitbuchError
    from zeitbuch.readers.config.figures import share_problems

    path = assumptions_path(args, session)
    wrong = share_problems(estate.flows, assumptions, path) if path else []
    if wrong:
        report(wrong[:-1], args)
        raise ZeitbuchError(wrong[-1])


def counters_of(args: argparse.Namespace, session: Session, card: RateCard | None) -> dict[str, Callable[[str], float]]:
    """What counts tokens exactly, for models that name a tokenizer file."""
    if card is None or not any(m.tokenizer for m in card.model):
        return {}
    from pathlib import Path

    from zeitbuch.readers.config.tokenizer_file import counters

    return counters(card, str(Path(rates_path(args, session)).parent))


def estimated(args: argparse.Namespace, session: Session) -> tuple[Estate, EstateEstimate]:
    """The estate of a command's sources and its estimate (means only); what is wrong goes to the session's problems."""
    estate = session.estate(args.source)
    return estate, estimate_of(args, session, estate)


def estimate_of(args: argparse.Namespace, session: Session, estate: Estate) -> EstateEstimate:
    """The estimate of flows that were read (means only); what is wrong goes to the session's problems."""
    from zeitbuch.core.estimate.estate import estimate

    card, assumptions, problems = figures(args, session)
    check_shares(args, session, estate, assumptions)
    result = estimate(estate, card, assumptions, args.month, counters_of(args, session, card))
    session.reader.problems += [*problems, *result.problems]
    return result


def run(args: argparse.Namespace) -> int:
    from zeitbuch.core.estimate.estate import runs_of
    from zeitbuch.core.model.problems import fail

    if args.runs is not None and args.runs < 0:
        raise fail("runs", f"expected --runs of 0 or more, found {args.runs}")
    form = chosen_format(args, FORMATS, "table")
    session = Session(args)
    card, assumptions, problems = figures(args, session)
    estate = session.estate(args.source)
    check_shares(args, session, estate, assumptions)
    counters = counters_of(args, session, card)
    if args.per == "year" and not args.month:
        from zeitbuch.core.estimate.estate import month_for

        args.month = f"{month_for(assumptions, card)[0]:04d}"
    wanted = {pick(estate, name).id for name in args.flow}
    session.reader.problems += problems
    if args.why or args.drivers or args.chart in ("drivers", "months"):
        with session.progress(len(estate.flows), "estimating") as bar:
            runs = runs_of(estate, card, assumptions, args.month, counters, bar.at)
        session.reader.problems += runs.problems
        if args.why:
            return _sheet(session, args, form, _why(runs, estate, args.why))
        if args.chart == "months":
            return _months(session, args, form, runs, estate, assumptions, counters)
        return _drivers(session, args, form, runs, assumptions, wanted)
    from zeitbuch.core.estimate.distribution import Sampling
    from zeitbuch.core.estimate.sampled_estate import estimate_flows

    from .workers import shared

    how = None if args.runs == 0 else Sampling(args.runs)
    detail = args.steps or args.by in ("step", "model", "connection", "owner", "environment", "host")
    # Volumes of called flows need the whole estate: it is estimated first and narrowed then.
    with session.progress(len(estate.flows), "estimating") as bar:
        result = estimate_flows(estate.flows, card, assumptions, args.month, how, detail, counters, shared, bar.at)
    session.reader.problems += result.problems
    result = _narrowed(result, wanted)
    _write(session, args, form, result)
    status = _gates(session, args, result)
    return session.finish(status)


def _narrowed(result: EstateEstimate, wanted: set[str]) -> EstateEstimate:
    from msgspec import structs

    from zeitbuch.core.estimate.estate import totalled

    if not wanted:
        return result
    flows = tuple(f for f in result.flows if f.id in wanted)
    names = {f.name for f in flows}
    return totalled(structs.replace(result, flows=flows, meters=tuple(m for m in result.meters if m.flow in names)))


def _write(session: Session, args: argparse.Namespace, form: str, result: EstateEstimate) -> None:
    from msgspec import structs

    from zeitbuch.core.estimate.breakdown import grouped
    from zeitbuch.core.report.estimate_tables import flows_sheet, groups_sheet, steps_sheet
    from zeitbuch.writers.table import tables

    from . import stream

    if form in ("png", "svg"):
        from zeitbuch.writers.chart import charts

        draw = charts.run_costs if args.chart == "runs" else charts.monthly_cost
        stream.write(draw(result, form), args.output)
        return
    rows = grouped(result, args.by) if args.by != "flow" else ()
    if form == "json":
        if args.by != "flow":
            from zeitbuch.core.report.results import GroupsResult

            stream.write(
                tables.to_json("groups", GroupsResult(result.month, result.currency, args.by, rows)), args.output
            )
            return
        if not args.steps:
            result = structs.replace(result, flows=tuple(structs.replace(f, steps=()) for f in result.flows))
        stream.write(tables.to_json("estimate", result), args.output)
        return
    if args.steps:
        sheet = steps_sheet(result, form == "csv")
    elif args.by != "flow":
        sheet = groups_sheet(result, rows, args.by, args.per)
    else:
        sheet = flows_sheet(result, args.per)
    stream.write_sheet(sheet, form, args.output)


def _sheet(session: Session, args: argparse.Namespace, form: str, sheet: Sheet) -> int:
    from zeitbuch.core.report.results import SheetResult
    from zeitbuch.writers.table import tables

    from . import stream

    if form == "json":
        stream.write(tables.to_json("sheet", SheetResult.of(sheet)), args.output)
    elif form in ("png", "svg"):
        raise _no_picture("--why")
    else:
        stream.write_sheet(sheet, form, args.output)
    return session.finish()


def _no_picture(what: str) -> Exception:
    from zeitbuch.core.model.problems import fail

    return fail(
        "format", f"expected table, csv, json or markdown with {what}, found a picture", "leave --format png or svg out"
    )


def _why(runs: Runs, estate: Estate, asked: str) -> Sheet:
    from zeitbuch.core.estimate.provenance import why_sheet

    # A name may hold a slash itself: the whole is tried first.
    flow = estate.flow(asked)
    step = ""
    if flow is None:
        name, _, step = asked.partition("/")
        flow = pick(estate, name.strip())
    key = runs.names.get(flow.id, flow.id)
    return why_sheet(runs, key, step.strip())


def _drivers(
    session: Session, args: argparse.Namespace, form: str, runs: Runs, assumptions: Assumptions, wanted: set[str]
) -> int:
    from zeitbuch.core.estimate.sensitivity import drivers
    from zeitbuch.core.report.estimate_tables import drivers_sheet
    from zeitbuch.core.report.results import DriversResult
    from zeitbuch.writers.table import tables

    from . import stream

    keys = [k for k, r in runs.by.items() if not wanted or r.flow.id in wanted]
    per = "run" if args.per == "run" else "month"
    with session.progress(len(keys), "moving assumptions") as bar:
        found = drivers(runs, assumptions, per, keys, bar.at)
    currency = runs.prices.card.currency if runs.prices.card is not None else ""
    if form in ("png", "svg"):
        from zeitbuch.writers.chart.charts import tornado

        stream.write(tornado(found, currency, per, form), args.output)
    elif form == "json":
        stream.write(tables.to_json("drivers", DriversResult(per, currency, tuple(found))), args.output)
    else:
        stream.write_sheet(
            drivers_sheet(found, currency, per, 20 if form == "table" else len(found)), form, args.output
        )
    return session.finish()


def _months(
    session: Session,
    args: argparse.Namespace,
    form: str,
    runs: Runs,
    estate: Estate,
    assumptions: Assumptions,
    counters: dict[str, Any],
) -> int:
    """The twelve months from the chosen one on, with the prices and hosts of each."""
    from zeitbuch.core.assumptions.months import months_from
    from zeitbuch.core.estimate.estate import estimate
    from zeitbuch.core.report.estimate_tables import months_sheet
    from zeitbuch.writers.chart import charts

    from . import stream

    card = runs.prices.card
    names = months_from(runs.month)
    wanted = {pick(estate, name).id for name in args.flow}
    results = []
    with session.progress(len(names), "estimating months") as bar:
        for at, name in enumerate(names):
            results.append(_narrowed(estimate(estate, card, assumptions, name, counters), wanted))
            bar.at(at)
    if form in ("png", "svg"):
        stream.write(charts.months(results, card, form), args.output)
        return session.finish()
    return _sheet(session, args, form, months_sheet(results))


def _gates(session: Session, args: argparse.Namespace, result: EstateEstimate) -> int:
    from zeitbuch.core.estimate.budget import Budget, excesses
    from zeitbuch.core.model.name_patterns import literal

    budgets: list[Budget] = list(session.workspace.budget)
    if args.max_per_run is not None or args.max_per_month is not None:
        per_month = args.max_per_month
        if args.flow and per_month is not None:
            budgets += [Budget(flow=literal(f.id), max_per_month=per_month, measure=args.measure) for f in result.flows]
            per_month = None
        budgets.append(Budget("", args.max_per_run, per_month, args.measure))
    if args.flow:
        # The limit of the estate says nothing about a part of it.
        budgets = [b for b in budgets if b.flow or b.max_per_month is None]
    found = excesses(result, tuple(budgets))
    if not found:
        return 0
    import sys

    from zeitbuch.core.model.sheet import number
    from zeitbuch.writers.escape.text import inert

    for e in found:
        name = f"'{e.flow}'" if e.flow else "the estate"
        figure = f"{number(e.found)} {result.currency}" if e.found is not None else f"unknown ({e.why})"
        words = f"over budget: {name}: {e.measure} of a {e.per} is {figure}, the limit is {number(e.limit)} {result.currency}"
        print(inert(words, keep_lines=False), file=sys.stderr)
    return NO

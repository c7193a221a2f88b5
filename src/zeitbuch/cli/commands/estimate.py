"""The work of `estimate`."""

from __future__ import annotations

import argparse
from typing import Literal

from zeitbuch.app import estimate as app
from zeitbuch.app.basis import EstimateBasis
from zeitbuch.app.estimate import EstimateRequest
from zeitbuch.app.session import Session
from zeitbuch.cli.shared.exit_codes import NO, OK
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.session import basis_of, finish_session, open_session, say
from zeitbuch.cli.shared.stream import show_result, write_output
from zeitbuch.cli.shared.together import OUTPUT, refuse_idle_options
from zeitbuch.core.estimate.records import Driver, EstateEstimate
from zeitbuch.core.model.problems import ZeitbuchError, fail
from zeitbuch.core.model.records import Estate
from zeitbuch.core.model.sheet import number_text
from zeitbuch.core.model.words import count_words
from zeitbuch.core.report.presentations import ChartData, sheet_result

PICTURES = ("png", "svg")
_GATES = ("--max-per-run", "--max-per-month", "--measure")
# What is shown in place of the estimate, with the options that it heeds.
_HEEDED = {
    "--assume": ("--flow", "--month"),
    "--why": ("--month", *OUTPUT),
    "--drivers": ("--flow", "--per", "--top", "--month", "--chart", *OUTPUT),
    "--chart drivers": ("--flow", "--per", "--top", "--month", "--drivers", *OUTPUT),
    "--chart months": ("--flow", "--month", *OUTPUT),
    "--steps": ("--flow", "--top", "--month", "--runs", *_GATES, *OUTPUT),
}
_DRAWN = ("--flow", "--month", "--runs", "--chart", "--drivers", *_GATES, *OUTPUT)


def run(args: argparse.Namespace) -> int:
    """The estimate, or what it is based on."""
    form = chosen_format(args, "table", "chart")
    _check_options(args, form)
    session = open_session(args)
    basis = basis_of(args, session)
    based = args.why or args.drivers or args.chart in ("drivers", "months")
    estate = session.estate(args.source, resting=not (args.assume or based))
    if args.assume:
        _grow_assumptions(session, args, estate, basis)
        return finish_session(session, args)
    request = EstimateRequest(tuple(args.flow), args.by, args.steps, args.per, args.runs, args.top)
    if based:
        _show_basis(session, args, form, estate, basis, request)
        return finish_session(session, args)
    result = app.estimate_estate(session, estate, basis, request)
    if form in PICTURES:
        show_result("chart", form, ChartData("runs" if args.chart == "runs" else "flows", result), args)
    else:
        show_result("table", form, app.estimate_table(result, request), args)
    return finish_session(session, args, _check_budgets(session, args, result))


def _check_options(args: argparse.Namespace, form: str) -> None:
    """Raises ZeitbuchError for options of which one would be ignored."""
    given = {*args.given, f"--chart {args.chart}"}
    for shown, heeded in _HEEDED.items():
        if shown in given:
            refuse_idle_options(args, shown, heeded)
    moved = args.drivers or args.chart == "drivers"
    if args.drivers and args.chart not in ("", "drivers"):
        raise fail("option", f"expected --chart drivers beside --drivers, found --chart {args.chart}")
    if form in PICTURES and not args.why:
        refuse_idle_options(args, "a picture", (*_DRAWN, "--per") if moved else _DRAWN)
    _check_values(args, form, moved)


def _check_values(args: argparse.Namespace, form: str, moved: bool) -> None:
    if args.per == "year" and moved:
        raise fail("option", "expected --per run or month beside --drivers, found year", "they move a run or a month")
    if args.chart in ("flows", "runs") and form not in PICTURES:
        message = f"expected a picture beside --chart {args.chart}, found a {form}"
        raise fail("option", message, "name one with -o FILE.png or FILE.svg")
    if args.measure and args.max_per_run is None and args.max_per_month is None:
        raise fail("option", "expected a limit beside --measure, found none", "give --max-per-run or --max-per-month")


def _grow_assumptions(session: Session, args: argparse.Namespace, estate: Estate, basis: EstimateBasis) -> None:
    """Writes what is left to declare into a file of assumptions."""
    from zeitbuch.app.open_entries import grow_assumptions

    grown = grow_assumptions(session, estate, basis, args.assume, args.flow)
    write_output(grown.text, args.assume)
    idle = f", {count_words(grown.idle, 'entry')} marked that fit nothing any more" if grown.idle else ""
    say(f"{args.assume}: {count_words(grown.added, 'entry')} added{idle}; fill in what you know")


def _show_basis(
    session: Session,
    args: argparse.Namespace,
    form: str,
    estate: Estate,
    basis: EstimateBasis,
    request: EstimateRequest,
) -> None:
    """Where numbers come from, what moves them, or how they go on."""
    month = app.month_of_request(basis, request)
    if args.drivers or args.chart == "drivers":
        per: Literal["run", "month"] = "run" if args.per == "run" else "month"
        found = app.find_drivers(session, estate, basis, per, args.flow, month)
        _show_drivers(found, per, basis, form, args)
        return
    names = (app.flow_and_step(estate, args.why)[0].id,) if args.why else args.flow
    runs = app.runs_of_estate(session, estate, basis, month, names)
    if args.why:
        if form in PICTURES:
            raise _no_picture("--why")
        show_result("table", form, sheet_result(app.explain_figures(runs, estate, args.why)), args)
    else:
        results = app.estimate_months(session, runs, estate, basis, args.flow)
        if form in PICTURES:
            show_result("chart", form, ChartData("months", months=tuple(results), card=basis.card), args)
        else:
            show_result("table", form, sheet_result(app.months_sheet(results)), args)


def _show_drivers(
    found: list[Driver], per: Literal["run", "month"], basis: EstimateBasis, form: str, args: argparse.Namespace
) -> None:
    if form in PICTURES:
        data = ChartData("drivers", drivers=tuple(found), per=per, currency=basis.currency)
        show_result("chart", form, data, args)
    else:
        show_result("table", form, app.drivers_table(found, basis.currency, per, args.top), args)


def _no_picture(option: str) -> ZeitbuchError:
    return fail("format", f"expected a table with {option}, found a picture", "leave --format png or svg out")


def _check_budgets(session: Session, args: argparse.Namespace, result: EstateEstimate) -> int:
    """Tells the figures that are over their limit; the exit status."""
    budgets = app.budgets_of(
        session.workspace.budget, result, bool(args.flow), args.max_per_run, args.max_per_month, args.measure or "mean"
    )
    found = app.find_excesses(result, budgets)
    for excess in found:
        name = f"'{excess.flow}'" if excess.flow else "the estate"
        figure = (
            f"{number_text(excess.found)} {result.currency}" if excess.found is not None else f"unknown ({excess.why})"
        )
        limit = f"{number_text(excess.limit)} {result.currency}"
        say(f"over budget: {name}: {excess.measure} per {excess.per} is {figure}, the limit is {limit}")
    return NO if found else OK

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
from zeitbuch.core.estimate.records import Driver, EstateEstimate
from zeitbuch.core.model.problems import ZeitbuchError, fail
from zeitbuch.core.model.records import Estate
from zeitbuch.core.model.sheet import number_text
from zeitbuch.core.model.words import count_words
from zeitbuch.core.report.presentations import ChartData, sheet_result

PICTURES = ("png", "svg")


def run(args: argparse.Namespace) -> int:
    """The estimate, or what it is based on."""
    form = chosen_format(args, "table", "chart")
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


def _grow_assumptions(session: Session, args: argparse.Namespace, estate: Estate, basis: EstimateBasis) -> None:
    """Writes what is left to declare into a file of assumptions."""
    from zeitbuch.app.open_entries import grow_assumptions

    grown = grow_assumptions(session, estate, basis, args.assume)
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
    runs = app.runs_of_estate(session, estate, basis, month)
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
        session.workspace.budget, result, bool(args.flow), args.max_per_run, args.max_per_month, args.measure
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

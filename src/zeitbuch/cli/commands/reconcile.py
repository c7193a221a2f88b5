"""The work of `reconcile`."""

from __future__ import annotations

import argparse

from zeitbuch.app.reconcile import gap_words, reconcile_usage
from zeitbuch.app.usage import open_logs
from zeitbuch.cli.shared.days import day_of
from zeitbuch.cli.shared.exit_codes import NO, OK
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.piped_log import piped_logs
from zeitbuch.cli.shared.session import basis_of, finish_session, open_session, say
from zeitbuch.cli.shared.stream import show_result
from zeitbuch.cli.shared.together import OUTPUT, refuse_idle_options
from zeitbuch.core.actuals.reconcile import Asked
from zeitbuch.core.model.sheet import Sheet, top_of
from zeitbuch.core.report.presentations import TableResult, UsageChart
from zeitbuch.core.report.reconcile_tables import explanations_sheet, gaps_sheet
from zeitbuch.writers.outputs.rows import formats_of

_DRAWN = ("--mapping", "--from", "--to", "--max-gap", "--source", "--month", *OUTPUT)


def run(args: argparse.Namespace) -> int:
    """Estimate against logs, and whether a gate lets the difference pass."""
    form = chosen_format(args, "table", "chart")
    drawn = form in formats_of("chart")
    if drawn:
        refuse_idle_options(args, "a picture", _DRAWN)
    elif args.explanations:
        refuse_idle_options(args, "--explanations", ("--top", *_DRAWN))
    asked = Asked("day" if drawn else args.by, day_of(args.first, "--from"), day_of(args.last, "--to"))
    session = open_session(args)
    basis = basis_of(args, session)
    logs = open_logs(session, piped_logs(args.usage, args.source), args.mapping)
    result = reconcile_usage(session, session.estate(args.source), basis, logs, asked)

    def sheet(full: bool) -> Sheet:
        if args.explanations:
            return top_of(explanations_sheet(result, full), args.top)
        return gaps_sheet(result, full, args.top)

    if drawn:
        show_result("chart", form, UsageChart(result), args)
    else:
        show_result("table", form, TableResult("reconcile", result, sheet), args)
    refused = gap_words(result, args.max_gap / 100) if args.max_gap is not None else ""
    if refused:
        say(f"no: {refused}")
    return finish_session(session, args, NO if refused else OK)

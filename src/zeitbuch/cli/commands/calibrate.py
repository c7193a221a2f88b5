"""The work of `calibrate`."""

from __future__ import annotations

import argparse

from zeitbuch.app.calibrate import calibrate_usage, check_usage_fit
from zeitbuch.app.usage import open_logs
from zeitbuch.cli.shared.days import day_of
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.piped_log import piped_logs
from zeitbuch.cli.shared.session import basis_of, finish_session, open_session, say
from zeitbuch.cli.shared.stream import show_result, write_output
from zeitbuch.core.actuals.reconcile import Asked
from zeitbuch.core.model.words import count_words
from zeitbuch.core.report.calibrate_tables import check_sheet, measured_sheet
from zeitbuch.core.report.presentations import TableResult
from zeitbuch.writers.exchange.measured_file import measured_text


def run(args: argparse.Namespace) -> int:
    """What logs tell of assumptions: shown, and written where a file is named; or how well they predict."""
    target = args.output
    if not args.check:
        args.output = None  # the table goes to the terminal, the assumptions to the file
    form = chosen_format(args, "table")
    asked = Asked(first=day_of(args.first, "--from"), last=day_of(args.last, "--to"))
    session = open_session(args)
    basis = basis_of(args, session)
    logs = open_logs(session, piped_logs(args.usage, args.source), args.mapping)
    estate = session.estate(args.source)
    if args.check:
        checked = check_usage_fit(session, estate, basis, logs, asked, args.over is not None)
        show_result("table", form, TableResult("calibration-check", checked, lambda full: check_sheet(checked)), args)
        return finish_session(session, args)
    found = calibrate_usage(session, estate, basis, logs, asked, args.over is not None)
    if target != "-":  # there the assumptions go
        show_result("table", form, TableResult("calibration", found, lambda full: measured_sheet(found, full)), args)
    if target:
        write_output(measured_text(found), target)
        written = sum(one.written for one in found.measured) + sum(one.written for one in found.seasons)
        if not args.quiet and target != "-":
            say(f"{count_words(written, 'rule')} in {target}: zeitbuch estimate --measured {target}")
    return finish_session(session, args)

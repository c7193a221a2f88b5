"""The work of `usage`."""

from __future__ import annotations

import argparse

from zeitbuch.app.usage import open_logs, try_usage
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.session import basis_of, finish_session, open_session
from zeitbuch.cli.shared.stream import show_result
from zeitbuch.core.report.presentations import TableResult
from zeitbuch.core.report.usage_tables import UsageTrials, columns_sheet, names_sheet


def run(args: argparse.Namespace) -> int:
    """What becomes of the lines of logs."""
    form = chosen_format(args, "table")
    session = open_session(args)
    card = basis_of(args, session).card
    logs = open_logs(session, args.usage, args.mapping)
    estate = session.estate(args.source)
    result = UsageTrials(tuple([try_usage(log, estate, card) for log in logs]))
    sheet = names_sheet if args.names else columns_sheet
    show_result("table", form, TableResult("usage-trial", result, lambda full: sheet(result)), args)
    return finish_session(session, args)

"""The work of `check`."""

from __future__ import annotations

import argparse

from zeitbuch.app.check import CheckRequest, check_estate, check_words, find_check
from zeitbuch.cli.shared.exit_codes import NO, OK
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.session import basis_of, finish_session, open_session, say, this_moment
from zeitbuch.cli.shared.stream import show_result
from zeitbuch.core.checks.registry import CHECKS
from zeitbuch.core.model.sheet import Column, Sheet
from zeitbuch.core.report.check_table import checks_sheet
from zeitbuch.core.report.presentations import TableResult, sheet_result
from zeitbuch.writers.outputs.rows import formats_of


def run(args: argparse.Namespace) -> int:
    """Findings of the sources, or what is known of the checks."""
    if args.explain:
        for head, text in check_words(find_check(args.explain)):
            print(f"{head}: {text}")
        return OK
    if args.codes:
        return _list_codes(args)
    form = chosen_format(args, "table", "findings")
    session = open_session(args)
    basis = basis_of(args, session)
    request = CheckRequest(
        tuple(code.strip() for code in args.only.split(",") if code.strip()),
        tuple(args.flow),
        args.fail_on,
        this_moment().date().isoformat(),
    )
    result = check_estate(session, session.estate(args.source), basis, request)
    if form in formats_of("findings"):
        show_result("findings", form, result, args)
    else:
        sheet = checks_sheet(result)
        show_result("table", form, TableResult("checks", result, lambda full: sheet), args)
    if result.refused:
        say(f"no: {result.refused}")
    return finish_session(session, args, NO if result.refused else OK)


def _list_codes(args: argparse.Namespace) -> int:
    rows = tuple((row.code, row.severity, row.title) for row in CHECKS.values())
    sheet = Sheet((Column("code", "code"), Column("severity", "severity"), Column("title", "what it finds")), rows)
    show_result("table", chosen_format(args, "table"), sheet_result(sheet), args)
    return OK

"""The work of `check`."""

from __future__ import annotations

import argparse

from msgspec import structs

from zeitbuch.app.check import CheckRequest, accept_all, check_estate, check_words
from zeitbuch.app.check_rows import all_checks, find_check
from zeitbuch.cli.shared.exit_codes import NO, OK
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.session import basis_of, finish_session, open_session, say, this_moment
from zeitbuch.cli.shared.stream import show_result, write_output
from zeitbuch.cli.shared.together import OUTPUT, refuse_idle_options
from zeitbuch.core.checks.records import Check
from zeitbuch.core.model.sheet import Column, Sheet, top_of
from zeitbuch.core.report.check_table import checks_sheet
from zeitbuch.core.report.presentations import TableResult, sheet_result
from zeitbuch.writers.outputs.rows import formats_of

# What findings are accepted of; they are written as entries of a workspace.
_ACCEPTING = ("--only", "--flow", "--since", "--try", "--usage", "--mapping", "--fail-on", "--output")


def run(args: argparse.Namespace) -> int:
    """Findings of the sources, or what is known of the checks."""
    _check_options(args)
    if args.explain or args.codes:
        known = all_checks(open_session(args))
        return _explain(find_check(args.explain, known)) if args.explain else _list_codes(args, known)
    form = "toml" if args.accept_all else chosen_format(args, "table", "findings")
    session = open_session(args)
    basis = basis_of(args, session)
    request = CheckRequest(
        tuple(code.strip() for code in args.only.split(",") if code.strip()),
        tuple(args.flow),
        args.fail_on,
        this_moment().date().isoformat(),
        args.try_rules,
        args.since,
    )
    estate = session.estate(args.source, resting=not (args.usage or args.mapping))
    if args.usage or args.mapping:
        from zeitbuch.app.usage_facts import usage_facts  # loads NumPy and SciPy

        request = structs.replace(request, usage=usage_facts(session, estate, basis, args.mapping))
    result = check_estate(session, estate, basis, request)
    if args.accept_all:
        write_output(accept_all(result.findings, request.today), args.output)
    elif form in formats_of("findings"):
        show_result("findings", form, result, args)
    else:

        def sheet(full: bool) -> Sheet:
            return top_of(checks_sheet(result, args.accepted, full), args.top)

        show_result("table", form, TableResult("checks", result, sheet), args)
    if result.refused:
        say(f"no: {result.refused}")
    return finish_session(session, args, NO if result.refused else OK)


def _check_options(args: argparse.Namespace) -> None:
    """Raises ZeitbuchError for options of which one would be ignored, and a gate among them would let all pass."""
    if args.explain:
        refuse_idle_options(args, "--explain")
    elif args.codes:
        refuse_idle_options(args, "--codes", OUTPUT)
    elif args.accept_all:
        refuse_idle_options(args, "--accept-all", _ACCEPTING)


def _explain(row: Check) -> int:
    for head, text in check_words(row):
        print(f"{head}: {text}")
    return OK


def _list_codes(args: argparse.Namespace, known: dict[str, Check]) -> int:
    rows = tuple((row.code, row.severity, row.title) for row in known.values())
    sheet = Sheet((Column("code", "code"), Column("severity", "severity"), Column("title", "what it finds")), rows)
    show_result("table", chosen_format(args, "table"), sheet_result(sheet), args)
    return OK

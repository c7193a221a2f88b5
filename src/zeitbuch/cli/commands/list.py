"""The work of `list`."""

from __future__ import annotations

import argparse

from zeitbuch.app.plugins import list_plugins, plugins_table
from zeitbuch.cli.shared.exit_codes import OK
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.session import basis_of, finish_session, open_session, report_problems, this_moment
from zeitbuch.cli.shared.stream import show_result


def run(args: argparse.Namespace) -> int:
    """The rows of a catalogue; or all plug-ins, with what keeps those from use that cannot be used."""
    form = chosen_format(args, "table")
    if args.what == "plugins":
        entries = list_plugins()
        show_result("table", form, plugins_table(entries), args)
        return report_problems([entry.problem for entry in entries if entry.problem is not None], args, OK)
    from zeitbuch.app.catalogues import CatalogueRequest, list_catalogue  # plug-ins are listed without them

    session = open_session(args)
    today = this_moment().date().isoformat()
    request = CatalogueRequest(args.what, args.text, args.where, args.top, today)
    result = list_catalogue(session, session.estate(args.source), basis_of(args, session), request)
    show_result("table", form, result, args)
    return finish_session(session, args)

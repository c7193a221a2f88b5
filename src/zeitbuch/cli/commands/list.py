"""The work of `list`."""

from __future__ import annotations

import argparse

from zeitbuch.app.plugins import list_plugins, plugins_table
from zeitbuch.cli.shared.exit_codes import OK
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.session import report_problems
from zeitbuch.cli.shared.stream import show_result


def run(args: argparse.Namespace) -> int:
    """All plug-ins, with what keeps those from use that cannot be used."""
    form = chosen_format(args, "table")
    entries = list_plugins()
    show_result("table", form, plugins_table(entries), args)
    return report_problems([entry.problem for entry in entries if entry.problem is not None], args, OK)

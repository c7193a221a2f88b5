"""The work of `convert`."""

from __future__ import annotations

import argparse

from zeitbuch.app.convert import STANDARDS, convert_flows
from zeitbuch.app.flows import find_flows
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.session import finish_session, open_session
from zeitbuch.cli.shared.stream import show_result, write_output
from zeitbuch.core.model.records import Estate


def run(args: argparse.Namespace) -> int:
    """All flows, or those named, in one file; in a standard that cannot say everything, what it left out is told."""
    if args.driver:
        from zeitbuch.cli.shared.git_driver import run_text_driver

        return run_text_driver(args)
    form = chosen_format(args, "flows")
    session = open_session(args)
    estate = Estate(flows=tuple(find_flows(session.estate(args.source), args.flow)))
    if form not in STANDARDS:
        show_result("flows", form, estate, args)
        return finish_session(session, args)
    converted = convert_flows(session, estate, form)
    if converted.text:
        write_output(converted.text, args.output)
    session.problems += converted.problems
    return finish_session(session, args)

"""The work of `convert`."""

from __future__ import annotations

import argparse

from zeitbuch.app.flows import find_flows
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.session import finish_session, open_session
from zeitbuch.cli.shared.stream import show_result
from zeitbuch.core.model.records import Estate


def run(args: argparse.Namespace) -> int:
    """All flows, or those named, in one file."""
    form = chosen_format(args, "flows")
    session = open_session(args)
    estate = Estate(flows=tuple(find_flows(session.estate(args.source), args.flow)))
    show_result("flows", form, estate, args)
    return finish_session(session, args)

"""The work of `explain`."""

from __future__ import annotations

import argparse

from zeitbuch.app.explain import explain_flow, tell_what_if
from zeitbuch.app.flows import find_flow
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.session import finish_session, open_session
from zeitbuch.cli.shared.stream import show_result


def run(args: argparse.Namespace) -> int:
    """A flow, a step, or what happens when."""
    form = chosen_format(args, "page")
    session = open_session(args)
    flow = find_flow(session.estate(args.source), args.flow)
    if args.case or args.fails or args.empty:
        result = tell_what_if(flow, args.case, args.fails, args.empty)
    else:
        result = explain_flow(flow, args.step or "")
    show_result("page", form, result, args)
    return finish_session(session, args)

"""The work of `explain`."""

from __future__ import annotations

import argparse

from zeitbuch.app.explain import DIRECTIONS, explain_flow, explain_message, follow_values, tell_what_if
from zeitbuch.app.flows import find_flow
from zeitbuch.cli.shared.exit_codes import OK
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.session import finish_session, open_session
from zeitbuch.cli.shared.stream import show_result, terminal_width, write_output
from zeitbuch.cli.shared.usage_steps import asked_actuals
from zeitbuch.core.model.problems import fail


def run(args: argparse.Namespace) -> int:
    """A flow, a step, or what happens when."""
    if args.message:
        write_output(explain_message(args.message, min(terminal_width(), 100)), args.output)
        return OK
    if not args.flow:
        raise fail("option", "expected the id or name of a FLOW, or --message CODE, found neither")
    form = chosen_format(args, "page")
    session = open_session(args)
    estate = session.estate(args.source)
    flow = find_flow(estate, args.flow)
    directions = [name for name in DIRECTIONS if getattr(args, name)]
    if directions and (not args.step or args.case or args.fails or args.empty):
        found = "no STEP" if not args.step else "--case, --fails or --empty"
        raise fail(
            "option",
            f"expected FLOW and STEP alone beside --{directions[0]}, found {found}",
            "zeitbuch explain FLOW STEP --upstream",
        )
    if (args.usage or args.mapping) and (directions or args.case or args.fails or args.empty):
        hint = "zeitbuch explain FLOW [STEP] --usage"
        raise fail("option", "expected FLOW, and perhaps STEP, beside --usage, found more", hint)
    if directions:
        result = follow_values(estate, flow, args.step, directions)
    elif args.case or args.fails or args.empty:
        result = tell_what_if(estate, flow, args.case, args.fails, args.empty)
    else:
        actuals = asked_actuals(args, session, estate, [flow])
        result = explain_flow(estate, flow, args.step or "", actuals)
    show_result("page", form, result, args)
    return finish_session(session, args)

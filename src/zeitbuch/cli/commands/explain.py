"""The work of `explain`."""

from __future__ import annotations

import argparse

from zeitbuch.app.explain import DIRECTIONS, explain_flow, explain_message, follow_values, tell_what_if
from zeitbuch.app.flows import find_flow
from zeitbuch.cli.shared.exit_codes import OK
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.session import finish_session, open_session
from zeitbuch.cli.shared.stream import show_result, terminal_width, write_output
from zeitbuch.cli.shared.together import OUTPUT, refuse_idle_options
from zeitbuch.cli.shared.usage_steps import asked_actuals
from zeitbuch.core.model.problems import fail


def run(args: argparse.Namespace) -> int:
    """A flow, a step, or what happens when."""
    if args.message:
        refuse_idle_options(args, "--message", ("--output",))
        if args.flow:
            raise fail("option", f"expected --message CODE alone, found FLOW '{args.flow}' beside it")
        write_output(explain_message(args.message, min(terminal_width(), 100)), args.output)
        return OK
    if not args.flow:
        raise fail("option", "expected the id or name of a FLOW, or --message CODE, found neither")
    form = chosen_format(args, "page")
    _check_options(args)
    session = open_session(args)
    estate = session.estate(args.source)
    flow = find_flow(estate, args.flow)
    directions = [name for name in DIRECTIONS if getattr(args, name)]
    if directions:
        result = follow_values(estate, flow, args.step, directions)
    elif args.case or args.fails or args.empty:
        result = tell_what_if(estate, flow, args.case, args.fails, args.empty)
    else:
        actuals = asked_actuals(args, session, estate, [flow])
        result = explain_flow(estate, flow, args.step or "", actuals)
    show_result("page", form, result, args)
    return finish_session(session, args)


def _check_options(args: argparse.Namespace) -> None:
    """Raises ZeitbuchError for options of which one would be ignored."""
    followed = [f"--{name}" for name in DIRECTIONS if getattr(args, name)]
    told = [f"--{name}" for name in ("case", "fails", "empty") if getattr(args, name)]
    for ways in filter(None, (followed, told)):
        refuse_idle_options(args, ways[0], ("--source", *ways, *OUTPUT))
    if followed and not args.step:
        hint = f"zeitbuch explain FLOW STEP {followed[0]}"
        raise fail("option", f"expected FLOW and STEP beside {followed[0]}, found no STEP", hint)
    if told and args.step:
        message = f"expected FLOW alone beside {told[0]}, found STEP '{args.step}' too"
        raise fail("option", message, f"zeitbuch explain FLOW {told[0]} ...")

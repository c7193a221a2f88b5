"""The work of `map`."""

from __future__ import annotations

import argparse
from argparse import Namespace
from collections.abc import Callable
from pathlib import Path

from zeitbuch.app.faults import problem_of_flow
from zeitbuch.app.flows import find_flow
from zeitbuch.app.map import MapRequest, draw_estate, draw_flow
from zeitbuch.app.session import Session
from zeitbuch.cli.shared.formats import chosen_format, rows_of_plugins
from zeitbuch.cli.shared.output_names import is_template, named_outputs
from zeitbuch.cli.shared.session import basis_of, finish_session, open_session, this_moment
from zeitbuch.cli.shared.stream import show_result, write_output
from zeitbuch.cli.shared.usage_steps import asked_actuals
from zeitbuch.core.actuals.step_records import USAGE_SHOWS
from zeitbuch.core.checks.records import CheckFinding
from zeitbuch.core.estimate.records import EstateEstimate
from zeitbuch.core.model.problems import ZeitbuchError, fail
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.core.report.finding_marks import findings_by_flow
from zeitbuch.writers.escape.file_names import file_names
from zeitbuch.writers.map.drawing import MapDrawing
from zeitbuch.writers.map.index_page import to_index
from zeitbuch.writers.outputs.rendering import find_output, render
from zeitbuch.writers.outputs.rows import OutputRow, formats_of
from zeitbuch.writers.theme.terminal import TextLook

ONLY_DOWN = ("html", "text", "bpmn")


def run(args: argparse.Namespace) -> int:
    """One flow, all flows into a folder, or the estate."""
    several = is_template(args.output) and not args.estate
    folder = (
        bool(args.output)
        and not (args.flow or args.estate or several)
        and args.output != "-"
        and not Path(args.output).suffix
    )
    form = (args.format or formats_of("map")[0]) if folder else chosen_format(args, "map")
    _check_options(args, form)
    if args.direction == "right" and form in ONLY_DOWN:
        raise fail(
            "option",
            f"expected --direction down for {form}, found right",
            "SVG, PNG, DOT and Mermaid can run to the right",
        )
    session = open_session(args)
    estate = session.estate(args.source)
    flows = [find_flow(estate, args.flow)] if args.flow else list(estate.flows)
    result = None
    found = None
    if args.show == "findings" or (form == "html" and not args.estate):
        found = _findings(args, session, estate)
    actuals = None if args.estate else asked_actuals(args, session, estate, flows, args.show in USAGE_SHOWS)
    if _needs_figures(args, form):
        # What a run costs is known from the flow itself; a month needs those that call it.
        result = _estimate_for_map(args, session, Estate(flows=tuple(flows)))
    if args.estate:
        costs = result if args.show == "cost" else None
        drawing = draw_estate(estate, args.by, args.stores, costs, args.direction == "right", found)
        show_result("map", form, drawing, args, scale=args.scale)
        return finish_session(session, args)
    request = _map_request(args)
    by_flow = findings_by_flow(found) if found is not None else None
    if folder or several:
        paths = named_outputs(args.output, flows) if several else _paths_in_folder(args, flows, form)
        written = _draw_all(args, session, dict(zip(paths, flows, strict=True)), form,
                            lambda flow: draw_flow(flow, request, result, by_flow, actuals))  # fmt: skip
        if folder:
            listed = [(flow, Path(path).name) for path, flow in written.items()]
            write_output(to_index(listed), str(Path(args.output) / "index.html"))
        return finish_session(session, args)
    if len(flows) != 1:
        raise fail(
            "map-many",
            f"expected one flow to draw, found {len(flows)}",
            "name one with --flow, draw them all into a folder with -o FOLDER, or the estate with --estate",
        )
    show_result("map", form, draw_flow(flows[0], request, result, by_flow, actuals), args, scale=args.scale)
    return finish_session(session, args)


def _estimate_for_map(args: argparse.Namespace, session: Session, estate: Estate) -> EstateEstimate:
    from zeitbuch.app.estimate import estimate_means  # most maps show no figures

    return estimate_means(session, estate, basis_of(args, session))


def _findings(args: argparse.Namespace, session: Session, estate: Estate) -> list[CheckFinding]:
    from zeitbuch.app.check import findings_of_estate  # most maps show none

    return findings_of_estate(session, estate, basis_of(args, session), this_moment().date().isoformat())


def _map_request(args: argparse.Namespace) -> MapRequest:
    return MapRequest(
        depth=args.depth,
        fold=tuple(args.fold),
        around=args.around or "",
        before=args.before,
        after=args.after,
        lineage=args.lineage or "",
        ai=args.ai,
        detail=args.detail,
        show=args.show,
        direction=args.direction,
    )


# Options that say nothing without another one.
_HANG_ON = {"--stores": "--estate", "--by": "--estate", "--before": "--around", "--after": "--around"}


def _check_options(args: argparse.Namespace, form: str) -> None:
    """Refuses options that the map asked for cannot follow, rather than to leave them unheard."""
    for option, other in _HANG_ON.items():
        if option in args.given and other not in args.given:
            raise fail("option", f"expected {other} beside {option}, found none")
    if "--scale" in args.given and form in formats_of("map") and form != "png":
        raise fail("option", f"expected no --scale beside {form}, found both", "it says how many pixels a PNG has")
    if "--month" in args.given and not (_needs_figures(args, form) or args.show == "findings"):
        hint = "a page of a flow (-o FILE.html) and --show passes, calls, cost or findings have figures"
        raise fail("option", "expected a map with figures beside --month, found none", hint)
    if args.estate:
        _refuse_parts(args)


def _needs_figures(args: argparse.Namespace, form: str) -> bool:
    return args.show in ("passes", "calls", "cost") or (form == "html" and not args.estate)


def _refuse_parts(args: Namespace) -> None:
    unheard = ["--" + name for name in ("flow", "fold", "around", "lineage", "ai") if getattr(args, name)]
    unheard += ["--depth"] if args.depth is not None else []
    unheard += ["--detail"] if args.detail != "settings" else []
    unheard += [f"--show {args.show}"] if args.show in ("passes", "calls", *USAGE_SHOWS) else []
    unheard += [option for option in ("--usage", "--mapping", "--from", "--to") if option in args.given]
    if unheard:
        hint = "parts and details are of one flow; --estate takes --by, --stores, --direction, --show cost and --show findings"
        raise fail("option", f"expected no {unheard[0]} beside --estate, found it", hint)


def _paths_in_folder(args: argparse.Namespace, flows: list[Flow], form: str) -> list[str]:
    suffix = find_output("map", form, _added(form)).suffixes[0]
    return [str(Path(args.output) / f"{name}{suffix}") for name in file_names([flow.title for flow in flows])]


def _added(form: str) -> tuple[OutputRow, ...]:
    return () if form in formats_of("map") else rows_of_plugins()


def _draw_all(
    args: argparse.Namespace, session: Session, flows: dict[str, Flow], form: str, draw: Callable[[Flow], MapDrawing]
) -> dict[str, Flow]:
    """One file a flow, by its path; what was written. A flow that cannot be drawn is told, and the others are drawn all the same."""
    look = TextLook(file=True, scale=args.scale)
    written: dict[str, Flow] = {}
    with session.progress(len(flows), "drawing") as advance:
        for place, (path, flow) in enumerate(flows.items()):
            try:
                drawn = render("map", form, draw(flow), look, _added(form))
            except ZeitbuchError as error:
                if error.problem.code == "library-missing":
                    raise
                session.problems.append(problem_of_flow(error, "draw", flow))
            except Exception as error:  # the others are drawn all the same
                session.problems.append(problem_of_flow(error, "draw", flow))
            else:
                write_output(drawn, path)
                written[path] = flow
            advance(place)
    return written

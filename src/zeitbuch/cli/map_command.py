"""Draw the step graph of flows: from top to bottom, scopes as frames, error routes dashed, in the order of execution."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from zeitbuch.writers.theme.look import MAP_FORMATS as FORMATS

from .common import Session, add_output, add_reading, add_sources, chosen_format, pick
from .estimate_command import add_figures, estimate_of

if TYPE_CHECKING:
    from zeitbuch.core.estimate.records import EstateEstimate
    from zeitbuch.core.layout.cards import Showing
    from zeitbuch.core.layout.views import View
    from zeitbuch.core.model.records import Flow

SUFFIXES = {"text": "txt", "mermaid": "mmd"}
EXAMPLE = """\
examples:
  zeitbuch map exports/ --flow "Lost property matching" -o lost-property.svg
  zeitbuch map --flow SH-1040 --format text                 a tree in the terminal
  zeitbuch map --flow SH-1040 -o lost-property.html         a page to search, fold and click
  zeitbuch map --flow "Customer letters" --depth 1 -o letters.svg
  zeitbuch map --flow "Weather warnings" --around "How rough?" --after 1 -o rough.svg
  zeitbuch map --flow "Crew swap approvals" --lineage "Read both rotas" --format text
  zeitbuch map --flow "Berth delay notices" --show cost -o cost.svg
  zeitbuch map exports/ -o maps/              one file a flow and an index, in a folder
  zeitbuch map exports/ --estate --by owner -o estate.svg"""


def add(parser: argparse.ArgumentParser) -> None:
    add_sources(parser)
    group = parser.add_argument_group("what to draw")
    group.add_argument(
        "--flow", metavar="NAME", help="this flow (id or name); without it all flows, into the folder of -o"
    )
    group.add_argument("--estate", action="store_true", help="the flows as cards, with their calls")
    group.add_argument(
        "--by", choices=("owner", "connection", "environment", "none"), default="owner", help="frames of --estate"
    )
    group.add_argument(
        "--stores", action="store_true", help="with --estate: draw what one flow writes and another reads"
    )
    group = parser.add_argument_group("which part of a flow")
    group.add_argument("--depth", type=int, metavar="N", help="fold scopes that stand N scopes deep (0: all)")
    group.add_argument("--fold", metavar="SCOPE", action="append", default=[], help="fold this scope; may be repeated")
    group.add_argument("--around", metavar="STEP", help="only this step (id, number or name) and what is near it")
    group.add_argument("--before", type=int, default=2, metavar="N", help="with --around: links upstream (default: 2)")
    group.add_argument("--after", type=int, default=2, metavar="N", help="with --around: links downstream (default: 2)")
    group.add_argument(
        "--lineage", metavar="STEP[:PATH]", help="only the way of a value, from the step that gives it on"
    )
    group.add_argument("--ai", action="store_true", help="only steps that use AI, and what stands beside them")
    group = parser.add_argument_group("what the cards show")
    group.add_argument(
        "--detail", choices=("names", "settings", "prompts"), default="settings", help="default: settings"
    )
    group.add_argument("--direction", choices=("down", "right"), default="down", help="where time runs (default: down)")
    group.add_argument("--show", choices=("passes", "calls", "cost"), help="figures of the estimate, with bars")
    group.add_argument("--month", metavar="YYYY-MM", default="", help="month of the estimate; default as in `estimate`")
    group.add_argument("--scale", type=float, default=2.0, metavar="N", help="pixels a point in PNG (default: 2)")
    add_figures(parser)
    add_output(parser, FORMATS, "svg")
    add_reading(parser)


def run(args: argparse.Namespace) -> int:
    from pathlib import Path

    from zeitbuch.core.model.problems import fail
    from zeitbuch.core.model.records import Estate

    from . import stream

    if not 0.2 <= args.scale <= 8:
        raise fail("option", f"expected --scale from 0.2 to 8, found {args.scale:g}")
    for name in ("before", "after", "depth"):
        value = getattr(args, name)
        if value is not None and value < 0:
            raise fail("option", f"expected --{name} of 0 or more, found {value}")
    _fitting(args)
    one = args.flow or args.estate
    folder = args.output is not None and not one and args.output != "-" and not Path(args.output).suffix
    form = (args.format or "svg") if folder else chosen_format(args, FORMATS, "svg")
    if args.direction == "right" and form in ("html", "text", "bpmn"):
        raise fail(
            "option",
            f"expected --direction down for {form}, found right",
            "SVG, PNG, DOT and Mermaid can run to the right",
        )
    session = Session(args)
    estate = session.estate(args.source)
    flows = [pick(estate, args.flow)] if args.flow else list(estate.flows)
    result = None
    if args.show or (form == "html" and not args.estate):
        # What a run costs is known from the flow itself; a month needs those that call it.
        result = estimate_of(args, session, Estate(flows=tuple(flows)))
    if args.estate:
        from msgspec import structs

        from zeitbuch.core.layout.estate_map import estate_view

        view, showing = estate_view(estate, args.by, args.stores, result if args.show == "cost" else None)
        showing = structs.replace(showing, turned=args.direction == "right")
        stream.write(_drawn(view, showing, form, args, None, None), args.output)
        return session.finish()
    if len(flows) != 1 and not folder:
        raise fail(
            "map-many",
            f"expected one flow to draw, found {len(flows)}",
            "name one with --flow, draw them all into a folder with -o FOLDER, or the estate with --estate",
        )
    if not folder:
        stream.write(_one(args, flows[0], form, result), args.output)
        return session.finish()
    _all(args, session, flows, form, result)
    return session.finish()


def _fitting(args: argparse.Namespace) -> None:
    """Refuses options that the map asked for cannot follow, rather than to leave them unheard."""
    from zeitbuch.core.model.problems import fail

    if args.stores and not args.estate:
        raise fail("option", "expected --estate beside --stores, found none")
    if not args.estate:
        return
    unheard = ["--" + n for n in ("flow", "fold", "around", "lineage", "ai") if getattr(args, n)]
    unheard += ["--depth"] if args.depth is not None else []
    unheard += ["--detail"] if args.detail != "settings" else []
    unheard += [f"--show {args.show}"] if args.show in ("passes", "calls") else []
    if unheard:
        hint = "parts and details are of one flow; --estate takes --by, --stores, --direction and --show cost"
        raise fail("option", f"expected no {unheard[0]} beside --estate, found it", hint)


def _all(
    args: argparse.Namespace, session: Session, flows: list[Flow], form: str, result: EstateEstimate | None
) -> None:
    """One file a flow, and an index."""
    from pathlib import Path

    from zeitbuch.core.model.problems import ZeitbuchError
    from zeitbuch.writers.escape.file_names import file_names
    from zeitbuch.writers.map.index_page import to_index

    from . import stream

    folder, suffix = Path(args.output), SUFFIXES.get(form, form)
    names = file_names([f.title for f in flows])
    written: list[tuple[Flow, str]] = []
    with session.progress(len(flows), "drawing") as progress:
        for at, (flow, name) in enumerate(zip(flows, names, strict=True)):
            try:
                stream.write(_one(args, flow, form, result), str(folder / f"{name}.{suffix}"))
                written.append((flow, f"{name}.{suffix}"))
            except ZeitbuchError as error:
                if error.problem.code == "write":
                    raise
                session.reader.problems.append(error.problem)  # the rest is drawn all the same
            progress.at(at)
    stream.write(to_index(written), str(folder / "index.html"))


def _one(args: argparse.Namespace, flow: Flow, form: str, result: EstateEstimate | None) -> str | bytes:
    from zeitbuch.core.graph.topology import Graph
    from zeitbuch.core.layout.cards import Showing
    from zeitbuch.core.layout.overlays import overlay
    from zeitbuch.core.layout.views import whole

    view = _part(args, whole(Graph(flow)))
    meters, scale = overlay(result, flow, args.show) if args.show and result is not None else ({}, "")
    showing = Showing(args.detail, view.remarks, view.marked, meters, scale, turned=args.direction == "right")
    return _drawn(view, showing, form, args, flow, result)


def _part(args: argparse.Namespace, view: View) -> View:
    """The part of the flow that the options ask for."""
    from zeitbuch.core.graph.topology import pick_step
    from zeitbuch.core.layout import views
    from zeitbuch.core.model.problems import fail

    graph = view.graph
    if args.lineage:
        key, _, path = args.lineage.partition(":")
        if args.lineage in graph.names or args.lineage in graph.names.values():
            key, path = args.lineage, ""  # the name has a colon of its own
        trigger = next((t.id for t in graph.flow.triggers if key in (t.id, t.name)), None)
        view = views.value(view, trigger or pick_step(graph, key).id, path)
    if args.ai:
        view = views.with_ai(view)
    if args.around:
        view = views.around(view, pick_step(graph, args.around).id, args.before, args.after)
    folds = [pick_step(graph, name) for name in args.fold]
    for step in folds:
        if step.id not in graph.levels:
            scopes = ", ".join(graph.steps[s].title for s in graph.levels if s is not None) or "none"
            raise fail("map-fold", f"expected a step that holds others, found '{step.title}'", f"scopes: {scopes}")
    shut = [s.id for s in folds] + (views.scopes_below(view.graph, args.depth) if args.depth is not None else [])
    return views.folded(view, shut) if shut else view


def _drawn(
    view: View, showing: Showing, form: str, args: argparse.Namespace, flow: Flow | None, result: EstateEstimate | None
) -> str | bytes:
    from zeitbuch.writers.map.formats import drawn

    from . import stream

    # A file is as wide as its longest line; a terminal is not.
    width = 1000 if args.output and args.output != "-" else stream.width()
    return drawn(view, showing, form, args.scale, width, result if flow is not None else None)

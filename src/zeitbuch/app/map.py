# What a map shows: a whole flow or a part of it, with or without figures, or the estate with its calls.
"""Maps of flows and of the estate."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Literal

from msgspec import Struct, structs

from zeitbuch.core.actuals.step_records import USAGE_SHOWS, FlowActuals, UsageShow
from zeitbuch.core.checks.records import CheckFinding
from zeitbuch.core.estimate.records import EstateEstimate
from zeitbuch.core.graph.step_lookup import pick_step
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.layout import views
from zeitbuch.core.layout.cards import Detail, Showing
from zeitbuch.core.layout.estate_map import By, estate_view
from zeitbuch.core.layout.overlays import Overlay, make_overlay
from zeitbuch.core.layout.views import View
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.core.report.finding_marks import counts_words, flow_marks, step_marks
from zeitbuch.core.report.usage_blocks import step_pairs
from zeitbuch.core.report.usage_overlay import marks_of_usage
from zeitbuch.writers.map.drawing import MapDrawing


class MapRequest(Struct, frozen=True):
    """Which part of a flow is drawn, and what its cards show. ``lineage`` is STEP or STEP:PATH; steps are named by id, number
    or name; ``depth`` folds scopes that stand so many scopes deep."""

    depth: int | None = None
    fold: tuple[str, ...] = ()
    around: str = ""
    before: int = 2
    after: int = 2
    lineage: str = ""
    ai: bool = False
    detail: Detail = "settings"
    show: Overlay | UsageShow | Literal["findings"] | None = None
    direction: Literal["down", "right"] = "down"


def draw_flow(
    flow: Flow,
    request: MapRequest,
    result: EstateEstimate | None = None,
    found: Mapping[str, Sequence[CheckFinding]] | None = None,
    actuals: Mapping[str, FlowActuals] | None = None,
) -> MapDrawing:
    """The map of a flow; ``result`` gives the figures, ``found`` the findings of each flow, ``actuals`` what logs have of it (by id). Raises
    ZeitbuchError for steps that are not there."""
    whole = Graph(flow)
    view = part_of_flow(views.whole_flow(whole), request)
    meters: dict[str, tuple[str, float]] = {}
    scale = ""
    points: dict[str, tuple[str, ...]] = {}
    if found is not None:
        meters, points = step_marks(view.graph, found.get(flow.id, ()))
    if request.show == "findings":
        scale = f"findings: {counts_words(found.get(flow.id, ()) if found is not None else ())}"
    elif result is not None and (request.show == "passes" or request.show == "calls" or request.show == "cost"):
        meters, scale = make_overlay(result, flow, request.show)
    else:
        meters = {}
    turned = request.direction == "right"
    showing = Showing(request.detail, view.remarks, view.marked, meters, scale, turned=turned, points=points)
    return MapDrawing(view, _with_usage(showing, whole, request, actuals), result)


def _with_usage(
    showing: Showing, graph: Graph, request: MapRequest, actuals: Mapping[str, FlowActuals] | None
) -> Showing:
    """With what logs have of the flow: on its cards, where the overlay is one of logs, and in the panel of a page."""
    if actuals is None:
        return showing
    found = actuals.get(graph.flow.id)
    if found is not None:
        showing = structs.replace(showing, told={step.id: step_pairs(step, found) for step in found.steps})
    show = next((name for name in USAGE_SHOWS if name == request.show), None)
    if show is None:
        return showing
    marks = marks_of_usage(graph, found, show)
    remarks = {key: (*showing.remarks.get(key, ()), *words) for key, words in marks.remarks.items()}
    return structs.replace(
        showing, meters=marks.meters, scale=marks.scale, marked=showing.marked | marks.marked,
        remarks={**showing.remarks, **remarks}, link_words=marks.link_words, heavy=marks.heavy,
    )  # fmt: skip


def draw_estate(
    estate: Estate,
    by: By,
    stores: bool = False,
    result: EstateEstimate | None = None,
    turned: bool = False,
    found: Sequence[CheckFinding] | None = None,
) -> MapDrawing:
    """The map of an estate, framed ``by``; ``stores`` draws what one flow writes and another reads, ``found`` marks flows with findings."""
    view, showing = estate_view(estate, by, stores, result)
    if found is not None:
        words = counts_words([one for one in found if not one.accepted])
        showing = structs.replace(showing, meters=flow_marks(found), scale=f"findings: {words}")
    return MapDrawing(view, structs.replace(showing, turned=turned))


def part_of_flow(view: View, request: MapRequest) -> View:
    """The part of a flow that is asked for."""
    graph = view.graph
    if request.lineage:
        view = _follow_value(view, request.lineage)
    if request.ai:
        view = views.with_ai(view)
    if request.around:
        view = views.around_step(view, pick_step(graph, request.around).id, request.before, request.after)
    folds = [pick_step(graph, name) for name in request.fold]
    for step in folds:
        if step.id not in graph.levels:
            scopes = ", ".join(graph.steps[text].title for text in graph.levels if text is not None) or "none"
            raise fail("map-fold", f"expected a step that holds others, found '{step.title}'", f"scopes: {scopes}")
    shut = [step.id for step in folds]
    if request.depth is not None:
        shut += views.scopes_below(view.graph, request.depth)
    return views.fold_scopes(view, shut) if shut else view


def _follow_value(view: View, asked: str) -> View:
    graph = view.graph
    key, _, path = asked.partition(":")
    if asked in graph.names or asked in graph.names.values():
        key, path = asked, ""  # the name has a colon of its own
    trigger = next((trigger.id for trigger in graph.flow.triggers if key in (trigger.id, trigger.name)), None)
    return views.follow_value(view, trigger or pick_step(graph, key).id, path)

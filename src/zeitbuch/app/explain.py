# A flow in plain words, and what happens when a case is taken, a step fails or gives nothing.
"""Explaining flows."""

from __future__ import annotations

from collections.abc import Sequence

from zeitbuch.core.graph.topology import Graph, pick_step
from zeitbuch.core.model.records import Flow
from zeitbuch.core.report import explanation
from zeitbuch.core.report.presentations import PageResult
from zeitbuch.core.report.what_if import WhatIfSimulation, given_of


def explain_flow(flow: Flow, step: str = "") -> PageResult:
    """A flow, or one of its steps (id, number or name). Raises ZeitbuchError for a step that is not there."""
    graph = Graph(flow)
    page = explanation.explanation_page(graph, pick_step(graph, step) if step else None)
    return PageResult("explain", page, page)


def tell_what_if(flow: Flow, cases: Sequence[str], fails: Sequence[str], empty: Sequence[str]) -> PageResult:
    """What happens when decisions take these cases ('CASE' or 'STEP=CASE'), these steps fail, and these give nothing."""
    graph = Graph(flow)
    story = WhatIfSimulation(graph, given_of(graph, list(cases), list(fails), list(empty))).tell_story()
    return PageResult("story", story, explanation.story_page(graph, story))

# A flow in plain words, and what happens when a case is taken, a step fails or gives nothing.
"""Explaining flows."""

from __future__ import annotations

import difflib
import textwrap
from collections.abc import Mapping, Sequence
from typing import get_args

from msgspec import structs

from zeitbuch.core.actuals.step_records import FlowActuals
from zeitbuch.core.graph.flow_calls import titles_of
from zeitbuch.core.graph.step_lookup import pick_step
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.messages import MESSAGES
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.core.report import explanation
from zeitbuch.core.report.presentations import PageResult
from zeitbuch.core.report.usage_blocks import usage_section
from zeitbuch.core.report.value_ways import Direction, ValueWays
from zeitbuch.core.report.what_if import WhatIfSimulation, given_of

DIRECTIONS: tuple[Direction, ...] = get_args(Direction)


def explain_flow(
    estate: Estate, flow: Flow, step: str = "", actuals: Mapping[str, FlowActuals] | None = None
) -> PageResult:
    """A flow of an estate, or one of its steps (id, number or name), with ``actuals`` also what logs have of it (by flow id). Raises
    ZeitbuchError for a step that is not there."""
    graph = Graph(flow, titles_of(estate.flows))
    one = pick_step(graph, step) if step else None
    page = explanation.explanation_page(graph, one)
    if actuals is not None:
        more = usage_section(graph, actuals.get(flow.id), one)
        page = structs.replace(page, blocks=(*page.blocks, *more))
    return PageResult("explain", page, page)


def follow_values(estate: Estate, flow: Flow, step: str, directions: Sequence[Direction]) -> PageResult:
    """Where what a step (id, number or name) takes comes from, and where what it makes goes, over all flows of the estate. Raises ZeitbuchError
    for a step that is not there."""
    page = ValueWays(estate).page(flow, pick_step(Graph(flow), step), directions)
    return PageResult("explain", page, page)


def tell_what_if(
    estate: Estate, flow: Flow, cases: Sequence[str], fails: Sequence[str], empty: Sequence[str]
) -> PageResult:
    """What happens when decisions take these cases ('CASE' or 'STEP=CASE'), these steps fail, and these give nothing."""
    graph = Graph(flow, titles_of(estate.flows))
    story = WhatIfSimulation(graph, given_of(graph, list(cases), list(fails), list(empty))).tell_story()
    return PageResult("story", story, explanation.story_page(graph, story))


def explain_message(code: str, width: int) -> str:
    """What the message with a code means and what to do, in lines of at most ``width``. Raises ZeitbuchError for a code that
    no message has."""
    row = next((row for row in MESSAGES if row.code == code.strip("[]")), None)
    if row is None:
        near = difflib.get_close_matches(code, [row.code for row in MESSAGES], 3)
        hint = f"near it: {', '.join(near)}" if near else "it stands in brackets behind the message"
        raise fail("message-unknown", f"expected the code of a message, found '{code}'", hint)
    about = textwrap.fill(row.about, width)
    return f"{row.code}\n\n{about}\n\n{textwrap.fill('What to do: ' + row.remedy, width)}\n"

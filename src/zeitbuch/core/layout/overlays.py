# Figures of an estimate on the cards of a map: in words, and as a bar against the largest.
"""Overlays of maps: passes, calls, cost."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

from zeitbuch.core.assumptions.money import money_words
from zeitbuch.core.estimate.records import EstateEstimate, StepEstimate
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Flow

Overlay = Literal["passes", "calls", "cost"]


def _short_number(value: float) -> str:
    return f"{value:,.0f}" if value >= 100 else f"{value:.3g}"


def make_overlay(result: EstateEstimate, flow: Flow, what: Overlay) -> tuple[dict[str, tuple[str, float]], str]:
    """Step -> (figure in words, length of its bar), and what the bars mean. Raises ZeitbuchError for a flow that was not
    estimated."""
    found = next((f for f in result.flows if f.id == flow.id), None)
    if found is None:
        raise fail("map-overlay", f"expected an estimate of '{flow.title}', found none")
    value, words = _figure_of_step(result, what)
    shown = [s for s in found.steps if what == "passes" or s.calls or s.cost.amount or s.cost.unknown]
    most = max((value(s) for s in shown), default=0.0)
    meters = {s.id: (words(s), value(s) / most if most else 0.0) for s in shown}
    top = f"{_short_number(most)}" if what != "cost" else f"{most:.4g} {result.currency}"
    name = {"passes": "passes per run", "calls": "model calls per run", "cost": "model cost per run"}[what]
    return meters, f"{name}, longest bar {top}"


def _figure_of_step(
    result: EstateEstimate, what: Overlay
) -> tuple[Callable[[StepEstimate], float], Callable[[StepEstimate], str]]:
    value: Callable[[StepEstimate], float]
    words: Callable[[StepEstimate], str]
    if what == "passes":
        value, words = lambda s: s.passes, lambda s: f"{_short_number(s.passes)} passes per run"
    elif what == "calls":
        value, words = lambda s: s.calls, lambda s: f"{_short_number(s.calls)} calls per run"
    else:
        value, words = lambda s: float(s.cost.amount), lambda s: f"{money_words(s.cost)} {result.currency} per run"
    return value, words

# The flow of a map as a standard's file.
"""Maps as BPMN."""

from __future__ import annotations

from zeitbuch.core.model.records import Estate
from zeitbuch.writers.exchange.bpmn import to_bpmn
from zeitbuch.writers.theme.terminal import TextLook

from .drawing import MapDrawing


def write_bpmn(drawing: MapDrawing, look: TextLook) -> str:
    """The flow as BPMN."""
    return to_bpmn(Estate(flows=(drawing.view.graph.flow,)))

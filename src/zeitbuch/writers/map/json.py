# The drawing as data.
"""Maps as JSON."""

from __future__ import annotations

from zeitbuch.core.layout.map_record import map_record
from zeitbuch.writers.table.tables import to_json
from zeitbuch.writers.theme.terminal import TextLook

from .drawing import MapDrawing


def write_json(drawing: MapDrawing, look: TextLook) -> str:
    """Places of all cards and routes."""
    return to_json("map", map_record(drawing.view.graph, drawing.scene()))

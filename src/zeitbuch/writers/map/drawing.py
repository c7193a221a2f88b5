# Every format of a map begins with the same drawing: a view of a flow or an estate, and what its cards show. Formats that are
# drawn take places from the scene; the others take the steps as they are.
"""What a map shows."""

from __future__ import annotations

from typing import NamedTuple

from zeitbuch.core.estimate.records import EstateEstimate
from zeitbuch.core.layout.cards import PLAIN, Showing
from zeitbuch.core.layout.geometry import Scene
from zeitbuch.core.layout.views import View


class MapDrawing(NamedTuple):
    """What a map shows; ``result`` is the estimate on the cards of a page."""

    view: View
    showing: Showing = PLAIN
    result: EstateEstimate | None = None

    @property
    def direction(self) -> str:
        """Where time runs."""
        return "right" if self.showing.turned else "down"

    def scene(self) -> Scene:
        """The drawing with all its places."""
        from zeitbuch.core.layout.scene import draw_scene  # a tree or a list of links needs no places
        from zeitbuch.writers.theme.fonts import measure_text

        return draw_scene(self.view.graph, measure_text, self.showing, self.view.facts)

"""The variables of flows."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.checks.families.left_over import placeholder_in
from zeitbuch.core.checks.views import FlowView
from zeitbuch.core.graph.phrases import value_words
from zeitbuch.core.model.sheet import Column

from .records import Catalogue, Entry, Uses


def _said(value: Any) -> str:
    """A value as exports write it."""
    return "" if value is None else value if isinstance(value, str) else value_words(value, (), {})


def _rows(estate: EstateView) -> Iterator[Entry]:
    values: dict[str, set[str]] = {}
    for flow in estate.flows:
        for one in flow.variables:
            values.setdefault(one.name.casefold(), set()).add(_said(one.value))
    for flow in estate.flows:
        view = FlowView(flow, estate)
        for one in flow.variables:
            uses = Uses()
            for part, ref in view.used_refs:
                if ref.variable == one.name:
                    uses.add(flow, part)
            shown = _said(one.value)
            marks = [] if uses.flows or one.name in view.all_text else ["unused"]
            marks += ["placeholder"] if placeholder_in(shown) else []
            marks += [] if shown.strip() else ["empty"]
            marks += ["another value in another flow"] if len(values[one.name.casefold()]) > 1 else []
            yield {
                "name": one.name,
                "value": shown,
                "flow": flow.title,
                "about": one.description,
                **uses.columns,
                "marks": marks,
            }


CATALOGUE = Catalogue(
    "variables", "variables, their values and who uses them", (
        Column("name", "variable"), Column("value", "value"), Column("flow", "flow"), Column("about", "what for", rank=2),
    ), _rows,
)  # fmt: skip

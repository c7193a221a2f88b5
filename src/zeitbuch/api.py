# The public functions for notebooks and scripts, thin over readers and core.
"""Public API: ``read`` and functions named like the commands."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from msgspec import Struct, structs

from .core import inventory as _inventory
from .core.assume import Assumptions
from .core.cards import PLAIN
from .core.change_records import EstateChanges
from .core.changes import changes as _changes
from .core.document import Page, flow_page
from .core.estate_map import By
from .core.estimate import EstateEstimate
from .core.estimate import estimate as _estimate
from .core.estimate_sheet import flows_sheet, steps_sheet
from .core.explain import page as _explain
from .core.explain import pick_step
from .core.model import Estate, Flow
from .core.problems import Problem, fail
from .core.rates import RateCard
from .core.sheet import Sheet
from .core.side_by_side import Comparison
from .core.topology import Graph
from .core.views import whole
from .readers.dialect import load_dialect
from .readers.figures import load_assumptions, load_rates
from .readers.reader import Reader, read_estate

if TYPE_CHECKING:
    import pandas


__all__ = ["compare", "diff", "document", "estimate", "explain", "inventory", "map", "read"]


def _frame(sheet: Sheet) -> pandas.DataFrame:
    import pandas

    return pandas.DataFrame([list(r) for r in sheet.rows], columns=[c.key for c in sheet.columns])


class Inventory(Struct, frozen=True):
    """Rows and totals of an inventory."""

    rows: tuple[_inventory.Row, ...]
    totals: _inventory.Totals

    def to_frame(self) -> pandas.DataFrame:
        """One row a flow (needs pandas: ``pip install zeitbuch[frames]``)."""
        return _frame(_inventory.sheet(list(self.rows), full=True))


class Estimate(Struct, frozen=True):
    """An estimate; ``result`` holds flows, steps and totals."""

    result: EstateEstimate

    def to_frame(self, steps: bool = False) -> pandas.DataFrame:
        """One row a flow or a step."""
        return _frame(steps_sheet(self.result, True) if steps else flows_sheet(self.result))


class Compared(Struct, frozen=True):
    """A comparison of scenarios."""

    result: Comparison

    def to_frame(self) -> pandas.DataFrame:
        """One row a flow, a pair of columns a scenario."""
        from .core.compare_sheet import comparison_sheet

        return _frame(comparison_sheet(self.result, True))


def read(*sources: str, dialects: Sequence[str] = (), problems: list[Problem] | None = None) -> Estate:
    """All flows of files and folders. ``dialects`` are paths of dialect files.

    What is wrong in the input is appended to ``problems``; without that list the first error is raised
    as ZeitbuchError.
    """
    reader = Reader([load_dialect(d) for d in dialects])
    estate = read_estate(reader, sources)
    if problems is not None:
        problems += reader.problems
        return estate
    for p in reader.problems:
        if p.severity == "error":
            raise fail(p.code, p.message, p.hint, p.origin)
    return estate


def inventory(estate: Estate) -> Inventory:
    """One row a flow."""
    rows = _inventory.rows(estate.flows)
    return Inventory(tuple(rows), _inventory.totals(rows))


def _sound(problems: Sequence[Problem]) -> None:
    for p in problems:
        if p.severity == "error":
            raise fail(p.code, p.message, p.hint, p.origin)


def _figures(rates: str, assumptions: str) -> tuple[RateCard | None, Assumptions]:
    card, found = load_rates(rates) if rates else (None, [])
    assumed, more = load_assumptions(assumptions) if assumptions else (Assumptions(), [])
    _sound([*found, *more])
    return card, assumed


def estimate(estate: Estate, rates: str = "", assumptions: str = "", month: str = "", runs: int | None = 0) -> Estimate:
    """Calls, tokens and cost; ``rates`` and ``assumptions`` are paths of TOML files.

    ``runs`` sampled runs a flow give distributions; None draws until they stand to 1 %, 0 none.
    """
    card, assumed = _figures(rates, assumptions)
    if runs == 0:
        return Estimate(_estimate(estate, card, assumed, month))
    from .core.distribution import Sampling
    from .core.large import estimate_flows

    return Estimate(estimate_flows(estate.flows, card, assumed, month, Sampling(runs), detail=True))


def compare(
    estate: Estate, scenarios: Sequence[str], rates: str = "", assumptions: str = "", month: str = ""
) -> Compared:
    """The estimate beside scenarios (paths of TOML files); ``result`` holds options, flows and break-evens."""
    from .core.side_by_side import compare as _compare
    from .readers.figures import load_scenario

    card, assumed = _figures(rates, assumptions)
    loaded = [load_scenario(path, card) for path in scenarios]
    _sound([p for _, found in loaded for p in found])
    return Compared(_compare(estate, card, assumed, [s for s, _ in loaded], month))


def diff(old: Estate, new: Estate) -> EstateChanges:
    """What changed in meaning between two versions."""
    return _changes(old, new)


def explain(flow: Flow, step: str = "") -> Page:
    """A flow or a step (id, number or name) in plain words, as blocks."""
    graph = Graph(flow)
    return _explain(graph, pick_step(graph, step) if step else None)


def map(of: Flow | Estate, form: str = "svg", by: By = "owner", turned: bool = False) -> str | bytes:
    """The map of a flow, or of an estate framed ``by`` owner, connection, environment or none: in any format of the command
    (PNG is bytes); ``turned`` runs from left to right (svg, png, dot, mermaid)."""
    from .writers.drawn import drawn

    if isinstance(of, Estate):
        from .core.estate_map import estate_view

        view, showing = estate_view(of, by)
    else:
        view, showing = whole(Graph(of)), PLAIN
    return drawn(view, structs.replace(showing, turned=turned), form)


def document(flow: Flow, estimated: Any = None) -> Page:
    """The document of a flow as blocks; ``estimated`` is a result of ``estimate``."""
    return flow_page(flow, "flow", estimated.result if isinstance(estimated, Estimate) else None)

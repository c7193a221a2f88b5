# The public functions for notebooks and scripts, thin over readers and core.
"""Public API: ``read`` and functions named like the commands."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from msgspec import Struct, structs

from zeitbuch.app.sources import inputs_of
from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.diff.estate_changes import changes as _changes
from zeitbuch.core.diff.records import EstateChanges
from zeitbuch.core.estimate.comparison import Comparison
from zeitbuch.core.estimate.estate import EstateEstimate
from zeitbuch.core.estimate.estate import estimate as _estimate
from zeitbuch.core.graph.topology import Graph, pick_step
from zeitbuch.core.layout.cards import PLAIN
from zeitbuch.core.layout.estate_map import By
from zeitbuch.core.layout.views import whole
from zeitbuch.core.model.problems import Problem, fail
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.core.model.sheet import Sheet
from zeitbuch.core.pricing.rate_card import RateCard
from zeitbuch.core.report import inventory as _inventory
from zeitbuch.core.report.document import Page, flow_page
from zeitbuch.core.report.estimate_tables import flows_sheet, steps_sheet
from zeitbuch.core.report.explanation import page as _explain
from zeitbuch.readers.config.figures import load_assumptions, load_rates
from zeitbuch.readers.dialects.rules import load_dialect
from zeitbuch.readers.reading.reader import Reader

if TYPE_CHECKING:
    import pandas

    from zeitbuch.cli.recording import Taken
    from zeitbuch.core.diff.clones import Twin


__all__ = [
    "compare", "diff", "document", "estimate", "explain", "history", "inventory", "map", "read", "record", "restore", "twins",
]  # fmt: skip


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
        from zeitbuch.core.report.comparison_tables import comparison_sheet

        return _frame(comparison_sheet(self.result, True))


class Diff(Struct, frozen=True):
    """A comparison of two versions; ``result`` holds the changes, with figures when a rate card was named."""

    result: EstateChanges
    currency: str = ""

    @property
    def unchanged(self) -> int:
        return self.result.unchanged

    def to_frame(self, changes: bool = False) -> pandas.DataFrame:
        """One row a flow, or one a change."""
        from zeitbuch.core.report.change_tables import changes_sheet, summary_sheet

        return _frame(changes_sheet(self.result) if changes else summary_sheet(self.result, self.currency))


class History(Struct, frozen=True):
    """Snapshots of a book, or versions of a flow."""

    sheet: Sheet

    def to_frame(self) -> pandas.DataFrame:
        """One row a snapshot or version."""
        return _frame(self.sheet)


def read(
    *sources: str, dialects: Sequence[str] = (), problems: list[Problem] | None = None, book: str = "book.sqlite"
) -> Estate:
    """All flows of files, folders, packages, revisions (git:REV:PATH) and recorded states (@N, of ``book``). ``dialects`` are
    paths of dialect files.

    What is wrong in the input is appended to ``problems``; without that list the first error is raised
    as ZeitbuchError.
    """
    reader = Reader([load_dialect(d) for d in dialects])
    inputs = [one for source in sources for one in inputs_of(source, reader.limits, book)]
    estate = Estate(tuple(reader.flows_of(inputs)))
    reader.finish()
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
    from zeitbuch.core.estimate.distribution import Sampling
    from zeitbuch.core.estimate.sampled_estate import estimate_flows

    return Estimate(estimate_flows(estate.flows, card, assumed, month, Sampling(runs), detail=True))


def compare(
    estate: Estate, scenarios: Sequence[str], rates: str = "", assumptions: str = "", month: str = ""
) -> Compared:
    """The estimate beside scenarios (paths of TOML files); ``result`` holds options, flows and break-evens."""
    from zeitbuch.core.estimate.comparison import compare as _compare
    from zeitbuch.readers.config.figures import load_scenario

    card, assumed = _figures(rates, assumptions)
    loaded = [load_scenario(path, card) for path in scenarios]
    _sound([p for _, found in loaded for p in found])
    return Compared(_compare(estate, card, assumed, [s for s, _ in loaded], month))


def diff(old: Estate, new: Estate, rates: str = "", assumptions: str = "", month: str = "") -> Diff:
    """What changed in meaning between two versions; with a rate card (or assumptions) also what each change does to calls and
    cost."""
    from zeitbuch.core.diff.change_cost import Costing, with_figures
    from zeitbuch.core.diff.matching import match_flows

    matching = match_flows(old.flows, new.flows)
    found = _changes(old, new, matching)
    if not rates and not assumptions:
        return Diff(found)
    card, assumed = _figures(rates, assumptions)
    before, after = (Costing.of(side, card, assumed, month) for side in (old, new))
    return Diff(with_figures(found, before, after, matching), card.currency if card is not None else "")


def twins(estate: Estate) -> list[Twin]:
    """Near-identical flows, branches, steps and prompts, where they differ, and what was left as in the other."""
    from zeitbuch.core.diff.clones import twins as _twins

    return _twins(estate.flows)


def record(
    *sources: str, book: str = "book.sqlite", note: str = "", by: str = "", at: str | None = None, dialects: Sequence[str] = (),
    rates: str = "", assumptions: str = "",
) -> Taken:  # fmt: skip
    """Take a snapshot into a book (a path or URL); what `record` does. A workspace file of the current folder is heeded."""
    import argparse

    from zeitbuch.cli.common import Session
    from zeitbuch.cli.record_command import snapshot

    args = argparse.Namespace(
        dialect=list(dialects), limit=[], no_cache=False, book=book, rates=rates, assumptions=assumptions, at=at, by=by,
        note=note, quiet=True, verbose=False, month="",
    )  # fmt: skip
    session = Session(args)
    taken = snapshot(session, session.sources(sources))
    _sound(session.reader.problems)
    return taken


def history(book: str = "book.sqlite", flow: str = "") -> History:
    """The snapshots of a book, or the versions of one flow (id or name)."""
    from zeitbuch.book.history_tables import estate_sheet, flow_sheet
    from zeitbuch.book.selection import flow_versions
    from zeitbuch.book.store import Book

    with Book(book).reading() as reading:
        snapshots, versions = reading.snapshots(), reading.versions()
    return History(flow_sheet(flow_versions(versions, flow), snapshots) if flow else estate_sheet(snapshots, versions))


def restore(what: str, book: str = "book.sqlite") -> bytes:
    """The bytes of the export of one version of a flow: 'FLOW@N', N a number, latest or a date."""
    from zeitbuch.book.selection import flow_versions, version
    from zeitbuch.book.store import Book

    name, _, key = what.rpartition("@")
    with Book(book).reading() as reading:
        return reading.content(version(flow_versions(reading.versions(), name), key, reading.snapshots()).hash)


def explain(flow: Flow, step: str = "") -> Page:
    """A flow or a step (id, number or name) in plain words, as blocks."""
    graph = Graph(flow)
    return _explain(graph, pick_step(graph, step) if step else None)


def map(of: Flow | Estate, form: str = "svg", by: By = "owner", turned: bool = False) -> str | bytes:
    """The map of a flow, or of an estate framed ``by`` owner, connection, environment or none: in any format of the command
    (PNG is bytes); ``turned`` runs from left to right (svg, png, dot, mermaid)."""
    from zeitbuch.writers.map.formats import drawn

    if isinstance(of, Estate):
        from zeitbuch.core.layout.estate_map import estate_view

        view, showing = estate_view(of, by)
    else:
        view, showing = whole(Graph(of)), PLAIN
    return drawn(view, structs.replace(showing, turned=turned), form)


def document(flow: Flow, estimated: Any = None) -> Page:
    """The document of a flow as blocks; ``estimated`` is a result of ``estimate``."""
    return flow_page(flow, "flow", estimated.result if isinstance(estimated, Estimate) else None)

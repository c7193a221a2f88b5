# The public functions for notebooks and scripts, thin over the use cases: nothing is read behind the caller's back, no
# workspace file and no clock but that of `record`.
"""Public API: ``read`` and functions named like the commands."""

from __future__ import annotations

import datetime
import getpass
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from .app.basis import EstimateBasis, load_basis
from .app.document import document_flow
from .app.explain import explain_flow
from .app.map import MapRequest, draw_estate, draw_flow
from .app.session import BOOK_NAME, Session
from .core.estimate.records import EstateEstimate
from .core.layout.estate_map import By
from .core.model.extras import telling_missing
from .core.model.problems import InputFaults as InputFaults
from .core.model.problems import Problem as Problem
from .core.model.problems import ZeitbuchError as ZeitbuchError
from .core.model.records import Estate, Flow
from .core.model.sheet import Sheet
from .core.report import inventory as inventory_rows
from .core.report.blocks import Page
from .core.report.estimate_tables import flows_sheet, steps_sheet
from .readers.dialects.rules import load_dialect
from .writers.outputs.plugins import added_outputs
from .writers.outputs.rendering import render
from .writers.outputs.rows import formats_of

if TYPE_CHECKING:
    import pandas

    from .app.record import Taken
    from .app.usage import OpenLog
    from .core.actuals.records import By as Side
    from .core.actuals.records import Reconciled
    from .core.calibrate.records import Calibrated
    from .core.diff.clones import CloneGroup
    from .core.diff.records import EstateChanges
    from .core.estimate.comparison import Comparison
    from .core.report.check_table import ChecksResult


def to_data_frame(sheet: Sheet) -> pandas.DataFrame:
    with telling_missing():
        import pandas

    return pandas.DataFrame([list(row) for row in sheet.rows], columns=[column.key for column in sheet.columns])


class Inventory(Struct, frozen=True):
    """Rows and totals of an inventory."""

    rows: tuple[inventory_rows.Row, ...]
    totals: inventory_rows.Totals

    def to_frame(self) -> pandas.DataFrame:
        """One row a flow (needs pandas: ``pip install zeitbuch[frames]``)."""
        return to_data_frame(inventory_rows.inventory_sheet(list(self.rows), full=True))


class Estimate(Struct, frozen=True):
    """An estimate; ``result`` holds flows, steps and totals."""

    result: EstateEstimate

    def to_frame(self, steps: bool = False) -> pandas.DataFrame:
        """One row a flow or a step."""
        return to_data_frame(steps_sheet(self.result, True) if steps else flows_sheet(self.result))


class Compared(Struct, frozen=True):
    """A comparison of scenarios."""

    result: Comparison

    def to_frame(self) -> pandas.DataFrame:
        """One row a flow, a pair of columns a scenario."""
        from .core.report.comparison_tables import comparison_sheet

        return to_data_frame(comparison_sheet(self.result, True))


class Diff(Struct, frozen=True):
    """A comparison of two versions; ``result`` holds the changes, with figures when a rate card was named."""

    result: EstateChanges
    currency: str = ""

    @property
    def unchanged(self) -> int:
        return self.result.unchanged

    def to_frame(self, changes: bool = False) -> pandas.DataFrame:
        """One row a flow, or one a change."""
        from .core.report.change_tables import changes_sheet, summary_sheet

        return to_data_frame(changes_sheet(self.result) if changes else summary_sheet(self.result, self.currency))


class Checks(Struct, frozen=True):
    """What is wrong in an estate; ``result`` holds the findings."""

    result: ChecksResult

    def to_frame(self) -> pandas.DataFrame:
        """One row a finding."""
        from .core.report.check_table import checks_sheet

        return to_data_frame(checks_sheet(self.result, True, True))


class Reconciliation(Struct, frozen=True):
    """An estimate held against usage logs; ``result`` holds both sides and what explains the difference."""

    result: Reconciled

    def to_frame(self, explanations: bool = False) -> pandas.DataFrame:
        """One row of both sides, or one an explanation."""
        from .core.report.reconcile_tables import explanations_sheet, gaps_sheet

        return to_data_frame(explanations_sheet(self.result, True) if explanations else gaps_sheet(self.result, True))


class Calibration(Struct, frozen=True):
    """What usage logs tell of assumptions; ``result`` holds the numbers, seasons and remarks, ``toml`` is the file of assumptions."""

    result: Calibrated

    @property
    def toml(self) -> str:
        from .writers.exchange.measured_file import measured_text

        return measured_text(self.result)

    def to_frame(self) -> pandas.DataFrame:
        """One row a number."""
        from .core.report.calibrate_tables import measured_sheet

        return to_data_frame(measured_sheet(self.result, True))


class History(Struct, frozen=True):
    """Snapshots of a book, or versions of a flow."""

    sheet: Sheet

    def to_frame(self) -> pandas.DataFrame:
        """One row a snapshot or version."""
        return to_data_frame(self.sheet)


def read(
    *sources: str, dialects: Sequence[str] = (), problems: list[Problem] | None = None, book: str = BOOK_NAME
) -> Estate:
    """All flows of files, folders, packages, revisions (git:REV:PATH) and recorded states (@N, of ``book``). ``dialects`` are
    paths of dialect files.

    What is wrong in the input is appended to ``problems``; without that list it is raised as InputFaults (a ZeitbuchError).
    """
    session = _make_session(dialects, book)
    estate = session.estate(sources)
    if problems is None:
        _raise_errors(session)
    else:
        problems += session.problems
    return estate


def _make_session(dialects: Sequence[str] = (), book: str = BOOK_NAME, line: str = "") -> Session:
    return Session(dialects=[load_dialect(path) for path in dialects], book=book, line=line, cache=False)


def _raise_errors(session: Session) -> None:
    errors = [problem for problem in session.problems if problem.severity == "error"]
    if errors:
        raise InputFaults(errors)


def inventory(estate: Estate) -> Inventory:
    """One row a flow."""
    rows = inventory_rows.rows_of_flows(estate.flows)
    return Inventory(tuple(rows), inventory_rows.inventory_totals(rows))


def _this_month() -> str:
    return f"{datetime.date.today():%Y-%m}"


def estimate(estate: Estate, rates: str = "", assumptions: str = "", month: str = "", runs: int | None = 0) -> Estimate:
    """Calls, tokens and cost; ``rates`` and ``assumptions`` are paths of TOML files.

    ``month`` is YYYY-MM, or YYYY for an average month; by default that of the assumptions, else the current one.
    ``runs`` sampled runs a flow give distributions; None draws until they stand to 1 %, 0 none. Raises ZeitbuchError for files
    that cannot be used.
    """
    from .app.estimate import EstimateRequest, estimate_estate, estimate_means

    session, basis = Session(), load_basis(rates, assumptions, month, today=_this_month())
    if runs == 0:
        return Estimate(estimate_means(session, estate, basis))
    return Estimate(estimate_estate(session, estate, basis, EstimateRequest(steps=True, runs=runs)))


def compare(
    estate: Estate, scenarios: Sequence[str], rates: str = "", assumptions: str = "", month: str = ""
) -> Compared:
    """The estimate beside scenarios (paths of TOML files); ``result`` holds options, flows and break-evens."""
    from .app.compare import compare_scenarios, load_scenarios

    basis = load_basis(rates, assumptions, month, today=_this_month())
    loaded, _ = load_scenarios(scenarios, basis)
    return Compared(compare_scenarios(Session(), estate, basis, loaded, paths=scenarios))


def diff(old: Estate, new: Estate, rates: str = "", assumptions: str = "", month: str = "") -> Diff:
    """What changed in meaning between two versions; with a rate card (or assumptions) also what each change does to calls and
    cost."""
    from .app.diff import DiffRequest, compare_versions

    basis = load_basis(rates, assumptions, month, today=_this_month())
    request = DiffRequest(figures=bool(rates or assumptions))
    outcome = compare_versions(Session(), old, new, basis, request)
    return Diff(outcome.changes, outcome.currency)


def check(estate: Estate, rates: str = "", assumptions: str = "", month: str = "", only: Sequence[str] = ()) -> Checks:
    """What is found in an estate, the worst first; ``only`` are codes of checks. With a rate card the dearest flows come first. Places are those
    of the model: files are not read again."""
    from .app.check import CheckRequest, check_estate

    basis = load_basis(rates, assumptions, month, today=_this_month())
    today = f"{datetime.date.today():%Y-%m-%d}"
    return Checks(check_estate(Session(), estate, basis, CheckRequest(only=tuple(only), today=today)))


def reconcile(
    estate: Estate, mappings: Sequence[str], logs: Sequence[str] = (), rates: str = "", assumptions: str = "",
    first: datetime.date | None = None, last: datetime.date | None = None, by: Side = "flow",
) -> Reconciliation:  # fmt: skip
    """The estimate held against usage logs, read by ``mappings`` (paths of TOML files; ``logs`` in place of the files of the only one),
    from day to day (both included). Raises InputFaults for lines and values that cannot be used, ZeitbuchError where no line has such a
    day."""
    from .app.reconcile import reconcile_usage
    from .core.actuals.reconcile import Asked

    session, basis, opened = _open_usage(mappings, logs, rates, assumptions)
    return Reconciliation(reconcile_usage(session, estate, basis, opened, Asked(by, first, last)))


def calibrate(
    estate: Estate, mappings: Sequence[str], logs: Sequence[str] = (), rates: str = "", assumptions: str = "",
    first: datetime.date | None = None, last: datetime.date | None = None, over_declared: bool = False,
) -> Calibration:  # fmt: skip
    """What usage logs tell of assumptions; takes and raises what ``reconcile`` does. Declared numbers stay, unless ``over_declared``."""
    from .app.calibrate import calibrate_usage
    from .core.actuals.reconcile import Asked

    session, basis, opened = _open_usage(mappings, logs, rates, assumptions)
    asked = Asked(first=first, last=last)
    return Calibration(calibrate_usage(session, estate, basis, opened, asked, over_declared))


def _open_usage(
    mappings: Sequence[str], logs: Sequence[str], rates: str, assumptions: str
) -> tuple[Session, EstimateBasis, list[OpenLog]]:
    from .app.usage import open_logs

    session, basis = Session(), load_basis(rates, assumptions, today=_this_month())
    opened = open_logs(session, logs, mappings)
    _raise_errors(session)
    return session, basis, opened


def clones(estate: Estate) -> list[CloneGroup]:
    """Near-identical flows, branches, steps and prompts in groups: where they differ, and what was left as in the other."""
    from .app.diff import find_clones

    return list(find_clones(Session(), estate).body.groups)


def record(
    *sources: str,
    book: str = BOOK_NAME,
    note: str = "",
    by: str = "",
    at: str | None = None,
    dialects: Sequence[str] = (),
    rates: str = "",
    assumptions: str = "",
    line: str = "",
    strict: bool = False,
) -> Taken:
    """Take a snapshot of sources into a ``line`` of a book (a path or URL); what `record` does. ``at`` is a date or time (ISO 8601;
    UTC where no zone is named), by default now; ``by`` is by default the name of the account; with ``strict`` nothing is recorded
    where something could not be read."""
    from .app.record import RecordRequest, record_snapshot
    from .book.selection import book_time

    when = datetime.datetime.fromisoformat(at) if at is not None else datetime.datetime.now(datetime.UTC)
    if when.tzinfo is None:
        when = when.replace(tzinfo=datetime.UTC)
    session = _make_session(dialects, book, line)
    who = by or getpass.getuser()
    request = RecordRequest(
        book_time(when), who, note, at is not None, rates, assumptions, session.line, strict,
    )  # fmt: skip
    taken = record_snapshot(session, sources, request)
    _raise_errors(session)
    return taken


def history(book: str = BOOK_NAME, flow: str = "", line: str = "") -> History:
    """The snapshots of a line of a book, or the versions of one flow (id or name)."""
    from .app.history import list_history

    return History(list_history(Session(book=book, line=line), flow))


def restore(what: str, book: str = BOOK_NAME) -> bytes:
    """The bytes of the export of one version of a flow: 'FLOW@N', N a number, latest or a date, with its line before it where that is another ('FLOW@prod:2')."""
    from .app.restore import restore_version

    name, _, key = what.rpartition("@")
    return restore_version(Session(book=book), name, key).data


def explain(flow: Flow, step: str = "", estate: Estate | None = None) -> Page:
    """A flow or a step (id, number or name) in plain words, as blocks; flows of an ``estate`` are called by their titles."""
    return explain_flow(estate or Estate((flow,)), flow, step).page


def map(of: Flow | Estate, form: str = "svg", by: By = "owner", turned: bool = False) -> str | bytes:
    """The map of a flow, or of an estate framed ``by`` owner, connection, environment or none: in any format of the command
    (PNG is bytes); ``turned`` runs from left to right (svg, png, dot, mermaid)."""
    if isinstance(of, Estate):
        drawing = draw_estate(of, by, turned=turned)
    else:
        drawing = draw_flow(of, MapRequest(direction="right" if turned else "down"))
    return render("map", form, drawing, added=() if form in formats_of("map") else added_outputs())


def document(flow: Flow, estimated: Any = None) -> Page:
    """The document of a flow as blocks; ``estimated`` is a result of ``estimate``."""
    return document_flow(flow, "flow", estimated.result if isinstance(estimated, Estimate) else None).page

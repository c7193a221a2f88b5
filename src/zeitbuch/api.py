# The public functions for notebooks and scripts, thin over the use cases: nothing is read behind the caller's back, no
# workspace file and no clock but that of `record`.
"""Public API: ``read`` and functions named like the commands."""

from __future__ import annotations

import datetime
import getpass
import os
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from .app.basis import EstimateBasis, load_basis
from .app.document import document_flow
from .app.explain import explain_flow
from .app.map import MapRequest, draw_estate, draw_flow
from .app.session import BOOK_NAME, Session
from .core.layout.estate_map import By
from .core.model.problems import InputFaults as InputFaults
from .core.model.problems import Problem as Problem
from .core.model.problems import ZeitbuchError as ZeitbuchError
from .core.model.records import Estate, Flow
from .core.report import inventory as inventory_rows
from .core.report.blocks import Page
from .readers.config.workspace import Workspace, active_dialects, load_workspace
from .readers.dialects.rules import load_dialect
from .results import (
    Calibration,
    Checks,
    Compared,
    Conversion,
    Diff,
    Estimate,
    History,
    Inventory,
    Picture,
    Reconciliation,
    Reviews,
    Text,
)
from .writers.outputs.plugins import added_outputs
from .writers.outputs.rendering import render
from .writers.outputs.rows import formats_of

if TYPE_CHECKING:
    from .app.record import Taken
    from .app.usage import OpenLog
    from .core.actuals.records import By as Side
    from .core.diff.clones import CloneGroup

PathName = str | os.PathLike[str]


def read(
    *sources: PathName, dialects: Sequence[PathName] = (), problems: list[Problem] | None = None, book: PathName = "",
    workspace: PathName = "",
) -> Estate:  # fmt: skip
    """All flows of files, folders, packages, addresses (s3://...), revisions (git:REV:PATH) and recorded states (@N, of ``book``).
    ``dialects`` are paths of dialect files. A ``workspace`` (path of a zeitbuch.toml) names sources, dialects, model map and book where these
    are not named; none is looked for.

    What is wrong in the input is appended to ``problems``; without that list it is raised as InputFaults (a ZeitbuchError).
    """
    session = _make_session(workspace, dialects, book)
    estate = session.estate([os.fspath(source) for source in sources])
    if problems is None:
        _raise_errors(session)
    else:
        problems += session.problems
    return estate


def _make_session(
    workspace: PathName = "", dialects: Sequence[PathName] = (), book: PathName = "", line: str = ""
) -> Session:
    found = load_workspace(os.fspath(workspace) or None)
    own = [load_dialect(os.fspath(path)) for path in dialects]
    active = active_dialects(found, []) if workspace else []
    book = os.fspath(book) or ("" if workspace else BOOK_NAME)
    return Session(found, [*own, *active], book=book, line=line, cache=False)


def _basis(
    rates: PathName, assumptions: PathName, month: str, workspace: PathName, measured: PathName = ""
) -> EstimateBasis:
    found: Workspace | None = load_workspace(os.fspath(workspace)) if workspace else None
    return load_basis(
        os.fspath(rates),
        os.fspath(assumptions),
        month,
        found,
        today=f"{datetime.date.today():%Y-%m}",
        measured=os.fspath(measured),
    )


def _raise_errors(session: Session) -> None:
    errors = [problem for problem in session.problems if problem.severity == "error"]
    if errors:
        raise InputFaults(errors)


def inventory(estate: Estate) -> Inventory:
    """One row a flow."""
    rows = inventory_rows.rows_of_flows(estate.flows)
    return Inventory(tuple(rows), inventory_rows.inventory_totals(rows))


def estimate(
    estate: Estate, rates: PathName = "", assumptions: PathName = "", month: str = "", runs: int | None = 0, *,
    workspace: PathName = "", measured: PathName = "",
) -> Estimate:  # fmt: skip
    """Calls, tokens and cost; ``rates``, ``assumptions`` and ``measured`` are paths of TOML files, by default those of the ``workspace``.

    ``month`` is YYYY-MM, or YYYY for an average month; by default that of workspace or assumptions, else the current one.
    ``runs`` sampled runs a flow give distributions; None draws until they stand to 1 %, 0 none. Raises ZeitbuchError for files
    that cannot be used.
    """
    from .app.estimate import EstimateRequest, estimate_estate, estimate_means

    session, basis = _make_session(workspace), _basis(rates, assumptions, month, workspace, measured)
    if runs == 0:
        return Estimate(estimate_means(session, estate, basis))
    return Estimate(estimate_estate(session, estate, basis, EstimateRequest(steps=True, runs=runs)))


def compare(
    estate: Estate, scenarios: Sequence[PathName], rates: PathName = "", assumptions: PathName = "", month: str = "", *,
    workspace: PathName = "",
) -> Compared:  # fmt: skip
    """The estimate beside scenarios (paths of TOML files); ``result`` holds options, flows and break-evens."""
    from .app.compare import compare_scenarios, load_scenarios

    basis, paths = _basis(rates, assumptions, month, workspace), [os.fspath(path) for path in scenarios]
    loaded, _ = load_scenarios(paths, basis)
    return Compared(compare_scenarios(_make_session(workspace), estate, basis, loaded, paths=paths))


def diff(
    old: Estate,
    new: Estate,
    rates: PathName = "",
    assumptions: PathName = "",
    month: str = "",
    *,
    workspace: PathName = "",
) -> Diff:
    """What changed in meaning between two versions; with a rate card (or assumptions) also what each change does to calls and
    cost."""
    from .app.diff import DiffRequest, compare_versions

    basis = _basis(rates, assumptions, month, workspace)
    request = DiffRequest(figures=basis.card is not None or bool(assumptions))
    outcome = compare_versions(_make_session(workspace), old, new, basis, request)
    return Diff(outcome.changes, outcome.currency)


def check(
    estate: Estate, rates: PathName = "", assumptions: PathName = "", month: str = "", only: Sequence[str] = (), *,
    workspace: PathName = "",
) -> Checks:  # fmt: skip
    """What is found in an estate, the worst first; ``only`` are codes of checks. With a rate card the dearest flows come first; a ``workspace``
    has rules of the house, and what was accepted. Places are those of the model: files are not read again."""
    from .app.check import CheckRequest, check_estate

    basis, today = _basis(rates, assumptions, month, workspace), f"{datetime.date.today():%Y-%m-%d}"
    return Checks(check_estate(_make_session(workspace), estate, basis, CheckRequest(only=tuple(only), today=today)))


def review(estate: Estate, book: PathName = "", line: str = "", *, workspace: PathName = "") -> Reviews:
    """Who has signed the descriptions of flows in a book, and which signatures still hold. Raises ZeitbuchError where there is no book."""
    from .app.review import review_status

    session = _make_session(workspace, (), book, line)
    return Reviews(review_status(session, estate, f"{datetime.date.today():%Y-%m-%d}"))


def reconcile(
    estate: Estate, mappings: Sequence[PathName] = (), logs: Sequence[PathName] = (), rates: PathName = "", assumptions: PathName = "",
    first: datetime.date | None = None, last: datetime.date | None = None, by: Side = "flow", *, workspace: PathName = "",
) -> Reconciliation:  # fmt: skip
    """The estimate held against usage logs, read by ``mappings`` (paths of TOML files; ``logs`` in place of the files of the only one),
    from day to day (both included). Raises InputFaults for lines and values that cannot be used, ZeitbuchError where no line has such a
    day."""
    from .app.reconcile import reconcile_usage
    from .core.actuals.reconcile import Asked

    session, basis, opened = _open_usage(mappings, logs, rates, assumptions, workspace)
    return Reconciliation(reconcile_usage(session, estate, basis, opened, Asked(by, first, last)))


def calibrate(
    estate: Estate, mappings: Sequence[PathName] = (), logs: Sequence[PathName] = (), rates: PathName = "", assumptions: PathName = "",
    first: datetime.date | None = None, last: datetime.date | None = None, over_declared: bool = False, *, workspace: PathName = "",
) -> Calibration:  # fmt: skip
    """What usage logs tell of assumptions; takes and raises what ``reconcile`` does. Declared numbers stay, unless ``over_declared``."""
    from .app.calibrate import calibrate_usage
    from .core.actuals.reconcile import Asked

    session, basis, opened = _open_usage(mappings, logs, rates, assumptions, workspace)
    asked = Asked(first=first, last=last)
    return Calibration(calibrate_usage(session, estate, basis, opened, asked, over_declared))


def _open_usage(
    mappings: Sequence[PathName], logs: Sequence[PathName], rates: PathName, assumptions: PathName, workspace: PathName
) -> tuple[Session, EstimateBasis, list[OpenLog]]:
    from .app.usage import open_logs

    session, basis = _make_session(workspace), _basis(rates, assumptions, "", workspace)
    opened = open_logs(session, [os.fspath(path) for path in logs], [os.fspath(path) for path in mappings])
    _raise_errors(session)
    return session, basis, opened


def clones(estate: Estate) -> list[CloneGroup]:
    """Near-identical flows, branches, steps and prompts in groups: where they differ, and what was left as in the other."""
    from .app.diff import find_clones

    return list(find_clones(Session(), estate).body.groups)


def record(
    *sources: PathName,
    book: PathName = "",
    note: str = "",
    by: str = "",
    at: str | None = None,
    dialects: Sequence[PathName] = (),
    rates: PathName = "",
    assumptions: PathName = "",
    line: str = "",
    strict: bool = False,
    workspace: PathName = "",
) -> Taken:
    """Take a snapshot of sources into a ``line`` of a book (a path or URL); what `record` does. ``at`` is a date or time (ISO 8601;
    UTC where no zone is named), by default now; ``by`` is by default the name of the account; with ``strict`` nothing is recorded
    where something could not be read."""
    from .app.record import RecordRequest, record_snapshot
    from .book.selection import book_time

    when = datetime.datetime.fromisoformat(at) if at is not None else datetime.datetime.now(datetime.UTC)
    if when.tzinfo is None:
        when = when.replace(tzinfo=datetime.UTC)
    session = _make_session(workspace, dialects, book, line)
    who = by or getpass.getuser()
    request = RecordRequest(
        book_time(when), who, note, at is not None, os.fspath(rates), os.fspath(assumptions), session.line, strict,
    )  # fmt: skip
    taken = record_snapshot(session, [os.fspath(source) for source in sources], request)
    _raise_errors(session)
    return taken


def history(book: PathName = "", flow: str = "", line: str = "", *, workspace: PathName = "") -> History:
    """The snapshots of a line of a book, or the versions of one flow (id or name)."""
    from .app.history import list_history

    return History(list_history(_make_session(workspace, (), book, line), flow))


def restore(what: str, book: PathName = "", *, workspace: PathName = "") -> bytes:
    """The bytes of the export of one version of a flow: 'FLOW@N', N a number, latest or a date, with its line before it where that is another ('FLOW@prod:2')."""
    from .app.restore import restore_version

    name, _, key = what.rpartition("@")
    return restore_version(_make_session(workspace, (), book), name, key).data


def explain(flow: Flow, step: str = "", estate: Estate | None = None) -> Page:
    """A flow or a step (id, number or name) in plain words, as blocks; flows of an ``estate`` are called by their titles."""
    return explain_flow(estate or Estate((flow,)), flow, step).page


def map(of: Flow | Estate, form: str = "svg", by: By = "owner", turned: bool = False) -> Text | Picture:
    """The map of a flow, or of an estate framed ``by`` owner, connection, environment or none: in any format of the command
    (PNG is bytes); ``turned`` runs from left to right (svg, png, dot, mermaid)."""
    if isinstance(of, Estate):
        drawing = draw_estate(of, by, turned=turned)
    else:
        drawing = draw_flow(of, MapRequest(direction="right" if turned else "down"))
    drawn = render("map", form, drawing, added=() if form in formats_of("map") else added_outputs())
    return Picture(drawn) if isinstance(drawn, bytes) else Text(drawn)


def convert(of: Flow | Estate, form: str = "yaml") -> Conversion:
    """Flows in another form: yaml or json (the native form), bpmn, serverless, arazzo, agent-spec; ``problems`` say what the form has no words
    for."""
    from .app.convert import STANDARDS, convert_flows

    estate = of if isinstance(of, Estate) else Estate((of,))
    if form in STANDARDS:
        made = convert_flows(Session(), estate, form)
        return Conversion(Text(made.text), tuple(made.problems))
    written = render("flows", form, estate, added=() if form in formats_of("flows") else added_outputs())
    return Conversion(Text(written if isinstance(written, str) else written.decode()))


def document(flow: Flow, estimated: Any = None) -> Page:
    """The document of a flow as blocks; ``estimated`` is a result of ``estimate``."""
    return document_flow(flow, "flow", estimated.result if isinstance(estimated, Estimate) else None).page

# Dialects: proposing one from exports, seeing what one makes of them, and which there are.
"""Dialect files."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct, field

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Origin
from zeitbuch.core.model.sheet import Column, Sheet
from zeitbuch.core.report import export_preview
from zeitbuch.core.report.export_preview import Preview, PreviewResult
from zeitbuch.core.report.presentations import TableResult
from zeitbuch.readers.config.workspace import Listed, Workspace, find_dialect_files
from zeitbuch.readers.infer.propose import Proposal, closest_kinds, default_name, propose_from_documents, read_documents
from zeitbuch.readers.input.sources import list_files
from zeitbuch.readers.reading.forms import name_form

from .session import Session


def propose_dialect(session: Session, sources: Sequence[str], name: str = "") -> tuple[Proposal | None, list[Problem]]:
    """A proposal from exports, and what could not be read; None when nothing could. Raises ZeitbuchError when nothing in them
    looks like steps."""
    inputs = list(list_files(sources))
    with session.progress(len(inputs), "reading") as advance:
        found, problems = read_documents(inputs, session.limits, advance)
    known = [(file, name_form(document)) for file, document in found]
    problems += [_known_problem(file, form) for file, form in known if form]
    found = [entry for entry, (_, form) in zip(found, known, strict=True) if not form]
    if not found:
        return None, problems
    return propose_from_documents(found, name or default_name(list(sources))), problems


def _known_problem(file: str, form: str) -> Problem:
    message = f"expected an export of an unknown builder, found a file in the form '{form}', which is read as it is"
    return Problem("suggest-known", "warning", message, Origin(file), f"try: zeitbuch inventory {file}")


def near_kinds(operation: str) -> tuple[str, ...]:
    """The kinds that the words of an operation hint at, the closest first."""
    return closest_kinds(operation)


def preview_files(session: Session, sources: Sequence[str]) -> list[Preview]:
    """What the active dialects make of each file."""
    return [export_preview.preview_file(name, flows) for name, flows in session.by_file(sources)]


def preview_table(rows: list[Preview]) -> TableResult:
    """Previews as a table."""
    return TableResult("preview", PreviewResult(tuple(rows)), lambda full: export_preview.preview_sheet(rows))


class DialectEntry(Struct, frozen=True, kw_only=True):
    """One dialect file that was found; ``place`` says where: option, workspace, user folder, or demo."""

    name: str
    place: str = field(name="from")
    active: bool
    title: str
    file: str


class DialectsResult(Struct, frozen=True):
    """`dialect list --format json`."""

    dialects: tuple[DialectEntry, ...]


def list_dialects(workspace: Workspace, named: Sequence[str]) -> tuple[list[Listed], list[Problem]]:
    """All dialect files with the place they come from, and what is wrong with those that cannot be read."""
    return find_dialect_files(workspace, list(named))


def dialects_table(listed: list[Listed]) -> TableResult:
    """Dialects as a table."""
    columns = tuple(Column(key, key) for key in ("name", "from", "active", "what", "file"))
    rows = tuple((d.name, d.place, "yes" if d.active else "no", d.title, d.file) for d in listed)
    body = DialectsResult(
        tuple(DialectEntry(name=d.name, place=d.place, active=d.active, title=d.title, file=d.file) for d in listed)
    )
    return TableResult("dialects", body, lambda full: Sheet(columns=columns, rows=rows))

"""The work of `document`."""

from __future__ import annotations

import argparse
from pathlib import Path

from zeitbuch.app.check import findings_of_estate
from zeitbuch.app.document import flow_documents
from zeitbuch.app.estimate import estimate_means
from zeitbuch.app.flows import find_flows
from zeitbuch.app.house_notes import gather_notes
from zeitbuch.app.session import Session
from zeitbuch.app.unreadable import unread_places
from zeitbuch.cli.shared.formats import rows_of_plugins
from zeitbuch.cli.shared.session import basis_of, finish_session, open_session, this_moment
from zeitbuch.cli.shared.stream import write_output
from zeitbuch.core.checks.records import CheckFinding
from zeitbuch.core.model.problems import Problem, fail
from zeitbuch.core.model.records import Estate, Origin
from zeitbuch.core.report.house_notes import HouseNote
from zeitbuch.core.report.presentations import FlowDocument
from zeitbuch.writers.document.stamps import is_as_written, stamped
from zeitbuch.writers.document.word import to_word
from zeitbuch.writers.outputs.rendering import render_files
from zeitbuch.writers.outputs.rows import Content


def run(args: argparse.Namespace) -> int:
    """One page a flow, and an index."""
    volume = _is_volume(args)
    session = open_session(args)
    estate = session.estate(args.source)
    basis = basis_of(args, session)
    result = estimate_means(session, estate, basis)
    found: dict[str, list[CheckFinding]] = {}
    for one in findings_of_estate(session, estate, basis, this_moment().date().isoformat()):
        found.setdefault(one.flow_id, []).append(one)
    flows = find_flows(estate, args.flow)
    unread = sorted(
        {name if member is None else f"{name}!{member}" for name, member in unread_places(session.problems)}
    )
    notes = _notes_of(session, args, estate)
    made = flow_documents(flows, result, unread, session.problems, found, estate, notes)
    if volume:
        _write_page(session, args, args.output, to_word(list(made), args.template))
        return finish_session(session, args)
    with session.progress(len(flows), "writing") as advance:
        for place, document in enumerate(made):
            for path, text in _files_of(document, args).items():
                _write_page(session, args, str(Path(args.output) / path), text)
            advance(place)
    return finish_session(session, args)


def _notes_of(session: Session, args: argparse.Namespace, estate: Estate) -> dict[str, list[HouseNote]]:
    """The notes of the house, where a folder of them is named."""
    own = session.workspace.notes
    folder = args.notes or (session.workspace.path_from_here(own) if own else "")
    return gather_notes(session, estate.flows, folder, not args.source) if folder else {}


def _write_page(session: Session, args: argparse.Namespace, path: str, content: Content) -> None:
    """Writes a page; one that somebody edited is left as it is and told, unless ``--force`` says otherwise."""
    place = Path(path)
    if place.is_file() and not args.force and not is_as_written(place.name, place.read_bytes()):
        words = f"expected a page as it was written, found {path} filled in or edited: left as it is"
        hint = "keep what was added as a note of the house (docs/notes.md), then write over it with --force"
        session.problems.append(Problem("page-edited", "error", words, Origin(path), hint))
        return
    write_output(stamped(place.name, content), path)


def _is_volume(args: argparse.Namespace) -> bool:
    """Whether one file is asked for. Raises ZeitbuchError for a file of another sort, and for what does not go together."""
    suffix = Path(args.output).suffix.lower()
    volume = suffix == ".docx"
    if suffix and not volume and not Path(args.output).is_dir():
        raise fail(
            "format", f"expected a folder, or a file .docx, found {args.output}", "one file of all flows is a Word file"
        )
    if volume and args.format not in (None, "word"):
        raise fail(
            "option",
            f"expected no --format beside a .docx file, found --format {args.format}",
            "leave it out, or name a folder",
        )
    if args.template and not (volume or args.format == "word"):
        raise fail(
            "option",
            "expected --format word, or a file .docx, beside --template, found neither",
            "a template is a Word file",
        )
    return volume


def _files_of(document: FlowDocument, args: argparse.Namespace) -> dict[str, Content]:
    """The files of one document: in a folder."""
    if args.format == "word":
        return {f"{document.page.name}.docx": to_word([document], args.template)}
    return render_files("document", args.format or "html", document, rows_of_plugins)

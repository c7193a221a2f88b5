# The files of `document`: pages, the pages around them, and the file that says what the folder holds. A page that somebody edited is theirs.
"""Writing documents into a folder."""

from __future__ import annotations

import argparse
from collections.abc import Collection, Mapping, Sequence
from pathlib import Path

from msgspec import structs

from zeitbuch.app.session import Session
from zeitbuch.app.site import SITE_FILE, page_of_gone, site_bytes
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Origin
from zeitbuch.core.report.presentations import FlowDocument
from zeitbuch.core.report.site.pages import GROUPINGS, group_page, index_page, summary_page
from zeitbuch.core.report.site.rows import NO_SITE, Site, SiteRow
from zeitbuch.writers.document.stamps import is_as_written, stamped, without_stamp
from zeitbuch.writers.document.word import to_word
from zeitbuch.writers.outputs.rendering import render_files
from zeitbuch.writers.outputs.rows import Content
from zeitbuch.writers.site.estate_pages import FOLDER, estate_pages
from zeitbuch.writers.site.start_page import to_start_page

from .formats import rows_of_plugins
from .stream import write_output


def files_of(document: FlowDocument, args: argparse.Namespace) -> dict[str, Content]:
    """The files of one document: in a folder."""
    if args.format == "word":
        return {f"{document.page.name}.docx": to_word([document], args.template)}
    return render_files("document", args.format or "html", document, rows_of_plugins)


def write_page(session: Session, args: argparse.Namespace, path: str, content: Content) -> bool:
    """Writes a page; one that somebody edited is left as it is and told (False), unless ``--force`` says otherwise."""
    place = Path(path)
    if place.is_file() and not args.force and not is_as_written(place.name, place.read_bytes()):
        words = f"expected a page as it was written, found {path} filled in or edited: left as it is"
        hint = "keep what was added as a note of the house (docs/notes.md), then write over it with --force"
        session.problems.append(Problem("page-edited", "error", words, Origin(path), hint))
        return False
    write_output(stamped(place.name, content), path)
    return True


def with_pages(site: Site, written: Mapping[str, bool], known: Site = NO_SITE) -> Site:
    """The rows of flows whose documents could be made; a page that was left as somebody edited it (False) describes what it described."""
    before = {row.file: row.forms for row in known.rows}
    rows = []
    for row in site.rows:
        if row.file in written:
            left = {form: before.get(row.file, {}).get(form, "") for form in row.forms}
            rows.append(row if written[row.file] else structs.replace(row, forms=left))
    return structs.replace(site, rows=tuple(rows))


def write_site(
    session: Session, args: argparse.Namespace, site: Site, unread: Sequence[str], changes: Sequence[str]
) -> None:
    """The pages around those of the flows, and the file that says what the site holds."""
    form = args.format or "html"
    here = structs.replace(site, rows=tuple([row for row in site.rows if form in row.forms]))
    pages = [summary_page(here, changes), *[group_page(here, one) for one in GROUPINGS if form != "word"]]
    if form == "html":
        drawn = dict(estate_pages(here))
        for name, made in (("index.html", to_start_page(here, unread, changes)), *drawn.items()):
            write_page(session, args, str(Path(args.output) / name), made)
        _remove_groups(Path(args.output), drawn)
    else:
        pages.append(index_page(here, unread))
    for page in pages:
        for path, text in files_of(FlowDocument(page), args).items():
            write_page(session, args, str(Path(args.output) / path), text)
    for row in here.rows:
        if row.gone:
            _mark_gone(Path(args.output), row, form)
    write_output(site_bytes(site), str(Path(args.output) / SITE_FILE))


def _remove_groups(folder: Path, drawn: Collection[str]) -> None:
    """Removes the pages of groups that are no more; one that somebody edited stays."""
    for place in (folder / FOLDER).glob("*.html"):
        if f"{FOLDER}/{place.name}" not in drawn and is_as_written(place.name, place.read_bytes()):
            place.unlink()


def _mark_gone(folder: Path, row: SiteRow, form: str) -> None:
    """Says on the page of a flow that it is gone; a page that somebody edited, and a Word file, stay as they are: the index says it."""
    place = folder / (row.file + {"html": ".html", "markdown": ".md"}.get(form, ".none"))
    if place.is_file() and is_as_written(place.name, raw := place.read_bytes()):
        marked = page_of_gone(place.name, without_stamp(raw).decode())
        write_output(stamped(place.name, marked), str(place))

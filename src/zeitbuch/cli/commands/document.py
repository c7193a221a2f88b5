"""The work of `document`."""

from __future__ import annotations

import argparse
from pathlib import Path

from msgspec import structs

from zeitbuch.app.brief import drafts_by_flow
from zeitbuch.app.check import findings_of_estate
from zeitbuch.app.document import DocumentFacts, DocumentMaker, flow_files
from zeitbuch.app.estimate import estimate_for_sheets
from zeitbuch.app.flows import find_flows
from zeitbuch.app.house_notes import notes_of_house
from zeitbuch.app.review import reviews_by_flow
from zeitbuch.app.session import Session
from zeitbuch.app.site import SITE_FILE, known_site, site_of_run, verify_site
from zeitbuch.app.site_changes import changes_since_recorded
from zeitbuch.app.unreadable import unread_places
from zeitbuch.cli.shared.document_files import files_of, with_pages, write_page, write_site
from zeitbuch.cli.shared.exit_codes import NO, OK
from zeitbuch.cli.shared.session import basis_of, finish_session, open_session, say, this_moment
from zeitbuch.cli.shared.together import refuse_idle_options
from zeitbuch.cli.shared.usage_steps import asked_actuals
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Estate
from zeitbuch.core.report.finding_marks import group_findings
from zeitbuch.core.report.presentations import FlowDocument
from zeitbuch.core.report.review_states import ReviewStatus, lapsed_signatures
from zeitbuch.core.report.site.pages import index_page
from zeitbuch.core.report.site.rows import NO_SITE, gone_files, merged_site, page_files, unread_names
from zeitbuch.writers.document.word import to_word


def run(args: argparse.Namespace) -> int:
    """One page a flow, and an index."""
    volume = _is_volume(args)
    if args.verify:
        refuse_idle_options(args, "--verify", ("--flow", "--output"))
    session = open_session(args)
    estate = session.estate(args.source)
    if args.verify:
        return _verify(session, args, estate)
    basis = basis_of(args, session)
    result = estimate_for_sheets(session, estate, basis, args.flow)
    today = this_moment().date().isoformat()
    flows = find_flows(estate, args.flow)
    unread = _unread(session)
    known = known_site(args.output, session.problems) if not volume else NO_SITE
    files = page_files(estate.flows, known.rows)
    reviews = reviews_by_flow(session, estate, today)
    about = DocumentFacts(
        estate,
        group_findings(findings_of_estate(session, estate, basis, today)),
        notes_of_house(session, estate.flows, args.notes, not args.source),
        reviews,
        session.workspace.review.sentences,
        files,
        drafts_by_flow(session, estate, reviews),
        actuals=asked_actuals(args, session, estate, flows),
    )
    maker = DocumentMaker(flows, result, about)
    site = site_of_run(maker, "word" if volume else args.format or "html")
    if volume:
        pages = list(maker.documents(range(len(flows)), session.problems))
        written = {document.page.name: True for document in pages}
        index = FlowDocument(index_page(with_pages(site, written), unread))
        write_page(session, args, args.output, to_word([*pages, index], args.template))
        return finish_session(session, args)
    written = {}
    with session.progress(len(flows), "writing") as advance:
        for name, made in flow_files(maker, lambda document: files_of(document, args), session.problems):
            for path, text in made.items():
                done = write_page(session, args, str(Path(args.output) / path), text)
                written[name] = written.get(name, True) and done
            advance(len(written))
    here = structs.replace(with_pages(site, written, known), unread=tuple(sorted(unread_names(unread))))
    gone = gone_files(known, files, unread) if not args.source and not args.flow else ()
    changes = changes_since_recorded(session, basis) if not args.source and not args.flow else []
    write_site(session, args, merged_site(known, here, gone), unread, changes)
    return finish_session(session, args)


def _unread(session: Session) -> list[str]:
    """The inputs, and members of packages, that could not be read, or not whole."""
    places = unread_places(session.problems)
    return sorted({name if member is None else f"{name}!{member}" for name, member in places})


def _verify(session: Session, args: argparse.Namespace, estate: Estate) -> int:
    """Whether the pages of a folder describe the flows as they are, and the signatures on them hold; the answer is no where one does not."""
    known = known_site(args.output, session.problems)
    if not known.rows:
        raise fail(
            "site",
            f"expected a folder of documents, found no {SITE_FILE} in {args.output}",
            "write them first, without --verify",
        )
    flows = find_flows(estate, args.flow)
    whole = not args.source and not args.flow
    rows = known.rows if whole else tuple(row for row in known.rows if row.id in {flow.id for flow in flows})
    wrong = verify_site(structs.replace(known, rows=rows), flows, _unread(session), Path(args.output))
    reviews = reviews_by_flow(session, estate, this_moment().date().isoformat())
    status = ReviewStatus(tuple(reviews[flow.id] for flow in flows))
    wrong += lapsed_signatures(status)
    for sentence in wrong:
        say(f"no: {sentence}")
    return finish_session(session, args, NO if wrong else OK)


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

# What an auditor takes away: pages, flows, findings with their exceptions, signatures, the chain they stand in, and the hashes of the originals. All of it can be
# checked by programs that every system has: each list of hashes is one that `sha256sum -c` reads, and an entry of the chain lies there as the very bytes
# that its hash was taken of.
"""Packets for auditors."""

from __future__ import annotations

import base64
import io
import posixpath
import zipfile
from collections.abc import Mapping, Sequence
from pathlib import Path

from msgspec import structs

from zeitbuch.book.place import open_book
from zeitbuch.book.records import entry_bytes, sha256
from zeitbuch.book.reviews import reviews_of, sealed_statement
from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.checks.records import CheckFinding
from zeitbuch.core.model.fingerprint import fingerprint
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Estate
from zeitbuch.core.report.bill import bill_of
from zeitbuch.core.report.brief.brief import BriefKey
from zeitbuch.core.report.brief.placeholders import Placeholders
from zeitbuch.core.report.brief.shown_private import placeholders_for, with_placeholders
from zeitbuch.core.report.check_table import ChecksResult
from zeitbuch.core.report.finding_marks import group_findings
from zeitbuch.core.report.presentations import FlowDocument
from zeitbuch.core.report.review_states import ReviewStatus
from zeitbuch.core.report.site.pages import index_page, summary_page
from zeitbuch.core.report.site.rows import page_files
from zeitbuch.readers.config.name_lists import name_lists
from zeitbuch.readers.config.people import people_of
from zeitbuch.readers.input.sources import Held, load_input, name_of
from zeitbuch.version import __version__
from zeitbuch.writers.document.html import write_document_html
from zeitbuch.writers.exchange.cyclonedx import write_cyclonedx
from zeitbuch.writers.exchange.native import to_yaml
from zeitbuch.writers.table.tables import to_json
from zeitbuch.writers.theme.terminal import TextLook

from .basis import EstimateBasis
from .brief import drafts_by_flow, names_of_people
from .check import findings_of_estate
from .document import DocumentFacts, DocumentMaker, flow_files
from .estimate import estimate_for_sheets
from .house_notes import notes_of_house
from .review import review_status, verify_reviews
from .session import Session
from .shown_places import with_shown_places
from .site import site_of_run

Files = dict[str, bytes]
_NO_DATE = (1980, 1, 1, 0, 0, 0)
_ABOUT = """\
# A packet for review

Made by Zeitbuch {version} from {flows} flows. Head of the book's chain: `{head}` ({entries} entries).

| file | what it is |
| --- | --- |
| documents/index.html, summary.html | the flows, and a page for each |
| flows/*.yaml | each flow as Zeitbuch understood it, without secrets |
| originals.sha256 | the hashes of the exports as they were read{originals} |
| findings.json | what the checks found, with what was accepted, by whom and why |
| signatures.json | who signed which state, and whether it still holds |
| chain/*.json, chain.sha256 | the entries of the book in their order, each as the bytes that its hash was taken of |
| keys/ | what was signed with a key, and the signatures, by the number of their entry |
| bill.cdx.json | the bill of materials (CycloneDX 1.6) |
| manifest.sha256 | the hashes of all files of this packet but itself |

Words in square brackets such as [person 1], [address 2] or [number 3] stand for people, addresses and numbers that texts of the flows hold; those who own, approve
and sign are named. Which is which only the house knows that made this packet. The fingerprints are of the flows as they are.

## How to check it without Zeitbuch

```sh
sha256sum --check --quiet manifest.sha256     # nothing in the packet was altered
sha256sum --check --quiet chain.sha256        # no entry of the chain was altered
```

On systems without `sha256sum`, `shasum -a 256 -c` reads the same lists. `chain.sha256` names the hash of each entry, and the field `previous` of each entry is the hash of the
one before it (of the first: `{first}`): an entry that was taken out or put in breaks that row. The last line of `chain.sha256` is the head; hold it against
a head that you noted earlier, on a medium that nobody here writes to. A name beside a signature says who was named, not who sat at the keyboard.

A signature that was made with a key of OpenSSH, here that of entry 7, and one with a key in PEM:

```sh
ssh-keygen -Y verify -f keys/signers -I 000007 -n zeitbuch -s keys/000007.json.sig < keys/000007.json
openssl pkeyutl -verify -pubin -inkey keys/000007.pem -rawin -digest sha256 -in keys/000007.json -sigfile keys/000007.json.sig   # without -digest for Ed25519
```

Whose key it is the packet cannot know: hold it against what its owner told you.

To check an export against `originals.sha256`, go to the folder that holds the exports and run `sha256sum --check originals.sha256` there.
"""


def packet_files(
    session: Session, sources: Sequence[str], basis: EstimateBasis, today: str, originals: bool
) -> tuple[Files, BriefKey]:
    """All files of a packet by their paths, and what its placeholders stand for; ``originals`` adds the exports as they are, with all that stands in
    them. Raises ZeitbuchError where there is no book, and where names of people cannot be told."""
    estate = session.estate(sources)
    made = _placeholders(session, estate)
    reviews = with_placeholders(made, review_status(session, estate, today))
    status = structs.replace(reviews, wrong=verify_reviews(session))
    shown = Estate(tuple(with_shown_places(estate.flows, estate.flows)))  # no packet says where a machine keeps what
    findings = with_placeholders(made, findings_of_estate(session, shown, basis, today))
    files: Files = {}
    files |= _documents(session, estate, basis, status, findings, made, whole=not sources)
    names = page_files(estate.flows)
    files |= {
        f"flows/{name}.yaml": to_yaml(Estate((with_placeholders(made, flow),))).encode()
        for flow, name in zip(estate.flows, names, strict=True)
    }
    files["findings.json"] = to_json("checks", ChecksResult(tuple(findings), len(estate.flows))).encode()
    files["signatures.json"] = to_json("review", status).encode()
    bill = with_placeholders(made, bill_of(EstateView(estate.flows), __version__))
    files["bill.cdx.json"] = write_cyclonedx(bill, TextLook()).encode()
    exports = _originals(session, sources)
    files["originals.sha256"] = sums_of(exports)
    if originals:
        files |= {f"originals/{name}": data for name, data in exports.items()}
    files |= _sealed(session)
    chain, first = _chain(session)
    files |= chain
    head = files["chain.sha256"].decode().splitlines()[-1].split()[0] if len(chain) > 1 else "none"
    files["README.md"] = _ABOUT.format(
        version=__version__, flows=len(estate.flows), head=head, entries=len(chain) - 1, first=first,
        originals=", and below `originals/` themselves: **they hold whatever secrets the exports hold**" if originals else "; they themselves are not here",
    ).encode()  # fmt: skip
    files["manifest.sha256"] = sums_of(files)
    return files, BriefKey(sha256(files["manifest.sha256"])[:16], "", "a packet", "", made.key)


def _placeholders(session: Session, estate: Estate) -> Placeholders:
    """What knows whom and what the texts of the flows name; those who answer for flows are named."""
    people, problems = people_of(session.workspace)
    session.problems += problems
    return placeholders_for(estate.flows, name_lists(), names_of_people(people))


def to_archive(files: Mapping[str, bytes]) -> bytes:
    """The files as a zip archive, without times: equal files give equal bytes."""
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as archive:
        for name in sorted(files):
            archive.writestr(zipfile.ZipInfo(name, _NO_DATE), files[name], zipfile.ZIP_DEFLATED)
    return made.getvalue()


def sums_of(files: Mapping[str, bytes]) -> bytes:
    """Hashes and names, as `sha256sum --check` reads them; a name with a backslash or a line's end is written as it writes them."""
    lines = []
    for name in sorted(files):
        plain = name.replace("\\", "\\\\").replace("\n", "\\n").replace("\r", "\\r")
        lines.append(f"{chr(92) if plain != name else ''}{sha256(files[name])}  {plain}\n")
    return "".join(lines).encode("utf-8", "surrogateescape")


def _documents(
    session: Session,
    estate: Estate,
    basis: EstimateBasis,
    status: ReviewStatus,
    findings: Sequence[CheckFinding],
    made: Placeholders,
    whole: bool,
) -> Files:
    """The pages, with the notes of the house, an index and a summary."""
    shown = Estate(tuple(with_placeholders(made, flow) for flow in estate.flows))
    reviews = {one.id: one for one in status.flows}
    about = DocumentFacts(
        shown,
        group_findings(findings),
        with_placeholders(made, notes_of_house(session, estate.flows, "", whole)),
        reviews,
        session.workspace.review.sentences,
        drafts=with_placeholders(made, drafts_by_flow(session, estate, reviews)),
        fingerprints={flow.id: fingerprint(flow) for flow in reversed(estate.flows)},
    )
    maker = DocumentMaker(shown.flows, with_placeholders(made, estimate_for_sheets(session, estate, basis)), about)
    site = site_of_run(maker, "html")

    def render(document: FlowDocument) -> dict[str, str | bytes]:
        return dict(write_document_html(document, TextLook()))

    pages = dict(flow_files(maker, render, session.problems))
    written: dict[str, str | bytes] = {path: text for files in pages.values() for path, text in files.items()}
    for page in (index_page(site), summary_page(site)):
        written |= render(FlowDocument(page))
    return {
        f"documents/{path}": text if isinstance(text, bytes) else text.encode("utf-8", "replace")
        for path, text in written.items()
    }


def _originals(session: Session, sources: Sequence[str]) -> Files:
    """The bytes of all exports, by their names from the folder that they have in common; what cannot be read is a problem already."""
    inputs = [one for one in session.inputs(session.sources(sources)) if not isinstance(one, Problem)]
    names = [_plain_name(one) for one in inputs]
    root = posixpath.commonpath([posixpath.dirname(name) for name in names]) if names else ""
    found: Files = {}
    for one, name in zip(inputs, names, strict=True):
        data = load_input(one, session.limits).data
        if isinstance(data, bytes):
            found[posixpath.relpath(name, root) if root else name] = data
    return found


def _plain_name(one: str | Held) -> str:
    name = name_of(one)
    if isinstance(one, Held):
        return posixpath.normpath(name.partition(":")[2] or name).lstrip("/")
    return posixpath.normpath(Path(name).absolute().as_posix())


def _sealed(session: Session) -> Files:
    """The signatures that were made with keys, each as the text that was signed and the signature, as the system's programs read them."""
    with open_book(session.book).reading() as reading:
        sealed = [one for one in reviews_of(reading.entries(line=session.line)) if one.review.seal is not None]
    files: Files = {}
    signers = []
    for one in sealed:
        seal = one.review.seal
        assert seal is not None
        name = f"keys/{one.seq:06d}"
        files[f"{name}.json"] = sealed_statement(one)
        if seal.kind == "ssh":
            files[f"{name}.json.sig"] = seal.signature.encode()
            signers.append(f"{one.seq:06d} {seal.key}\n")
        else:
            files[f"{name}.json.sig"] = base64.b64decode(seal.signature)
            files[f"{name}.pem"] = f"{seal.key}\n".encode()
    if signers:
        files["keys/signers"] = "".join(signers).encode()
    return files


def _chain(session: Session) -> tuple[Files, str]:
    """The entries of the book as the bytes that their hashes were taken of, the list of these, and what stands before the first."""
    with open_book(session.book).reading() as reading:
        entries = reading.entries()
    files = {f"chain/{entry.seq:06d}.json": entry_bytes(entry) for entry in entries}
    lines = [f"{entry.hash}  chain/{entry.seq:06d}.json\n" for entry in entries]
    return {**files, "chain.sha256": "".join(lines).encode()}, entries[0].previous if entries else ""

# The site of all documents: what it holds of flows of earlier runs is kept, what this run found is written over it.
"""The rows of a site, its file, and the pages beside those of flows."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from pathlib import Path

import msgspec
from msgspec import structs

from zeitbuch.core.assumptions.money import Shares, money_words
from zeitbuch.core.checks.records import CheckFinding, Severity
from zeitbuch.core.estimate.records import EstateEstimate, FlowEstimate
from zeitbuch.core.graph.activities import activities_of
from zeitbuch.core.graph.flow_calls import service_name
from zeitbuch.core.graph.topology import ai_steps
from zeitbuch.core.model.fingerprint import fingerprint
from zeitbuch.core.model.kinds import EFFECTS
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Flow, Origin
from zeitbuch.core.model.words import triggers_words
from zeitbuch.core.passes.steps_that_run import acting_flow
from zeitbuch.core.report.finding_marks import findings_by_flow, severity_counts
from zeitbuch.core.report.site.rows import NO_SITE, Site, SiteRow, SiteUse, gone_files, page_files

from .document import DocumentMaker

SITE_FILE = "zeitbuch-site.json"


def known_site(folder: str, problems: list[Problem]) -> Site:
    """What a folder of documents holds already; nothing where there is none, or its file cannot be read, which is told."""
    place = Path(folder) / SITE_FILE
    if not place.is_file():
        return NO_SITE
    try:
        return msgspec.json.decode(place.read_bytes(), type=Site)
    except (OSError, msgspec.MsgspecError) as error:
        hint = "pages of earlier runs are not in the index of this one; run `document` once more over all flows"
        words = f"expected the list of this folder's pages, found {error}"
        problems.append(Problem("site", "warning", words, Origin(str(place)), hint))
        return NO_SITE


def site_bytes(site: Site) -> bytes:
    """The file of a site: one flow a line, so that a comparison of texts shows which changed."""
    head, _, rows = msgspec.json.encode(structs.replace(site, rows=())).partition(b"[]")
    lines = b",\n".join(msgspec.json.encode(row) for row in site.rows)
    return head + b"[\n" + lines + b"\n]" + rows + b"\n"


def site_of_run(maker: DocumentMaker, form: str) -> Site:
    """The rows of the flows that are documented; ``form`` is that of their pages."""
    result, about = maker.result, maker.about
    counts = _counts_by_flow(about.found)
    rows = []
    for flow, file in zip(maker.flows, maker.files, strict=True):
        acting = acting_flow(flow)
        running = {step.id for step in acting.steps}
        calls = [call for call in maker.calls.get(flow.id, ()) if call.source == flow.id]
        calls = [call for call in calls if not call.steps or not running.isdisjoint(call.steps)]
        row = _row_of(flow, acting, file, maker.estimates.get(flow.id), result)
        more = counts.get(flow.id, _NO_FINDINGS) if counts is not None else {}
        rows.append(structs.replace(
            row,
            calls_flows=tuple(dict.fromkeys(call.target for call in calls if call.target and call.how != "store")),
            review=about.reviews[flow.id].state if flow.id in about.reviews else "",
            forms={form: fingerprint(flow)},
            **more,
        ))  # fmt: skip
    return Site(tuple(rows), *((result.month, result.currency) if result is not None else ("", "")))


_NO_FINDINGS: dict[Severity, int] = {"high": 0, "medium": 0, "low": 0}


def _counts_by_flow(found: Mapping[str, Sequence[CheckFinding]] | None) -> dict[str, dict[Severity, int]] | None:
    if found is None:
        return None
    every = [one for rows in found.values() for one in rows]
    return {key: severity_counts(rows) for key, rows in findings_by_flow(every).items()}


def _row_of(
    flow: Flow, acting: Flow, file: str, estimate: FlowEstimate | None, result: EstateEstimate | None
) -> SiteRow:
    money = estimate.bill_month if estimate is not None else None
    priced = money is not None and result is not None and bool(result.currency)
    return SiteRow(
        id=flow.id, name=flow.title, file=file, owners=flow.owners, folder=flow.folder, state=flow.state,
        trigger=triggers_words(flow), activities=len(activities_of(flow)), ai_steps=len(ai_steps(flow)),
        calls=_settled(estimate.calls_month) if estimate is not None and estimate.calls_month is not None else None,
        cost=_settled(float(money.amount)) if money is not None and priced else None,
        cost_words=f"{money_words(money, result.currency)} in {result.month}" if money is not None and result is not None and priced else "",
        month=result.month if result is not None else "", currency=result.currency if result is not None else "",
        all_priced=not money.unknown if money is not None else False,
        bill=_settled(float(money.amount)) if money is not None else 0.0,
        evidence=_settled_shares(estimate.evidence_month) if estimate is not None else Shares(),
        effects=tuple(sorted({step.effect for step in acting.steps if step.effect != "none"})),
        connections=tuple(_uses_of(flow, acting)),
        models=tuple(sorted({step.model.name for step in flow.steps if step.model is not None and step.model.name})),
        changed=flow.changed[:10], place=flow.origin.source if flow.origin is not None else "",
    )  # fmt: skip


_DIGITS = ".12g"  # the last digits of a sum hang on the version of Python; a page is to be the same everywhere


def _settled(amount: float) -> float:
    return float(format(amount, _DIGITS))


def _settled_shares(shares: Shares) -> Shares:
    return Shares(*[_settled(getattr(shares, name)) for name in shares.__struct_fields__])


def _uses_of(flow: Flow, acting: Flow) -> list[SiteUse]:
    """The connections of a flow, each with what those of its steps do there that some run comes to."""
    does: dict[str, dict[str, None]] = {
        service_name(flow, step.connection): {} for step in flow.steps if step.connection
    }
    idle = set(does)
    for step in acting.steps:
        if step.connection:
            name = service_name(flow, step.connection)
            does[name][EFFECTS[step.effect].verb] = None
            idle.discard(name)
    words = {name: "nothing as it stands" if name in idle else ", ".join(filter(None, does[name])) for name in does}
    return [SiteUse(name, words[name]) for name in sorted(words)]


def verify_site(known: Site, flows: Sequence[Flow], unread: Collection[str], folder: Path) -> list[str]:
    """What keeps the pages of a folder from describing the flows as they are: a sentence for each. Of flows that may stand in files that could not
    be read (``unread``) nobody says that they are gone."""
    by_file = {row.file: row for row in known.rows}
    wrong: list[str] = []
    files = page_files(flows, known.rows)
    for flow, file in zip(flows, files, strict=True):
        row = by_file.get(file)
        if row is None or not row.forms:
            wrong.append(f"{flow.title}: no page describes it")
            continue
        for form, described in row.forms.items():
            name = f"{file}{_SUFFIXES.get(form, '')}"
            if form in _SUFFIXES and not (folder / name).is_file():
                wrong.append(f"{flow.title}: its page {name} is missing")
            elif described != fingerprint(flow):
                wrong.append(
                    f"{flow.title}: its page {name} describes another state ({described[:16] or 'not known which'}; now {fingerprint(flow)[:16]})"
                )
    lost = gone_files(known, files, unread)
    gone = [row for row in known.rows if row.file in lost and not row.gone]
    return wrong + [
        f"{row.name}: its page {row.file} is that of a flow that is no more in the sources, and does not say so"
        for row in gone
    ]


_SUFFIXES = {"html": ".html", "markdown": ".md", "word": ".docx"}
GONE_WORDS = "This flow is no more in the sources: the page says what it was."
_MAIN = re.compile(r"<main>\n")


def page_of_gone(name: str, content: str) -> str:
    """A page (HTML or Markdown) with the sentence that its flow is gone, once."""
    if GONE_WORDS in content:
        return content
    if name.endswith(".md"):
        return f"> **{GONE_WORDS}**\n\n{content}"
    return _MAIN.sub(f"<main>\n<p class=gone role=note>{GONE_WORDS}</p>\n", content, count=1)

# The pages of a site that group its flows, and the summary that a board reads on one sheet of paper. Sums say what they leave out: a flow without a
# volume or a price is no flow that costs nothing.
"""Pages of a site by owner, folder, connection and model, and its summary."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from decimal import Decimal
from typing import NamedTuple

from zeitbuch.core.assumptions.money import evidence_words
from zeitbuch.core.checks.records import SEVERITIES
from zeitbuch.core.estimate.joined_parts import joined_shares
from zeitbuch.core.model.kinds import EFFECTS
from zeitbuch.core.model.records import Effect
from zeitbuch.core.model.sheet import Column, Sheet, cell_text, number_text
from zeitbuch.core.model.words import count_words
from zeitbuch.core.report.blocks import Block, Facts, Heading, Links, Page, Paragraph, Table

from .rows import Site, SiteRow, rows_by

STATES = {"on": "in use", "off": "switched off", "draft": "drafts", "unknown": "of unknown state"}
_ACTS: tuple[Effect, ...] = ("spend", "delete", "send", "write")
EARLIER = "as an earlier run found it"
_DEAREST = 5
_NAMED = 12  # flows that are named in a line of the summary


class Grouping(NamedTuple):
    """One way to group: the page, its title, what stands for a flow that has none, and the keys of a flow."""

    file: str
    title: str
    none: str
    keys: Callable[[SiteRow], Sequence[str]]


GROUPINGS: tuple[Grouping, ...] = (
    Grouping("owners", "By owner", "no owner named", lambda row: row.owners),
    Grouping("folders", "By folder", "no folder", lambda row: (row.folder,) if row.folder else ()),
    Grouping("connections", "By connection", "no connection", lambda row: [use.name for use in row.connections]),
    Grouping("models", "By model", "no model", lambda row: row.models),
)


def groups_of(site: Site, grouping: Grouping) -> dict[str, list[SiteRow]]:
    """The flows of a site under what they are grouped by; those that are gone in none."""
    rows = site.present()
    return rows_by(rows, {row.file: grouping.keys(row) or (grouping.none,) for row in rows})


def index_page(site: Site, unread: Sequence[str] = ()) -> Page:
    """The index of all documents. Of ``unread`` files nobody can say what flows they hold."""
    rows = site.present()
    gone = [row for row in site.rows if row.gone]
    blocks: list[Block] = [Heading(1, "Flows"), Facts(tuple(figures_of(site, rows)))]
    blocks.append(Links(tuple((row.name, row.file, _index_remark(row)) for row in rows)))
    if gone:
        blocks += [
            Heading(2, "No more in the sources", "gone"),
            Links(tuple((row.name, row.file, row.id) for row in gone)),
        ]
    if unread:
        blocks.append(Paragraph(f"Not described here, or not whole, for they could not be read: {', '.join(unread)}."))
    return Page("index", "Flows", tuple(blocks), "index")


def _index_remark(row: SiteRow) -> str:
    size = f"{count_words(row.activities, 'activity')}, {row.ai_steps} with AI"
    said = [
        row.trigger,
        size,
        ", ".join(row.owners) or "no owner",
        row.cost_words,
        findings_words(row),
        review_words(row),
    ]
    return "; ".join(part for part in said if part)


def group_page(site: Site, grouping: Grouping) -> Page:
    """The page of one way to group: under each heading what its flows come to, and the flows."""
    blocks: list[Block] = [Heading(1, grouping.title)]
    if len(site.present()) and grouping.file in ("connections", "models"):
        blocks.append(Paragraph("A flow that uses several stands under each of them.", quiet=True))
    for place, (key, rows) in enumerate(groups_of(site, grouping).items()):
        blocks += [Heading(2, key, f"group-{place}"), Facts(tuple(figures_of(site, rows)))]
        blocks.append(Links(tuple((row.name, row.file, _remark(site, grouping, row, key)) for row in rows)))
    return Page(grouping.file, grouping.title, tuple(blocks), "group")


def _remark(site: Site, grouping: Grouping, row: SiteRow, key: str) -> str:
    does = next((use.does for use in row.connections if use.name == key), "") if grouping.file == "connections" else ""
    owners = "" if grouping.file == "owners" else ", ".join(row.owners) or "no owner"
    return "; ".join(
        part for part in (does, row.trigger, owners, row.cost_words, findings_words(row), review_words(row)) if part
    )


def review_words(row: SiteRow) -> str:
    """The state of the review, and whether all that is said of the flow is of an earlier run."""
    return ", ".join(part for part in (row.review, EARLIER if row.earlier else "") if part)


def findings_words(row: SiteRow) -> str:
    """'1 high, 2 low'; empty where there are none, or nobody looked."""
    found = [(getattr(row, severity), severity) for severity in SEVERITIES]
    return ", ".join(f"{number} {severity}" for number, severity in found if number)


def figures_of(site: Site, rows: Sequence[SiteRow]) -> list[tuple[str, str]]:
    """Flows, AI calls, cost, findings and reviews of some flows, each with what is not known of it."""
    pairs = [("Flows", _states_words(rows))]
    if site.month:
        calls = [(row.calls if row.month == site.month else None, True) for row in rows]
        pairs.append((f"AI calls in {site.month}", _sum_words(calls, "")))
    if site.month and site.currency:
        costs = [(row.cost if _is_of(row, site) else None, row.all_priced) for row in rows]
        pairs.append((f"Cost in {site.month}", _sum_words(costs, f" {site.currency}")))
        pairs += _evidence(site, rows)
    if any(row.high is not None for row in rows):
        pairs.append(("Findings", _findings(rows)))
    reviews = Counter(row.review for row in rows if row.review)
    if reviews:
        pairs.append(("Review", ", ".join(f"{number:,} {state}" for state, number in reviews.most_common())))
    if earlier := sum(row.earlier for row in rows):
        pairs.append(("As an earlier run found them", f"{earlier:,} of {len(rows):,}"))
    return pairs


def _evidence(site: Site, rows: Sequence[SiteRow]) -> list[tuple[str, str]]:
    """What the bill rests on: a sum of defaults is told to be one."""
    known = [row for row in rows if row.bill and _is_of(row, site)]
    shares = joined_shares((Decimal(row.bill), row.evidence) for row in known)
    return [("Bill is based on", evidence_words(shares))] if known else []


def _states_words(rows: Sequence[SiteRow]) -> str:
    """'17 (13 in use, 4 switched off)'."""
    states = Counter(row.state for row in rows)
    said = ", ".join(f"{states[key]:,} {words}" for key, words in STATES.items() if states[key])
    if len(states) == 1:
        said = STATES.get(rows[0].state, rows[0].state)
    return f"{len(rows):,} ({said})" if said else f"{len(rows):,}"


def _is_of(row: SiteRow, site: Site) -> bool:
    """Whether the figures of a row are of the month and currency that the site tells; those of an earlier run may not be."""
    return (row.month, row.currency) == (site.month, site.currency)


def _sum_words(values: Sequence[tuple[float | None, bool]], unit: str) -> str:
    """A sum of (value, whether it is all), with how many flows it does not know, or not in all."""
    known = [value for value, _ in values if value is not None]
    left = sum(value is None or not is_all for value, is_all in values)
    if not known:
        return "not known" if values else f"0{unit}"
    words = f"{cell_text(sum(known), 'money')}{unit}" if unit else number_text(sum(known))
    return f"at least {words}; of {count_words(left, 'flow')} it is not known" if left else words


def _findings(rows: Iterable[SiteRow]) -> str:
    sums = {severity: sum(getattr(row, severity) or 0 for row in rows) for severity in SEVERITIES}
    return ", ".join(f"{number:,} {severity}" for severity, number in sums.items() if number) or "none"


def summary_page(site: Site, changes: Sequence[str] = ()) -> Page:
    """The sheet for a board: figures, what changed, the dearest flows, what flows may do outside, what is wrong, what nobody has signed."""
    rows = site.present()
    changed: list[Block] = (
        [Heading(2, "Since the last recorded version", "changes"), *map(Paragraph, changes)] if changes else []
    )
    blocks: list[Block] = [Heading(1, "Summary"), Facts(tuple(figures_of(site, rows))), *changed]
    for part in (_dearest(site, rows), _outside(rows), _wrong(rows), _unsigned(rows)):
        blocks += part
    return Page("summary", "Summary", tuple(blocks), "group")


def _outside(rows: Sequence[SiteRow]) -> list[Block]:
    acts = [(EFFECTS[effect].verb, [row for row in rows if effect in row.effects]) for effect in _ACTS]
    pairs = tuple((verb.capitalize(), _names(those)) for verb, those in acts if those)
    return [Heading(2, "What flows do outside", "outside"), Facts(pairs)] if pairs else []


def _wrong(rows: Sequence[SiteRow]) -> list[Block]:
    wrong = sorted(
        [row for row in rows if row.high or row.medium],
        key=lambda row: (-(row.high or 0), -(row.medium or 0), row.name.casefold()),
    )
    if not wrong:
        return []
    items = tuple((row.name, row.file, findings_words(row)) for row in wrong[:_NAMED])
    rest = count_words(len(wrong) - _NAMED, "flow")
    more = [Paragraph(f"And {rest} more with findings that are medium or high.", quiet=True)]
    return [Heading(2, "What is wrong", "findings"), Links(items), *(more if len(wrong) > _NAMED else [])]


def _unsigned(rows: Sequence[SiteRow]) -> list[Block]:
    unsigned = [row for row in rows if row.review not in ("", "valid")]
    if not unsigned:
        return []
    title = "Whose signature is missing or no more holds"
    return [Heading(2, title, "review"), Facts(tuple(_unsigned_by_owner(unsigned)))]


def _dearest(site: Site, rows: Sequence[SiteRow]) -> list[Block]:
    priced = [(row, row.cost) for row in rows if row.cost and _is_of(row, site)]
    if not priced:
        return []
    priced.sort(key=lambda one: -one[1])
    columns = (
        Column("flow", "flow"), Column("owner", "owner"), Column("cost", f"{site.currency} in {site.month}", "money"),
        Column("share", "of what is known", "percent"),
    )  # fmt: skip
    whole = sum(cost for _, cost in priced)
    shown = tuple(
        (row.name, ", ".join(row.owners) or "none named", cost, cost / whole) for row, cost in priced[:_DEAREST]
    )
    return [Heading(2, "The dearest flows", "dearest"), Table(Sheet(columns, shown))]


def _names(rows: Sequence[SiteRow]) -> str:
    more = f" and {len(rows) - _NAMED:,} more" if len(rows) > _NAMED else ""
    return f"{count_words(len(rows), 'flow')}: {', '.join(row.name for row in rows[:_NAMED])}{more}"


def _unsigned_by_owner(rows: Sequence[SiteRow]) -> list[tuple[str, str]]:
    found: dict[str, list[SiteRow]] = {}
    for row in rows:
        found.setdefault(", ".join(row.owners) or "no owner named", []).append(row)
    return [(owner, _names(those)) for owner, those in sorted(found.items(), key=lambda one: (-len(one[1]), one[0]))]

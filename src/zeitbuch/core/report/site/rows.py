# What a site knows of each flow whose page it holds. It stands in a file of the site itself, so that a run over a part of the flows leaves all others
# where they are: the index never shrinks, no page takes the name of another, and the page of a flow that is gone is marked, not orphaned.
"""Rows of a site, and how those of two runs become one."""

from __future__ import annotations

import hashlib
import re
from collections import Counter
from collections.abc import Collection, Mapping, Sequence

from msgspec import Struct, structs

from zeitbuch.core.assumptions.money import Shares
from zeitbuch.core.model.plain_names import DEVICES, plain_name
from zeitbuch.core.model.records import Flow

_RESERVED = DEVICES | {"index", "summary", "owners", "folders", "connections", "models", "estate"}


class SiteUse(Struct, frozen=True):
    """A connection that a flow uses, and what it does there ('reads, writes')."""

    name: str
    does: str


class SiteRow(Struct, frozen=True):
    """One flow: ``file`` is the name of its pages without suffix, ``forms`` the forms in which there is one, each
    with the fingerprint of the state that it describes (empty where somebody edited it before anybody knew); ``calls`` (model calls) and ``cost``
    are of a month, None where they are not known, ``cost_words`` says them with what is left out, and ``all_priced`` whether nothing of it is,
    ``bill`` is that of models and meters, and ``evidence`` what it rests on; ``gone`` for one that is no
    more in the sources, ``earlier`` for one that the last run did not look at: all of this is as a run before it found it. Findings are None where nobody looked for them."""

    id: str
    name: str
    file: str
    owners: tuple[str, ...] = ()
    folder: str = ""
    state: str = ""
    trigger: str = ""
    activities: int = 0
    ai_steps: int = 0
    calls: float | None = None
    cost: float | None = None
    cost_words: str = ""
    all_priced: bool = True
    bill: float = 0.0
    evidence: Shares = Shares()
    month: str = ""
    currency: str = ""
    high: int | None = None
    medium: int | None = None
    low: int | None = None
    review: str = ""
    effects: tuple[str, ...] = ()
    connections: tuple[SiteUse, ...] = ()
    models: tuple[str, ...] = ()
    calls_flows: tuple[str, ...] = ()  # ids
    changed: str = ""
    place: str = ""
    forms: dict[str, str] = {}
    gone: bool = False
    earlier: bool = False


class Site(Struct, frozen=True, tag="site", tag_field="zeitbuch"):
    """All that a site knows (its file): the month and currency of its figures, its flows, and the names of files that could not be read when it
    was begun."""

    rows: tuple[SiteRow, ...] = ()
    month: str = ""
    currency: str = ""
    unread: tuple[str, ...] = ()
    version: int = 1

    def present(self) -> list[SiteRow]:
        """The flows that are in the sources."""
        return [row for row in self.rows if not row.gone]


NO_SITE = Site()


def page_files(flows: Sequence[Flow], known: Sequence[SiteRow] = ()) -> list[str]:
    """A name for the pages of each flow, made of its id: the one that it has on the site already, else its letters; where another flow has these,
    with a hash behind them. What is chosen does not depend on the order of the flows."""
    taken = {row.file for row in known}
    own = Counter(flow.id for flow in flows)
    theirs = Counter(row.id for row in known)
    by_id = {row.id: row.file for row in known}
    by_all = {(row.id, row.name, row.folder): row.file for row in known}
    chosen: dict[int, str] = {}
    for place in sorted(range(len(flows)), key=lambda place: (*_identity(flows[place]), place)):
        flow = flows[place]
        if own[flow.id] == 1 == theirs[flow.id]:  # whatever it is called now
            chosen[place] = by_id[flow.id]
        else:
            file = by_all.pop(_identity(flow), "")
            chosen[place] = file or _new_file(flow, taken)
            taken.add(chosen[place])
    return [chosen[place] for place in range(len(flows))]


def _identity(flow: Flow) -> tuple[str, str, str]:
    return flow.id, flow.title, flow.folder


def _new_file(flow: Flow, taken: set[str]) -> str:
    file = plain_name(flow.id)
    digest = hashlib.sha256("\0".join(_identity(flow)).encode("utf-8", "surrogatepass")).hexdigest()
    file = file if file not in taken and file not in _RESERVED else f"{file}-{digest[:8]}"
    while file in taken:
        file += "-2"
    return file


def merged_site(before: Site, now: Site, gone: Collection[str] = ()) -> Site:
    """The site after a run: flows of this run as it found them (with the forms that they have from before), all others as they were; ``gone`` are the
    files of those that are no more in the sources."""
    old = {row.file: row for row in before.rows}
    rows: dict[str, SiteRow] = {}
    for row in before.rows:
        rows[row.file] = structs.replace(row, gone=row.gone or row.file in gone, earlier=True)
    for row in now.rows:
        before_forms = old[row.file].forms if row.file in old else {}
        rows[row.file] = structs.replace(row, forms=dict(sorted({**before_forms, **row.forms}.items())))
    unread = before.unread if before.rows else now.unread
    ordered = sorted(rows.values(), key=lambda row: (row.gone, row.name.casefold(), row.file))
    return structs.replace(now, rows=tuple(ordered), unread=unread)


def gone_files(before: Site, present: Collection[str], unread: Collection[str]) -> set[str]:
    """The files of flows that a run over the whole estate did not find among the ``present`` ones. Of what stands in files that could not be read
    (``unread``) nobody knows: where one of them is none that a flow is known to stand in, and could be read before, no flow is told to be gone."""
    names = unread_names(unread)
    places = {row.place.rpartition("/")[2] for row in before.rows}
    if names - places - set(before.unread):
        return set()
    return {row.file for row in before.rows if row.file not in present and row.place.rpartition("/")[2] not in names}


def unread_names(unread: Collection[str]) -> set[str]:
    """The names of files, or of members of packages, without what leads to them."""
    return {re.split(r"[/!\\]", place)[-1] for place in unread}


def rows_by(rows: Sequence[SiteRow], keys_of: Mapping[str, Sequence[str]]) -> dict[str, list[SiteRow]]:
    """Rows under each of their keys (by file), the keys in order."""
    found: dict[str, list[SiteRow]] = {}
    for row in rows:
        for key in keys_of[row.file]:
            found.setdefault(key, []).append(row)
    return dict(sorted(found.items(), key=lambda one: one[0].casefold()))

# The map of a large estate, folded: owners, folders or connections are cards, what their flows do with each other are links with a number. One card
# opened shows its flows, and the other groups they lead to. What leads nowhere is not drawn but listed: a row of two thousand boxes is no map.
"""Folded maps of an estate, from the rows of its site."""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Mapping, Sequence

from msgspec import Struct

from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.layout.cards import Showing
from zeitbuch.core.layout.views import View
from zeitbuch.core.model.plain_names import plain_name
from zeitbuch.core.model.records import Effect, Flow, Link, Step
from zeitbuch.core.model.words import count_words

from .pages import Grouping
from .rows import Site, SiteRow

MOST_CARDS = 40
_RANK: tuple[Effect, ...] = ("none", "read", "write", "send", "spend", "delete")


class FoldedMap(Struct, frozen=True):
    """A drawing with what its cards lead to (file names by card), and the names of what is not drawn."""

    view: View | None
    showing: Showing
    links: Mapping[str, str]
    left_out: tuple[str, ...] = ()


def group_file(grouping: Grouping, key: str) -> str:
    """The name of the page of an opened group: it stays, whatever other groups there are."""
    digest = hashlib.sha256(f"{grouping.file}\0{key}".encode("utf-8", "surrogatepass")).hexdigest()
    return f"estate-{plain_name(key)[:40]}-{digest[:8]}"


def homes_of(site: Site, grouping: Grouping) -> dict[str, str]:
    """The one group in which each flow is drawn (by file): the first of those it stands under."""
    return {row.file: (*grouping.keys(row), grouping.none)[0] for row in site.present()}


def calls_between(site: Site) -> list[tuple[SiteRow, SiteRow]]:
    """Which flow leads to which, both of them on the site."""
    rows = site.present()
    by_id = {row.id: row for row in reversed(rows)}
    pairs = [(row, by_id[target]) for row in rows for target in row.calls_flows if target in by_id]
    return [(one, other) for one, other in pairs if one.file != other.file]


def folded_map(site: Site, grouping: Grouping) -> FoldedMap:
    """All groups as cards; of more than fit those with the most links between them and others, and no lone ones."""
    homes = homes_of(site, grouping)
    groups: dict[str, list[SiteRow]] = {}
    for row in site.present():
        groups.setdefault(homes[row.file], []).append(row)
    calls = Counter((homes[one.file], homes[other.file]) for one, other in calls_between(site))
    between = {ends: number for ends, number in calls.items() if ends[0] != ends[1]}
    busy: Counter[str] = Counter()
    for ends, number in between.items():
        busy.update(dict.fromkeys(ends, number))
    shown = sorted(groups, key=str.casefold)
    if len(shown) > MOST_CARDS // 4:
        shown = [key for key, _ in busy.most_common(MOST_CARDS)]
    ids = {key: f"group {place}" for place, key in enumerate(shown)}
    links = [
        Link(source=ids[one], target=ids[other], label=count_words(number, "link"))
        for (one, other), number in between.items()
        if one in ids and other in ids
    ]
    return _drawn(
        f"{grouping.title}: {count_words(len(groups), 'group')}",
        [_card(ids[key], key, groups[key]) for key in shown],
        links,
        {ids[key]: _words_of(groups[key], calls[key, key]) for key in shown},
        {ids[key]: group_file(grouping, key) for key in shown},
        tuple(key for key in sorted(groups, key=str.casefold) if key not in ids),
    )


def opened_map(site: Site, grouping: Grouping, key: str) -> FoldedMap:
    """One group opened: its flows that lead to others or are led to, and the groups of those that stand elsewhere; few are all drawn."""
    homes = homes_of(site, grouping)
    rows = [row for row in site.present() if homes[row.file] == key]
    calls = [(one, other) for one, other in calls_between(site) if key in (homes[one.file], homes[other.file])]
    kept = _kept_flows(rows, calls)
    steps = [_flow_card(row) for row in rows if row.file in kept]
    targets = {f"flow {file}": file for file in kept}
    links: Counter[tuple[str, str]] = Counter()
    for pair in calls:
        ends = tuple(f"flow {row.file}" if homes[row.file] == key else f"home {homes[row.file]}" for row in pair)
        if all(end in targets or end.startswith("home ") for end in ends):
            links[ends[0], ends[1]] += 1
    for home in dict.fromkeys(end.removeprefix("home ") for ends in links for end in ends if end.startswith("home ")):
        steps.append(Step(id=f"home {home}", kind="subflow", name=home, operation="another group"))
        targets[f"home {home}"] = group_file(grouping, home)
    arrows = [
        Link(source=one, target=other, label=count_words(number, "link") if number > 1 else "")
        for (one, other), number in links.items()
    ]
    remarks = {f"flow {row.file}": tuple(_flow_words(row)) for row in rows if row.file in kept}
    left = tuple(row.name for row in rows if row.file not in kept)
    return _drawn(f"{key}: {count_words(len(rows), 'flow')}", steps, arrows, remarks, targets, left)


def _kept_flows(rows: Sequence[SiteRow], calls: Sequence[tuple[SiteRow, SiteRow]]) -> set[str]:
    """The files of the flows of a group that are drawn."""
    mine = {row.file for row in rows}
    if len(rows) <= MOST_CARDS // 2:
        return mine
    busy = Counter(row.file for pair in calls for row in pair if row.file in mine)
    return {file for file, _ in busy.most_common(MOST_CARDS)}


def _drawn(
    title: str,
    steps: Sequence[Step],
    links: Sequence[Link],
    remarks: Mapping[str, tuple[str, ...]],
    targets: Mapping[str, str],
    left: tuple[str, ...],
) -> FoldedMap:
    showing = Showing("names", dict(remarks), tab=300.0)
    if not steps:
        return FoldedMap(None, showing, {}, left)
    graph = Graph(Flow(id="estate", name=title, format="estate", steps=tuple(steps), links=tuple(links)))
    graph.__dict__["numbers"] = {}
    note = f"{len(left):,} more are not drawn" if left else "all are drawn"
    return FoldedMap(View(graph, showing.remarks, note=note), showing, targets, left)


def _card(id: str, key: str, rows: Sequence[SiteRow]) -> Step:
    return Step(id=id, kind="subflow", name=key, operation=count_words(len(rows), "flow"), effect=_strongest(rows))


def _flow_card(row: SiteRow) -> Step:
    return Step(
        id=f"flow {row.file}", kind="model" if row.ai_steps else "shape", name=row.name, operation=row.id, effect=_strongest([row]), enabled=row.state != "off"
    )  # fmt: skip


def _strongest(rows: Sequence[SiteRow]) -> Effect:
    return max((effect for row in rows for effect in _RANK if effect in row.effects), key=_RANK.index, default="none")


def _words_of(rows: Sequence[SiteRow], inner: int) -> tuple[str, ...]:
    ai = sum(row.ai_steps for row in rows)
    words = [f"{count_words(len(rows), 'flow')}, {count_words(ai, 'step')} with AI"]
    return (*words, f"{count_words(inner, 'link')} among themselves") if inner else tuple(words)


def _flow_words(row: SiteRow) -> list[str]:
    return [part for part in (row.trigger, row.cost_words) if part]

# The book as tables: its snapshots, and the versions of a flow.
"""Sheets of the book."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from decimal import Decimal
from typing import TYPE_CHECKING

import msgspec

from zeitbuch.core.assumptions.money import money_cell
from zeitbuch.core.model.sheet import Column, Sheet

from .lines import state_name
from .notes import About, about_of, mark_words, note_words
from .records import Body, Entry, Version

if TYPE_CHECKING:
    from .verify import Verdict


def verdict_sheet(verdict: Verdict) -> Sheet:
    """What a verification found, a row each."""
    rows = [("wrong", sentence) for sentence in verdict.wrong]
    rows += [("since the hash kept", sentence) for sentence in verdict.followed]
    note = f"{verdict.entries} entries, {verdict.contents} contents; the last entry has the hash {verdict.head}"
    return Sheet((Column("state", ""), Column("what", "what")), tuple(rows), notes=(note,))


SHOWN = 8  # names of flows on one line


def estate_sheet(snapshots: list[Entry], versions: list[Version], notes: Iterable[Entry] = ()) -> Sheet:
    """One row a snapshot of a line: what it changed, what is said of it, and what the estate cost a month as it was estimated then."""
    mapping: dict[int, list[Version]] = {}
    names: dict[int, str] = {}
    for version in versions:
        mapping.setdefault(version.snapshot, []).append(version)
        names[version.flow] = version.name
    said = _notes_by(notes, lambda about: about.snapshot if not about.flow else 0)
    alive: set[int] = set()
    rows: list[tuple[object, ...]] = []
    currency = ""
    for entry in snapshots:
        currency = _row_of_snapshot(mapping, names, entry, alive, currency, said.get(entry.number, []), rows)
    columns = [
        Column("snapshot", "snapshot"),
        Column("at", "when", least=10),
        Column("who", "by", rank=2),
        Column("note", "note", rank=4),
        Column("files", "files", "count", rank=5),
        Column("flows", "flows", "count", rank=1),
        Column("what", "what changed", least=14),
        Column("calls", "calls per month", "count", rank=3),
        Column("month", f"{currency or 'cost'} per month", "money"),
    ]
    if any(said.values()):
        columns.append(Column("marks", "marks"))
    else:
        rows = [row[:-1] for row in rows]
    return Sheet(
        tuple(columns),
        tuple(rows),
        notes=(
            "Calls and cost as they were estimated when the snapshot was taken, of the flows whose volume was known.",
        ),
    )


def _notes_by(notes: Iterable[Entry], key_of: Callable[[About], int]) -> dict[int, list[Entry]]:
    found: dict[int, list[Entry]] = {}
    for entry in notes:
        if key := key_of(about_of(entry)):
            found.setdefault(key, []).append(entry)
    return found


def _row_of_snapshot(
    mapping: dict[int, list[Version]],
    names: dict[int, str],
    entry: Entry,
    alive: set[int],
    currency: str,
    said: list[Entry],
    rows: list[tuple[object, ...]],
) -> str:
    own = mapping.get(entry.number, [])
    for version in own:
        (alive.discard if version.status == "removed" else alive.add)(version.flow)
    body = msgspec.json.decode(entry.body, type=Body)
    currency = currency or body.estimated.currency
    told = "; ".join(_what_changed(own, [names.get(key, "?") for key, _ in body.unreadable])) or "files only"
    figures = (body.estimated.calls, _money_cell(body.estimated.month, body.estimated.unpriced))
    note = "; ".join(words for words in (entry.note, note_words(said)) if words)
    name = state_name(entry.line, entry.number)
    rows.append((name, entry.at, entry.who, note, body.count, len(alive), told, *figures, mark_words(said)))
    return currency


def _what_changed(own: list[Version], unreadable: list[str]) -> list[str]:
    counts = {word: sum(version.status == word for version in own) for word in ("added", "removed")}
    changed = [version.name for version in own if version.status == "changed"]
    what = [f"{number} {word}" for word, number in counts.items() if number]
    what += [f"changed: {_some_names(changed)}"] if changed else []
    renumbered = [version.name for version in own if version.status == "renumbered"]
    what += [f"other ids: {_some_names(renumbered)}"] if renumbered else []
    return [*what, f"could not be read: {_some_names(unreadable)}"] if unreadable else what


def _some_names(names: list[str]) -> str:
    more = f" and {len(names) - SHOWN} more" if len(names) > SHOWN else ""
    return ", ".join(names[:SHOWN]) + more


def _money_cell(amount: str | None, unpriced: str) -> object:
    """An amount of the book for a cell."""
    return None if amount is None else money_cell(Decimal(amount), tuple(unpriced.split(", ")) if unpriced else ())


def flow_sheet(
    own: list[Version],
    snapshots: list[Entry],
    now: Callable[[Version], list[object]] | None = None,
    notes: Iterable[Entry] = (),
) -> Sheet:
    """One row a version, and one where the flow could not be read; ``now`` says what a version costs a run and a month at today's
    rates, and which findings came and went with it."""
    flow = own[-1].flow
    said = _notes_by(notes, lambda about: about.version if about.flow == flow else 0)
    optional = {
        "author": any(version.author for version in own),
        "edited": any(version.edited for version in own),
        "said": any(said.values()),
        "now": now is not None,
    }
    columns = [
        (Column("version", "version", "count"), ""),
        (Column("snapshot", "snapshot"), ""),
        (Column("at", "when"), ""),
        (Column("who", "by", rank=1), ""),
        (Column("author", "changed by"), "author"),
        (Column("edited", "edited", rank=2), "edited"),
        (Column("what", "what changed"), ""),
        (Column("calls", "calls per run", "number"), ""),
        (Column("run", f"{_currency_of(own) or 'cost'} per run", "money"), ""),
        (Column("month", "models per month", "money"), ""),
        (Column("run_now", "per run, now", "money"), "now"),
        (Column("month_now", "models per month, now", "money"), "now"),
        (Column("findings_now", "findings, now", "list"), "now"),
        (Column("said", "notes and marks"), "said"),
    ]
    shown = [index for index, (_, wish) in enumerate(columns) if optional.get(wish, True)]
    when = {entry.number: entry for entry in snapshots}
    by_snapshot = {version.snapshot: version for version in own}
    rows: list[list[object]] = []
    last, was_unread = own[0], False
    for entry in snapshots:
        file = dict(msgspec.json.decode(entry.body, type=Body).unreadable).get(flow)
        version = by_snapshot.get(entry.number)
        if version is not None:
            last = version
            rows.append(_row_of_version(now, when, version, said.get(version.number, [])))
        elif file is not None and not was_unread:
            rows.append(_row_of_unread(entry, last, file))
        was_unread = file is not None
    notes_below = ["Calls and cost as they were estimated when the version was recorded."]
    if now is not None:
        notes_below.append("'now': the version at today's rates and assumptions, by itself.")
    return Sheet(
        tuple(columns[index][0] for index in shown),
        tuple(tuple(row[index] for index in shown) for row in rows),
        title=f"{own[-1].name} ({own[-1].id})",
        notes=tuple(notes_below),
    )


def _currency_of(own: list[Version]) -> str:
    return next((version.currency for version in own if version.currency), "")


def _row_of_unread(entry: Entry, last: Version, file: str) -> list[object]:
    told = f"could not be read ({file}); version {last.number} stays the current one"
    name = state_name(entry.line, entry.number)
    return [None, name, entry.at, entry.who, "", "", told, "", "", "", "", "", "", ""]


def _row_of_version(
    now: Callable[[Version], list[object]] | None, when: dict[int, Entry], version: Version, said: list[Entry]
) -> list[object]:
    entry = when[version.snapshot]
    what = version.status if version.status in ("added", "removed") else version.summary
    there = version.status != "removed"
    name = state_name(entry.line, entry.number)
    row = [version.number, name, entry.at, entry.who, version.author, version.edited, what]
    row += (
        [version.calls, _money_cell(version.run, version.unpriced), _money_cell(version.month, version.unpriced)]
        if there
        else ["", "", ""]
    )
    row += now(version) if now is not None and there else ["", "", ""]
    return [*row, "; ".join(words for words in (note_words(said), mark_words(said)) if words)]


def feed_sheet(versions: Iterable[Version], first: Entry, later: Iterable[Entry]) -> Sheet:
    """One row a version and a flow that could not be read, in the order of the snapshots: what happened since the ``first``."""
    columns = (
        Column("snapshot", "snapshot"),
        Column("at", "when"),
        Column("who", "by", rank=1),
        Column("flow", "flow"),
        Column("id", "id", rank=3),
        Column("version", "version", "count"),
        Column("status", "status"),
        Column("author", "changed by", rank=2),
        Column("what", "what changed"),
        Column("calls", "calls per run", "number", rank=2),
        Column("month", "models per month", "money", rank=2),
    )
    names = {version.flow: version for version in versions}
    by_snapshot: dict[int, list[Version]] = {}
    for version in versions:
        by_snapshot.setdefault(version.snapshot, []).append(version)
    rows: list[tuple[object, ...]] = []
    unread = {key for key, _ in msgspec.json.decode(first.body, type=Body).unreadable}
    for entry in later:
        head = (state_name(entry.line, entry.number), entry.at, entry.who)
        for one in by_snapshot.get(entry.number, []):
            about = (one.name, one.id, one.number, one.status, one.author, one.summary)
            rows.append((*head, *about, one.calls, _money_cell(one.month, one.unpriced)))
        now = dict(msgspec.json.decode(entry.body, type=Body).unreadable)
        for key in now.keys() - unread:
            last = names[key]
            rows.append(
                (*head, last.name, last.id, None, "unreadable", "", f"could not be read ({now[key]})", None, None)
            )
        unread = set(now)
    return Sheet(columns, tuple(rows))

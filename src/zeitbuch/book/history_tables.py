# The book as tables: its snapshots, and the versions of a flow.
"""Sheets of the book."""

from __future__ import annotations

from collections.abc import Callable
from decimal import Decimal

import msgspec

from zeitbuch.core.assumptions.money import Money, money_words
from zeitbuch.core.model.sheet import Column, Sheet

from .records import Body, Entry, Version

SHOWN = 8  # names of flows on one line


def estate_sheet(snapshots: list[Entry], versions: list[Version]) -> Sheet:
    """One row a snapshot: what it changed, and what the estate cost a month as it was estimated then."""
    mapping: dict[int, list[Version]] = {}
    for version in versions:
        mapping.setdefault(version.snapshot, []).append(version)
    alive: set[int] = set()
    rows: list[tuple[object, ...]] = []
    currency = ""
    for entry in snapshots:
        currency = _row_of_snapshot(mapping, entry, alive, currency, rows)
    columns = (
        Column("snapshot", "snapshot"),
        Column("at", "when"),
        Column("who", "by"),
        Column("note", "note", rank=2),
        Column("files", "files", "count", rank=1),
        Column("flows", "flows", "count"),
        Column("what", "what changed"),
        Column("calls", "calls per month", "count"),
        Column("month", f"{currency or 'cost'} per month", "money"),
    )
    return Sheet(
        columns,
        tuple(rows),
        notes=(
            "Calls and cost as they were estimated when the snapshot was taken, of the flows whose volume was known.",
        ),
    )


def _row_of_snapshot(
    mapping: dict[int, list[Version]],
    entry: Entry,
    alive: set[int],
    currency: str,
    rows: list[tuple[object, ...]],
) -> str:
    own = mapping.get(entry.number, [])
    for version in own:
        (alive.discard if version.status == "removed" else alive.add)(version.flow)
    counts = {word: sum(version.status == word for version in own) for word in ("added", "changed", "removed")}
    names = [version.name for version in own if version.status == "changed"]
    more = f" and {len(names) - SHOWN} more" if len(names) > SHOWN else ""
    changed = ", ".join(names[:SHOWN]) + more
    what = [
        f"{number} {word}" for word, number in (("added", counts["added"]), ("removed", counts["removed"])) if number
    ]
    what += [f"changed: {changed}"] if changed else []
    body = msgspec.json.decode(entry.body, type=Body)
    currency = currency or body.estimated.currency
    told = "; ".join(what) or "files only"
    figures = (body.estimated.calls, _money_cell(body.estimated.month, body.estimated.unpriced))
    rows.append((f"@{entry.number}", entry.at, entry.who, entry.note, body.count, len(alive), told, *figures))
    return currency


def _money_cell(amount: str | None, unpriced: str) -> object:
    """An amount for a cell; what had no price is shown by a question mark."""
    if amount is None:
        return None
    return money_words(Money(Decimal(amount), tuple(unpriced.split(", ")))) if unpriced else Decimal(amount)


def flow_sheet(
    own: list[Version], snapshots: list[Entry], now: Callable[[Version], list[object]] | None = None
) -> Sheet:
    """One row a version; ``now`` says what one costs a run and a month at today's rates."""
    when = {entry.number: entry for entry in snapshots}
    rows: list[tuple[object, ...]] = []
    for version in own:
        _row_of_version(now, when, version, rows)
    currency = next((version.currency for version in own if version.currency), "")
    columns = [
        Column("version", "version", "count"),
        Column("snapshot", "snapshot"),
        Column("at", "when"),
        Column("who", "by", rank=1),
        Column("what", "what changed"),
        Column("calls", "calls per run", "number"),
        Column("run", f"{currency or 'cost'} per run", "money"),
        Column("month", "per month", "money"),
    ]
    notes = ["Calls and cost as they were estimated when the version was recorded."]
    if now is not None:
        columns += [Column("run_now", "per run, now", "money"), Column("month_now", "per month, now", "money")]
        notes.append("'now': the version at today's rates and assumptions, by itself.")
    last = own[-1]
    return Sheet(tuple(columns), tuple(rows), title=f"{last.name} ({last.id})", notes=tuple(notes))


def _row_of_version(
    now: Callable[[Version], list[object]] | None,
    when: dict[int, Entry],
    version: Version,
    rows: list[tuple[object, ...]],
) -> None:
    entry = when[version.snapshot]
    what = version.summary if version.status == "changed" else version.status
    there = version.status != "removed"
    row = [version.number, f"@{version.snapshot}", entry.at, entry.who, what]
    row += (
        [version.calls, _money_cell(version.run, version.unpriced), _money_cell(version.month, version.unpriced)]
        if there
        else ["", "", ""]
    )
    if now is not None:
        row += now(version) if there else ["", ""]
    rows.append(tuple(row))

# Old states may be let go: the bytes of snapshots that a rule does not keep are taken out. The chain stays whole, with what each
# snapshot said, and an entry of its own says what was taken out, by whom and by which rule.
"""Pruning a book by a rule."""

from __future__ import annotations

import datetime
from collections.abc import Iterable, Sequence

import msgspec
from msgspec import Struct
from sqlalchemy import delete

from zeitbuch.core.model.problems import fail

from . import tables as t
from .lines import state_name
from .notes import NOTE_KIND, about_of
from .records import Body, Entry, Period
from .reviews import reviews_of
from .store import Book, Reading, Writing

PRUNE_KIND = "prune"
_PIECE = 400


class PruneRule(Struct, frozen=True):
    """All snapshots of the last ``days`` are kept, of older ones the last of each period; always the last one, and those that somebody
    accepted."""

    days: int = 90
    then: Period = "month"

    def words(self) -> str:
        """The rule as it stands in the book."""
        older = "none" if self.then == "none" else f"one a {self.then}"
        return f"all of {self.days} days, then {older}"


class Pruned(Struct, frozen=True):
    """What a pruning takes out: snapshots by number, and how many contents with how many stored bytes."""

    snapshots: tuple[int, ...]
    contents: int = 0
    bytes: int = 0


class _PruneBody(Struct, frozen=True):
    snapshots: tuple[int, ...]
    rule: str


def pruned_of(entries: Iterable[Entry]) -> set[tuple[str, int]]:
    """The snapshots whose bytes were taken out, by line and number."""
    return {
        (entry.line, number)
        for entry in entries
        if entry.kind == PRUNE_KIND
        for number in msgspec.json.decode(entry.body, type=_PruneBody).snapshots
    }


def require_unpruned(reading: Reading, snapshot: Entry) -> None:
    """Raises ZeitbuchError for a snapshot whose bytes were taken out."""
    for entry in reading.entries(PRUNE_KIND, snapshot.line):
        if (snapshot.line, snapshot.number) in pruned_of([entry]):
            raise fail(
                "book-pruned",
                f"expected the files of snapshot {state_name(snapshot.line, snapshot.number)}, found that {entry.who} took them out on {entry.at[:10]} ({entry.note})",
                "`zeitbuch history` lists the snapshots that are kept",
            )


def snapshots_to_prune(snapshots: Sequence[Entry], accepted: set[int], rule: PruneRule, today: str) -> list[Entry]:
    """The snapshots of a line that a rule does not keep; ``today`` is a time as it stands in the book."""
    first_kept = (datetime.date.fromisoformat(today[:10]) - datetime.timedelta(days=rule.days)).isoformat()
    old = [entry for entry in snapshots[:-1] if entry.at[:10] < first_kept and entry.number not in accepted]
    if rule.then == "none":
        return old
    last_of = {_period_of(entry.at, rule.then): entry.number for entry in snapshots}
    return [entry for entry in old if last_of[_period_of(entry.at, rule.then)] != entry.number]


def _period_of(at: str, period: Period) -> str:
    if period == "week":
        year, week, _ = datetime.date.fromisoformat(at[:10]).isocalendar()
        return f"{year}-{week:02}"
    return at[: {"day": 10, "month": 7}.get(period, 4)]


def plan_pruning(book: Book, line: str, rule: PruneRule, today: str) -> Pruned:
    """What a rule would take out of a line."""
    with book.reading() as reading:
        gone = _gone_snapshots(reading, line, rule, today)
        contents = _contents_only_of(reading, line, gone)
        return Pruned(tuple(entry.number for entry in gone), len(contents), _stored_bytes(reading, contents))


def prune_book(book: Book, line: str, rule: PruneRule, today: str, who: str) -> Pruned:
    """Take out of a line what a rule does not keep, and say so in the chain."""
    with book.writing() as writing:
        gone = _gone_snapshots(writing, line, rule, today)
        if not gone:
            return Pruned(())
        contents = _contents_only_of(writing, line, gone)
        size = _stored_bytes(writing, contents)
        _pack_anew(writing, contents)
        for index in range(0, len(contents), _PIECE):
            writing.c.execute(delete(t.content).where(t.content.c.hash.in_(contents[index : index + _PIECE])))
        numbers = tuple(entry.number for entry in gone)
        body = msgspec.json.encode(_PruneBody(numbers, rule.words()), order="sorted").decode()
        head = writing.head()
        at = max(today, head.at) if head is not None else today
        writing.append_entry(PRUNE_KIND, at, who, rule.words(), body, line)
    book.release_space()
    return Pruned(numbers, len(contents), size)


def _gone_snapshots(reading: Reading, line: str, rule: PruneRule, today: str) -> list[Entry]:
    entries = reading.entries(line=line)
    done = pruned_of(entries)
    about = [about_of(entry) for entry in entries if entry.kind == NOTE_KIND]
    accepted = {one.snapshot for one in about if one.mark == "accepted"} | _signed_snapshots(reading, line)
    snapshots = [entry for entry in entries if entry.kind == "snapshot"]
    gone = snapshots_to_prune(snapshots, accepted, rule, today)
    return [entry for entry in gone if (line, entry.number) not in done]


def _signed_snapshots(reading: Reading, line: str) -> set[int]:
    """The snapshots of versions that somebody signed: what is signed can be read."""
    signed = {(one.review.flow, one.review.version) for one in reviews_of(reading.entries(line=line))}
    return {version.snapshot for version in reading.versions(line=line) if (version.flow, version.number) in signed}


def _list_of(entry: Entry) -> str:
    return msgspec.json.decode(entry.body, type=Body).files


def _contents_only_of(reading: Reading, line: str, gone: list[Entry]) -> list[str]:
    """The contents that nothing but these snapshots needs. What a flow was last is needed even where its file could not be read
    since."""
    out = {(line, entry.number) for entry in gone} | pruned_of(reading.entries())
    kept = [entry for entry in reading.snapshots(None) if (entry.line, entry.number) not in out]
    needed = {_list_of(entry) for entry in kept}
    for entry in kept:
        needed |= {file.hash for file in reading.files(entry)}
    last = {version.flow: version for version in reading.versions(line=None)}
    needed |= {version.hash for version in last.values() if version.status != "removed"}
    only: dict[str, None] = {}
    for entry in gone:
        only |= dict.fromkeys((_list_of(entry), *[file.hash for file in reading.files(entry)]))
    return [name for name in only if name not in needed]


def _stored_bytes(reading: Reading, contents: list[str]) -> int:
    total = 0
    for index in range(0, len(contents), _PIECE):
        total += sum(len(one.data) for one in reading.packed(contents[index : index + _PIECE]).values())
    return total


def _pack_anew(writing: Writing, out: list[str]) -> None:
    """Lists that differ from one that is taken out are packed by themselves, or upon one that stays."""
    gone = set(out)
    before = ""
    for entry in writing.snapshots(None):
        name = _list_of(entry)
        stored = writing.packed([name]).get(name)
        if name in gone or stored is None:
            continue
        if stored.base in gone:
            data = writing.content_of(name)
            writing.c.execute(delete(t.content).where(t.content.c.hash == name))
            writing.put_list(data, "" if name in writing.bases_of(before) else before)
        before = name

# What is wrong now and was not, and what is right again: of the flows that a comparison is about.
"""Findings that came and went between two versions."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence

from msgspec import Struct

from zeitbuch.core.checks.records import SEVERITIES, CheckFinding
from zeitbuch.core.model.words import join_words

from .finding_marks import counts_words

MOST_TOLD = 12


class FindingChanges(Struct, frozen=True):
    """Findings of the newer version that the older had not, and those of the older that are gone; the worst first. ``left_out`` are the
    checks that were not done, since the estate is too large for them."""

    new: tuple[CheckFinding, ...] = ()
    gone: tuple[CheckFinding, ...] = ()
    left_out: tuple[str, ...] = ()


def changed_findings(pairs: Iterable[tuple[Sequence[CheckFinding], Sequence[CheckFinding]]]) -> FindingChanges:
    """The changes of pairs of findings, of the older and the newer version of a flow: of each check, step and sentence as many as there
    are more. A step that has another id is known by its name."""
    new: list[CheckFinding] = []
    gone: list[CheckFinding] = []
    for old, now in pairs:
        new += _beyond(now, old)
        gone += _beyond(old, now)
    return FindingChanges(tuple(sorted(new, key=_rank)), tuple(sorted(gone, key=_rank)))


def _rank(one: CheckFinding) -> tuple[int, bool]:
    return SEVERITIES.index(one.severity), not one.certain


def _beyond(found: Sequence[CheckFinding], others: Sequence[CheckFinding]) -> list[CheckFinding]:
    had = Counter((one.code, one.step) for one in others)
    more = []
    for one in found:
        if had[one.code, one.step]:
            had[one.code, one.step] -= 1
        else:
            more.append(one)
    return more


def finding_notes(changes: FindingChanges | None) -> tuple[str, ...]:
    """Sentences for the head of a comparison: 'Findings: 2 new (1 high, 1 low), 1 gone (1 medium).' and each in a line."""
    if changes is None:
        return ()
    left = (
        [f"Not looked for, since there are too many flows: {join_words(changes.left_out)}."] if changes.left_out else []
    )
    if not (changes.new or changes.gone):
        return tuple(left)
    parts = [
        f"{len(rows)} {word} ({counts_words(rows)})"
        for word, rows in (("new", changes.new), ("gone", changes.gone))
        if rows
    ]
    lines = [f"Findings: {join_words(parts)}."]
    for sign, rows in (("+", changes.new), ("−", changes.gone)):
        lines += [f"{sign} {one.severity}: {one.flow}: {one.message} [{one.code}]" for one in rows[:MOST_TOLD]]
        if len(rows) > MOST_TOLD:
            lines.append(f"{sign} {len(rows) - MOST_TOLD} more")
    return tuple(lines + left)

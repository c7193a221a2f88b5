# What two bills of materials say otherwise, as a table that an auditor reads beside the list of what is allowed.
"""The table of two bills of materials."""

from __future__ import annotations

import re
from collections import Counter

from zeitbuch.core.diff.bill_changes import BILL_STATES, BillComparison
from zeitbuch.core.model.sheet import Column, Sheet
from zeitbuch.core.model.words import count_words

_DIGEST = re.compile(r"\b([0-9a-f]{12})[0-9a-f]{20,}\b")


def bill_sheet(found: BillComparison, full: bool = True) -> Sheet:
    """One row a part that came or went, or a fact that changed; without ``full`` of a digest its beginning."""

    def shown(text: str) -> str:
        return text if full else _DIGEST.sub(r"\1…", text)

    columns = (
        Column("state", "state"),
        Column("kind", "kind"),
        Column("part", "part", least=16),
        Column("fact", "what"),
        Column("old", "old", least=12),
        Column("new", "new", least=12),
        Column("used_by", "used by", "list", rank=1),
        Column("ref", "reference", rank=3),
    )
    rows = tuple(
        (one.state, one.kind, one.part, one.fact, shown(one.old), shown(one.new), list(one.used_by), shown(one.ref))
        for one in found.changes
    )
    return Sheet(columns, rows, notes=(bill_summary(found),))


def bill_summary(found: BillComparison) -> str:
    """'27 parts before, 29 after: 3 new, 1 changed, 1 gone.'"""
    head = f"{count_words(found.parts_old, 'part')} before, {found.parts_new:,} after: "
    refs = {(one.state, one.ref) for one in found.changes}
    counts = Counter(state for state, _ in refs)
    return head + (", ".join(f"{counts[state]} {state}" for state in BILL_STATES if counts[state]) or "nothing differs") + "."  # fmt: skip

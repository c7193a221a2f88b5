# A row without a line in the log is not told as "ran 0 times" where something says why: days that were not exported, a flow that was switched off, or
# has another name or host. Where nothing says it, that is said.
"""Why a row has nothing in the log."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from msgspec import structs

from .reasons import ReasonCode
from .records import By, Explanation, GroupGap

_OF_FLOWS: frozenset[ReasonCode] = frozenset(
    {"flow-silent", "flow-stopped", "flow-began", "flow-paused", "renamed", "weekdays-quiet"}
)
UNKNOWN, FEW = "nothing says why", "few were estimated"
_FEW = 12.0  # calls: fewer may be none by chance


def with_zero_reasons(gaps: Iterable[GroupGap], by: By, explained: Sequence[Explanation]) -> tuple[GroupGap, ...]:
    """The rows; of flows and days with nothing in the log, where something was estimated, with the reason: its code, and from when to when."""
    if by not in ("flow", "day"):
        return tuple(gaps)
    return tuple([structs.replace(gap, zero=_reason(gap, by, explained)) if _is_zero(gap) else gap for gap in gaps])


def _is_zero(gap: GroupGap) -> bool:
    return gap.logged_calls == 0 and not gap.logged_cost and bool(gap.estimated_calls or gap.estimated_cost)


def _reason(gap: GroupGap, by: By, explained: Sequence[Explanation]) -> str:
    if by == "day":
        fitting = [
            one for one in explained if one.code == "days-missing" and one.first_day <= gap.subject <= one.last_day
        ]
    else:
        fitting = [
            one for one in explained if one.code in _OF_FLOWS and gap.name in (one.subject, one.subject.strip("‘’"))
        ]
    if not fitting:
        return FEW if gap.estimated_calls is not None and gap.estimated_calls < _FEW else UNKNOWN
    most = max(fitting, key=lambda one: one.days)
    return f"{most.code}, {most.first_day} to {most.last_day}"

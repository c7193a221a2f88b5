# What lines that are still to come, and the rest of a day within which the log ends, take off each flow is told once for all of them.
"""Money of days that the log has a part of."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import date
from decimal import Decimal

from .flow_cases import ZERO, FlowCase
from .part_days import WHOLE_DAY, PartDay
from .reasons import ReasonCode
from .records import Explanation

PART_DAY_CODES: frozenset[ReasonCode] = frozenset({"lines-late", "day-cut"})
_SMALL = Decimal("0.000001")


def explain_missing_runs(case: FlowCase, days: Sequence[date]) -> Iterator[Explanation]:
    """Runs of a flow that the log does not have yet, or as it begins or ends within a day, at what a run was estimated to cost."""
    codes: tuple[ReasonCode, ReasonCode] = ("lines-late", "day-cut")
    for place, code in enumerate(codes):
        some = [day for day in days if case.missing_on(day)[place]]
        money = -sum((case.cost_of(case.missing_on(day)[place], day) for day in some), ZERO)
        if abs(money) > _SMALL:
            yield Explanation(code, case.name, "", str(min(some)), str(max(some)), len(some), money, False)


def tell_together(explained: Iterable[Explanation], parts: Sequence[PartDay]) -> Iterator[Explanation]:
    """The explanations, those of days that the log has a part of put together."""
    apart: dict[ReasonCode, list[Explanation]] = {}
    for one in explained:
        if one.code in PART_DAY_CODES:
            apart.setdefault(one.code, []).append(one)
        else:
            yield one
    for code, some in apart.items():
        first, last = min(one.first_day for one in some), max(one.last_day for one in some)
        held = [
            one for one in parts if first <= one.day <= last and (one.arrived < 1 if code == "lines-late" else one.cut)
        ]
        subject = some[0].subject if len(some) == 1 else "all flows"
        money = sum((one.money for one in some if one.money is not None), ZERO)
        words = late_words(held) if code == "lines-late" else cut_words(held)
        yield Explanation(code, subject, words, first, last, len({one.day for one in held}), money, False)


def part_day_words(parts: Sequence[PartDay]) -> Iterator[str]:
    """What there is to say of days that a log has a part of."""
    if late := [one for one in parts if one.arrived < 1]:
        yield late_words(late)
    if cut := [one for one in parts if one.cut]:
        yield cut_words(cut)


def late_words(parts: Sequence[PartDay]) -> str:
    """'12% of the lines of 2026-11-30 had not arrived yet ...'."""
    missing = {one.day: 1 - one.arrived for one in parts}
    most = max(missing, key=lambda day: missing[day])
    less = f", {missing[min(missing)]:.0%} of those of {min(missing)}" if len(missing) > 1 else ""
    return (
        f"{missing[most]:.0%} of the lines of {most}{less} had not arrived yet, if they are as late as the others were"
    )


def cut_words(parts: Sequence[PartDay]) -> str:
    """'the log ends on 2026-11-30 at 14:03 ...'."""
    told = [f"begins on {one.day} at {_clock(one.begins)}" for one in parts if one.begins > 0]
    told += [f"ends on {one.day} at {_clock(one.ends)}" for one in parts if one.ends < WHOLE_DAY]
    return f"the log {' and '.join(dict.fromkeys(told))}: the rest of the day is not in it"


def _clock(seconds: float) -> str:
    minutes = int(seconds) // 60
    return f"{minutes // 60:02}:{minutes % 60:02}"

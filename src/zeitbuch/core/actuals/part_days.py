# The last days of a log are often not whole: some lines arrive late, and the export was made in the middle of a day. Which part of such a day
# is there, the log's other days tell; nothing of it is taken for fewer runs.
"""Days that a log has a part of."""

from __future__ import annotations

from bisect import bisect_right
from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import date, datetime, timedelta
from typing import Any, NamedTuple

from msgspec import Struct

from .grouping import UsageSum

FEWEST_MISSING = 12.0  # lines: that none of so many came is no chance (one in 160,000)
_LEAST_LATE = 0.02  # of a day's lines that are still to come: less is not told
_MOST_LATE = 366  # days: what is later is a wrong clock
_FEWEST_LINES = 100  # by which the lateness of lines is known
_FEWEST_DAYS = 7  # beside the one that is cut
_NEARLY_ALL = 0.9
WHOLE_DAY, _HOUR = 86400.0, 3600.0  # seconds


class PartDay(Struct, frozen=True):
    """A day that a log has a part of: the share of its lines that had ``arrived`` when the log was written, and between which seconds after
    midnight it has lines at all (``begins``, ``ends``)."""

    day: str
    arrived: float = 1.0
    begins: float = 0.0
    ends: float = WHOLE_DAY

    @property
    def cut(self) -> bool:
        """Whether the log begins or ends within it."""
        return self.begins > 0 or self.ends < WHOLE_DAY

    def share_in(self, hours: Mapping[int, int]) -> float:
        """The share of lines, of so many in each hour of the day, that fall into the part that is there."""
        total = sum(hours.values())
        if not total or not self.cut:
            return 1.0
        return sum(lines * _part_of_hour(hour, self.begins, self.ends) for hour, lines in hours.items()) / total


def _part_of_hour(hour: int, begins: float, ends: float) -> float:
    first, after = max(begins, hour * _HOUR), min(ends, (hour + 1) * _HOUR)
    return max(0.0, after - first) / _HOUR


def arrivals_of_usage(records: Any) -> Any:
    """The expression that counts lines by day and by the days until they arrived (``lag``)."""
    known = records.filter(
        ~records["passed"] & ~records["doubled"] & records["day"].notnull() & records["arrived"].notnull()
    )
    lag = known["arrived"].date().delta(known["day"], unit="day")
    return known.group_by(["day", lag.name("lag")]).aggregate(lines=known.count())


def clocks_of_usage(records: Any) -> Any:
    """The expression for the first and last clock time of each day."""
    timed = records.filter(~records["passed"] & ~records["doubled"] & records["time"].notnull())
    return timed.group_by("day").aggregate(first=timed["time"].min(), last=timed["time"].max())


def part_days(
    arrivals: Sequence[Mapping[str, Any]],
    clocks: Sequence[Mapping[str, Any]],
    sums: Sequence[UsageSum],
    hours: Mapping[tuple[str, int], int],
) -> list[PartDay]:
    """The days that are not whole, from the rows of both expressions, the sums of the log and its lines by (flow, hour of the day)."""
    lags = [(date.fromisoformat(str(row["day"])[:10]), max(0, int(row["lag"])), int(row["lines"])) for row in arrivals]
    late = late_shares([row for row in lags if row[1] <= _MOST_LATE])
    by_hour: Counter[int] = Counter()
    for (_, hour), lines in hours.items():
        by_hour[hour] += lines
    seconds = {
        str(row["day"])[:10]: (_seconds(row["first"]), _seconds(row["last"]))
        for row in clocks
        if row["day"] is not None
    }
    cut = cut_days(seconds, _lines_by_day(sums), by_hour)
    days = sorted({*(str(day) for day in late), *cut})
    return [PartDay(day, late.get(date.fromisoformat(day), 1.0), *cut.get(day, (0.0, WHOLE_DAY))) for day in days]


def _seconds(moment: datetime) -> float:
    return moment.hour * _HOUR + moment.minute * 60.0 + moment.second


def _lines_by_day(sums: Sequence[UsageSum]) -> dict[str, int]:
    found: Counter[str] = Counter()
    for one in sums:
        if one.day is not None and not one.passed and not one.doubled:
            found[one.day] += one.lines
    return dict(found)


def late_shares(rows: Sequence[tuple[date, int, int]]) -> dict[date, float]:
    """The share of each of the last days' lines that had arrived, from (day, days until they arrived, lines), where it is so small that
    it is told.

    Lags of late days are cut off by the end of the log; the distribution is that of lags cut off at the right: in reversed time the
    product-limit estimate, F(k) = product over j > k of (1 - n_j / N_j), n_j the lines with lag j, N_j those with a lag of j at most on days so
    old that a lag of j would have been seen (Lynden-Bell 1971; Lagakos, Barraj and De Gruttola, Biometrika 75, 1988).
    """
    if sum(lines for *_, lines in rows) < _FEWEST_LINES:
        return {}
    end = max(day + timedelta(lag) for day, lag, _ in rows)
    arrived: dict[int, float] = {}
    share = 1.0
    for lag in range(max(lag for _, lag, _ in rows), -1, -1):
        arrived[lag] = share
        seen = [(own, lines) for day, own, lines in rows if own <= lag and (end - day).days >= lag]
        at_risk = sum(lines for _, lines in seen)
        if at_risk:
            share *= 1 - sum(lines for own, lines in seen if own == lag) / at_risk
    days = {day for day, *_ in rows}
    found = {day: arrived.get((end - day).days, 1.0) for day in days}
    return {day: part for day, part in found.items() if part <= 1 - _LEAST_LATE}


def cut_days(
    clocks: Mapping[str, tuple[float, float]], lines: Mapping[str, int], by_hour: Mapping[int, int]
) -> dict[str, tuple[float, float]]:
    """The first and the last day of a log, where it begins or ends within them: day -> seconds after midnight between which it has lines.
    It begins later or ends earlier than on nearly all other days, by more than these differ, and many lines are awaited in the rest."""
    days = sorted(clocks)
    if len(days) <= _FEWEST_DAYS or not by_hour:
        return {}
    found: dict[str, tuple[float, float]] = {}
    begins, ends = [clocks[day][0] for day in days[1:]], [-clocks[day][1] for day in days[:-1]]
    spans = (
        (days[0], clocks[days[0]][0], begins, (clocks[days[0]][0], WHOLE_DAY)),
        (days[-1], -clocks[days[-1]][1], ends, (0.0, clocks[days[-1]][1] + 1)),
    )
    for day, at, others, span in spans:
        missing = 1.0 - PartDay(day, 1.0, *span).share_in(by_hour)
        if _is_beyond(at, others) and missing * _usual_lines(day, days, lines) >= FEWEST_MISSING:
            found[day] = span
    return found


def _is_beyond(value: float, others: Sequence[float]) -> bool:
    """Whether a value is over nearly all others by more than these differ."""
    ordered = sorted(others)
    most = ordered[int(_NEARLY_ALL * (len(ordered) - 1))]
    return value - most > most - ordered[0]


def _usual_lines(day: str, days: Sequence[str], lines: Mapping[str, int]) -> float:
    """Lines of other days of the same weekday; of all others where there are few."""
    weekday = date.fromisoformat(day).weekday()
    others = [lines.get(one, 0) for one in days if one != day]
    alike = [lines.get(one, 0) for one in days if one != day and date.fromisoformat(one).weekday() == weekday]
    held = sorted(alike if len(alike) > 1 else others)
    return float(held[len(held) // 2]) if held else 0.0


class DayShare(NamedTuple):
    """Of a flow's lines of a day: the share that had arrived, and the share that falls into the part of the day that is there."""

    arrived: float
    within: float

    @property
    def whole(self) -> float:
        """The share that is there."""
        return self.arrived * self.within


def shares_of_flow(
    logs: Mapping[date, int], parts: Sequence[Sequence[PartDay]], hours: Sequence[Mapping[int, int]]
) -> dict[date, DayShare]:
    """The days that are not whole for a flow. ``logs`` says in which log it has lines on each day; ``parts`` are the days that each log has a part
    of, ``hours`` its lines of the flow by hour of the day."""
    days = sorted(logs)
    found: dict[date, DayShare] = {}
    for number, (of_log, by_hour) in enumerate(zip(parts, hours, strict=True)):
        for one in of_log:
            day = date.fromisoformat(one.day)
            share = DayShare(one.arrived, one.share_in(by_hour))
            if days and share.whole < 1 and logs[days[max(0, bisect_right(days, day) - 1)]] == number:
                found[day] = share
    return found

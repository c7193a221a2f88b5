# Where things happened, and at what hour: a flow that moved to another host, and clock times that are whole hours off.
"""Hosts and clock times of the log."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence
from datetime import date
from itertools import pairwise

from zeitbuch.core.model.records import Flow
from zeitbuch.core.model.words import count_words, join_words

from .flow_cases import FlowCase
from .records import Explanation

MOSTLY = 0.8  # share of the lines of a flow that has to be as many hours off
FEWEST_LINES = 10
_NAMED = 3


def explain_hosts(cases: Sequence[FlowCase]) -> Iterator[Explanation]:
    """Flows that ran on one host until a day, and on another from then on; those that moved alike together."""
    moved: dict[tuple[str, str, date], list[FlowCase]] = defaultdict(list)
    for case in cases:
        for found in _moves_of(case):
            moved[found].append(case)
    for (before, after, day), flows in moved.items():
        last = max(max(case.lines) for case in flows)
        named = join_words([f"‘{case.name}’" for case in flows[:_NAMED]])
        more = f" and {len(flows) - _NAMED} more" if len(flows) > _NAMED else ""
        words = f"{named}{more}: on {after or 'no host'} from {day} on, before that on {before or 'no host'}"
        subject = flows[0].name if len(flows) == 1 else count_words(len(flows), "flow")
        yield Explanation("host-switched", subject, words, str(day), str(last), (last - day).days + 1, None)


def _moves_of(case: FlowCase) -> Iterator[tuple[str, str, date]]:
    """(host before, host after, first day on it) where one host ends before the next begins."""
    days: dict[str, list[date]] = defaultdict(list)
    for day, lines in case.lines.items():
        for host in {one.sum.host for one in lines}:
            days[host].append(day)
    order = sorted(days, key=lambda host: min(days[host]))
    for before, after in pairwise(order):
        if max(days[before]) <= min(days[after]):
            yield before, after, min(days[after])


def explain_hours(cases: Sequence[FlowCase], hours: Mapping[str, Counter[int]]) -> Iterator[Explanation]:
    """Whole hours by which the flows of the log run beside their schedules; ``hours``: flow -> hour of the day -> lines."""
    off: Counter[int] = Counter()
    held: dict[int, list[FlowCase]] = defaultdict(list)
    for case in cases:
        planned, counted = _hour_of(case.flow), hours.get(case.id, Counter())
        if planned is None or counted.total() < FEWEST_LINES:
            continue
        by_shift = Counter({(hour - planned + 12) % 24 - 12: 0 for hour in counted})
        for hour, lines in counted.items():
            by_shift[(hour - planned + 12) % 24 - 12] += lines
        shift, lines = by_shift.most_common(1)[0]
        if lines >= MOSTLY * counted.total():
            off[shift] += 1
            held[shift].append(case)
    if not off:
        return
    shift, flows = off.most_common(1)[0]
    if shift and flows > off.total() / 2:
        lines_of = [day for case in held[shift] for day in case.lines]
        way = "later" if shift > 0 else "earlier"
        words = f"{count_words(flows, 'flow')} with a clock of its own run {count_words(abs(shift), 'hour')} {way} than planned: another zone than the mapping says?"
        yield Explanation(
            "clock-off",
            held[shift][0].name if flows == 1 else "all flows",
            words,
            str(min(lines_of)),
            str(max(lines_of)),
            len(set(lines_of)),
            None,
            False,
        )


def _hour_of(flow: Flow) -> int | None:
    """The hour at which a flow runs by cron, where it has one hour only and nothing else starts it."""
    active = [trigger for trigger in flow.triggers if trigger.enabled]
    if len(active) != 1 or active[0].kind != "schedule" or active[0].schedule is None or not active[0].schedule.cron:
        return None
    fields = active[0].schedule.cron.split()[-5:]
    return int(fields[1]) if len(fields) == 5 and fields[1].isdigit() else None

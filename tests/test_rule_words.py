"""Recurrence rules in words: what is said, what stays as it is written, and that words never say more than the rule."""

from __future__ import annotations

import datetime
import random

import pytest
from dateutil.rrule import rrulestr

from conftest import draws
from zeitbuch.core.model.records import Schedule
from zeitbuch.core.model.rule_words import rule_words
from zeitbuch.core.model.words import schedule_words

SAID = {
    "FREQ=MONTHLY;BYDAY=1MO": "on the first Monday of the month",
    "FREQ=MONTHLY;BYDAY=-1FR;BYHOUR=18;BYMINUTE=30;BYSECOND=0": "on the last Friday of the month at 18:30",
    "FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1": "on the last working day of the month",
    "FREQ=WEEKLY;BYDAY=MO,WE;BYHOUR=8;BYMINUTE=0": "every Monday and Wednesday at 08:00",
    "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR;BYHOUR=8,12;BYMINUTE=0": "every Monday to Friday at 08:00 and 12:00",
    "FREQ=WEEKLY;INTERVAL=2;BYDAY=TU": "every 2 weeks on Tuesday",
    "RRULE:FREQ=DAILY;BYHOUR=8;BYMINUTE=0": "daily at 08:00",
    "FREQ=DAILY;BYHOUR=8": "daily in the hour from 08:00",
    "FREQ=DAILY;INTERVAL=3;COUNT=5": "every 3 days, 5 times in all",
    "FREQ=HOURLY;INTERVAL=6": "every 6 hours",
    "FREQ=MINUTELY;INTERVAL=15": "every 15 minutes",
    "FREQ=MONTHLY;BYMONTHDAY=1,15;BYHOUR=6;BYMINUTE=0": "on the 1st and 15th of the month at 06:00",
    "FREQ=MONTHLY;BYMONTHDAY=-1;UNTIL=20271231T000000Z": "on the last day of the month, until 2027-12-31",
    "FREQ=YEARLY;BYMONTH=3,9;BYMONTHDAY=1": "on the 1st of March and September",
    "FREQ=YEARLY;BYMONTH=11;BYDAY=-1TH": "on the last Thursday of November",
}


@pytest.mark.parametrize("rule", list(SAID))
def test_rules_are_said(rule: str) -> None:
    assert rule_words(rule) == SAID[rule]
    assert schedule_words(Schedule(rule=rule, zone="Europe/Oslo")) == f"{SAID[rule]} (Europe/Oslo)"


@pytest.mark.parametrize("rule", [
    "FREQ=YEARLY;BYWEEKNO=20", "FREQ=YEARLY;BYYEARDAY=100", "FREQ=WEEKLY;INTERVAL=2;WKST=SU;BYDAY=MO", "FREQ=MONTHLY;BYDAY=1MO;BYMONTHDAY=3",
    "DTSTART:20260101T080000Z\nRRULE:FREQ=DAILY", "FREQ=DAILY;BYSECOND=30", "FREQ=DAILY;BYMINUTE=5", "FREQ=SOMETIMES", "nonsense", "", "FREQ=MONTHLY;BYDAY=7MO",
    "FREQ=WEEKLY;BYDAY=1MO", "FREQ=YEARLY;BYDAY=1MO", "FREQ=MONTHLY;BYDAY=MO,TU;BYSETPOS=1", "FREQ=DAILY;BYHOUR=25;BYMINUTE=0", "FREQ=MONTHLY;BYMONTHDAY=0",
])  # fmt: skip
def test_what_has_no_plain_wording_stays_as_it_is_written(rule: str) -> None:
    assert rule_words(rule) is None
    assert schedule_words(Schedule(rule=rule)).startswith("by the rule")


def drawn_rule(draw: random.Random) -> str:
    parts = {"FREQ": draw.choice(["DAILY", "WEEKLY", "MONTHLY", "YEARLY", "HOURLY"])}
    days = ["MO", "TU", "WE", "TH", "FR", "SA", "SU"]
    options = {
        "INTERVAL": lambda: str(draw.randint(1, 3)),
        "BYDAY": lambda: ",".join(draw.choice(["", "", "1", "-1", "2"]) + day for day in draw.sample(days, draw.randint(1, 3))),
        "BYMONTHDAY": lambda: ",".join(str(draw.choice([1, 2, 15, 31, -1, -2])) for _ in range(draw.randint(1, 2))),
        "BYMONTH": lambda: ",".join(str(draw.randint(1, 12)) for _ in range(draw.randint(1, 2))),
        "BYHOUR": lambda: ",".join(str(draw.randint(0, 23)) for _ in range(draw.randint(1, 2))),
        "BYMINUTE": lambda: str(draw.choice([0, 30])),
        "BYSETPOS": lambda: str(draw.choice([1, -1])),
    }  # fmt: skip
    parts |= {key: make() for key, make in options.items() if draw.random() < 0.35}
    return ";".join(f"{key}={value}" for key, value in parts.items())


def test_two_rules_of_the_same_words_fire_at_the_same_times() -> None:
    draw = random.Random(7)
    begin = datetime.datetime(2026, 1, 7, 9, 0)  # no first of a month, no Monday
    end = datetime.datetime(2027, 3, 1)
    by_words: dict[str, tuple[str, list[datetime.datetime]]] = {}
    said = 0
    for _ in range(draws(1200, 4000)):
        rule = drawn_rule(draw)
        words = rule_words(rule)
        if words is None:
            continue
        said += 1
        if "in the hour from" in words:
            continue  # the minute is that of its beginning
        times = rrulestr(rule, dtstart=begin).between(begin, end, inc=True)
        other, expected = by_words.setdefault(words, (rule, times))
        assert times == expected, (words, rule, other)
    assert said > draws(300, 1000)

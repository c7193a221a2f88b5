"""Schedules as people say them, and as numbers for hours and weekdays: read where everything is known, and nothing else."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Run
from scores import proposed, read_with
from zeitbuch.core.model.records import Schedule
from zeitbuch.readers.dialects.rules import parse_dialect
from zeitbuch.readers.infer.questions import apply_answers
from zeitbuch.readers.input.clock_words import cron_text, schedule_of_words

CRONS = {
    "every day at 06:30": "30 6 * * *",
    "Daily at 7am": "0 7 * * *",
    "at 6:30 pm every day": "30 18 * * *",
    "every weekday at 8:40 am": "40 8 * * 1,2,3,4,5",
    "Mon-Fri 07:15": "15 7 * * 1,2,3,4,5",
    "Friday to Monday at 10.00": "0 10 * * 0,1,5,6",
    "Mon, Wed and Fri at 18:45": "45 18 * * 1,3,5",
    "weekly on Tuesday at noon": "0 12 * * 2",
    "weekends at midnight": "0 0 * * 0,6",
    "on Mondays at 08:00 and 16:00": "0 8,16 * * 1",
    "on the 1st and 15th of every month at 12:00": "0 12 1,15 * *",
    "every month on day 5 at 09:00": "0 9 5 * *",
    "täglich um 7 Uhr": "0 7 * * *",
    "jeden Montag um 08:30": "30 8 * * 1",
    "chaque lundi à 8h30": "30 8 * * 1",
    "todos os dias às 9:00": "0 9 * * *",
    "ogni giorno alle 9:00": "0 9 * * *",
    "hver mandag kl 07.30": "30 7 * * 1",
    "elke dag om 07:00": "0 7 * * *",
}
SPANS = {
    "every 15 minutes": 900, "every 5 mins": 300, "every 30 seconds": 30, "every minute": 60, "hourly": 3600, "every 2 hours": 7200,
    "daily": 86400, "weekly": 604800, "every 1 day": 86400, "alle 2 Stunden": 7200, "toutes les 10 minutes": 600, "cada hora": 3600,
    "hver time": 3600,
}  # fmt: skip
UNKNOWN = (
    "", "every", "Monday", "so", "mar", "at 06:30", "15 minutes", "monthly", "every other Monday at 08:00", "every 2 days at 07:00",
    "every monday at 08:00 and 16:30", "every weekday 8:00 and weekends 10:00", "daily at 25:00", "on the 32nd of every month at 9:00",
    "every time", "each time", "every 3 times",
    "every hour at 10:00", "every 0 minutes", "every morning", "daily report", "0 6 * * *", "0 6 * * MON-FRI", "every Monday to", "R/PT15M",
    "every day at 13 pm", "every 5", "5 every day", "every 15 minutes on Monday", "daily weekly", "2026-11-03", "every " * 30,
    "every day at 06:00 Europe/Oslo or Europe/Paris",
)  # fmt: skip


@pytest.mark.parametrize(("text", "cron"), CRONS.items())
def test_times_of_days_are_cron(text: str, cron: str) -> None:
    assert schedule_of_words(text, "Europe/Oslo") == Schedule(cron=cron, zone="Europe/Oslo")


@pytest.mark.parametrize(("text", "seconds"), SPANS.items())
def test_lengths_of_time_come_again(text: str, seconds: float) -> None:
    said = schedule_of_words(text)
    assert said is not None and said.every == seconds and said.cron is None


@pytest.mark.parametrize("text", UNKNOWN)
def test_of_what_is_not_known_nothing_is_read(text: str) -> None:
    assert schedule_of_words(text) is None


def test_a_zone_among_the_words_counts_first() -> None:
    for text, zone in (("every day at 9:00 (America/New_York)", "America/New_York"), ("every day at 9:00 utc", "UTC")):
        assert schedule_of_words(text, "Europe/Oslo") == Schedule(cron="0 9 * * *", zone=zone)


def test_days_without_a_time_are_a_rule() -> None:
    assert schedule_of_words("every Monday") == Schedule(rule="FREQ=WEEKLY;BYDAY=MO")
    assert schedule_of_words("on the 5th of each month") == Schedule(rule="FREQ=MONTHLY;BYMONTHDAY=5")


@given(st.text(max_size=60))
def test_any_text_is_read_or_not(text: str) -> None:
    said = schedule_of_words(text)
    assert said is None or said.cron or said.every or said.rule


@given(st.lists(st.sampled_from(range(7)), min_size=1, unique=True), st.integers(0, 23), st.integers(0, 59))
def test_days_and_a_time_in_any_order(days: list[int], hour: int, minute: int) -> None:
    names = "Sunday Monday Tuesday Wednesday Thursday Friday Saturday".split()
    listed, time = ", ".join(names[day] for day in days), f"{hour:02}:{minute:02}"
    wanted = cron_text([(hour, minute)], days, [])
    for text in (f"{listed} at {time}", f"at {time} on {listed}", f"every {listed} {time}"):
        said = schedule_of_words(text)
        assert said is not None and said.cron == wanted


def export(at: int, when: str, key: str = "when") -> dict[str, object]:
    return {
        "title": f"Quay {at}", "start": {"kind": "timer", key: when},
        "acts": [
            {"name": "rows", "kind": "table.read", "table": "berths"},
            {"name": "tell", "kind": "mail.send", "to": "crew@ferry.example", "text": "Berths: <%rows.all%>"},
        ],
    }  # fmt: skip


def test_clocks_in_words_are_proposed_and_read() -> None:
    whens = (
        "every weekday at 06:30",
        "every 15 minutes",
        "on Mondays at 9am",
        "jeden Freitag um 16:00",
        "every other Friday at noon",
    )
    made, flows = proposed([export(at, when) for at, when in enumerate(whens)])
    (rule,) = [one for one in made.dialect.kind if one.trigger is not None]
    assert rule.trigger == "schedule" and rule.cron == "when"
    clocks = [flow.triggers[0].schedule for flow in flows]
    assert [(clock.cron, clock.every) for clock in clocks if clock] == [
        ("30 6 * * 1,2,3,4,5", None), (None, 900.0), ("0 9 * * 1", None), ("0 16 * * 5", None),
        ("every other Friday at noon", None),
    ]  # fmt: skip


def test_a_word_for_what_a_step_does_is_no_clock() -> None:
    made, _ = proposed([export(at, "daily", key="deed") for at in range(5)])
    assert not any(rule.cron for rule in made.dialect.kind)
    made, _ = proposed([export(at, ("daily", "hourly")[at % 2], key="frequency") for at in range(5)])
    assert [rule.cron for rule in made.dialect.kind if rule.trigger] == ["frequency"]


HOURS = """
dialect = 1
name = "jetty"
signature = { all = ["$.steps"] }
flow = { id = "id" }
step = { at = "$.steps[*]", id = "id", operation = "does" }
kind = [{ operation = "tick", trigger = "schedule", hour = "at.hh", minute = "at.mm", days = "on", weekdays = { "1" = "mon", "3" = "wed" } }]
"""


@pytest.mark.parametrize(
    ("at", "on", "cron"),
    [
        ({"hh": 7, "mm": 5}, [1, 3], "5 7 * * 1,3"), ({"hh": [7, 19]}, None, "0 7,19 * * *"), ({"hh": "7", "mm": "30"}, "1", "30 7 * * 1"),
        ({"hh": 25}, None, None), ({"mm": 4}, None, None), ({"hh": 7, "mm": 60}, None, None), ({"hh": 7}, [2], None),
    ],
)  # fmt: skip
def test_hours_and_minutes_are_times(at: dict[str, object], on: object, cron: str | None) -> None:
    step = {"id": "a", "does": "tick", "at": at, **({"on": on} if on else {})}
    (flow,) = read_with(parse_dialect(HOURS, "jetty.toml"), [{"id": "f", "steps": [step]}])
    (trigger,) = flow.triggers
    assert (trigger.schedule.cron if trigger.schedule else None) == cron and bool(trigger.unread) == (cron is None)


def calendar(at: int, days: object, key: str = "weekdays") -> dict[str, object]:
    """The same steps in each flow; what starts it differs."""
    return {
        "title": f"Quay {at}",
        "starts": [{"type": "calendar", "spec": {key: days, "hour": 7, "minute": at * 5, "tz": "Europe/Oslo"}}],
        "jobs": [{"id": "a", "type": "db.query", "table": "berths", "next": "b"}, {"id": "b", "type": "mail.send", "to": "crew@ferry.example"}],
    }  # fmt: skip


def test_numbers_of_weekdays_are_asked_about() -> None:
    documents = [calendar(at, [1, 3] if at else [0, 3]) for at in range(6)]
    made, flows = proposed(documents)
    assert made.dialect.step.at == "$.jobs[*]" and flows[0].triggers[0].schedule is None
    (asked,) = [one for one in made.questions if one.id == "weekdays calendar"]
    assert [answer.word for answer in asked.answers] == ["monday 1", "monday 0"]  # with 0 among them Sunday is not 1
    for word, days in (("monday 1", "0,3"), ("monday 0", "1,4")):
        dialect = apply_answers(made.dialect, made.questions, {asked.id: word})
        (first, *_) = read_with(dialect, [calendar(0, [0, 3])])
        assert first.triggers[0].schedule == Schedule(cron=f"0 7 * * {days}", zone="Europe/Oslo")


def test_words_for_weekdays_and_an_hour_need_no_answer() -> None:
    made, flows = proposed([calendar(at, ["mon", "fri"]) for at in range(6)])
    assert not [one for one in made.questions if one.id.startswith("weekdays")]
    assert flows[1].triggers[0].schedule == Schedule(cron="5 7 * * 1,5", zone="Europe/Oslo")


def test_hours_without_more_are_a_length_of_time() -> None:
    made, _ = proposed([export(at, "") | {"start": {"kind": "timer", "hours": 2}} for at in range(5)])
    (rule,) = [one for one in made.dialect.kind if one.trigger is not None]
    assert (rule.every, rule.every_unit, rule.hour) == ("hours", "hours", "")


def test_an_hour_of_an_interval_is_no_time_of_the_day() -> None:
    made, _ = proposed(
        [export(at, "") | {"start": {"kind": "timer", "interval": {"hour": 1, "minute": 30}}} for at in range(5)]
    )
    assert not any(rule.hour for rule in made.dialect.kind)


def test_words_that_are_not_known_are_told_with_their_place(tmp_path: Path, run: Run) -> None:
    (tmp_path / "x").mkdir()
    for at, when in enumerate(("every weekday at 06:30", "every 15 minutes", "every other Friday at noon")):
        (tmp_path / "x" / f"{at}.json").write_text(json.dumps(export(at, when)))
    run("dialect", "suggest", "x", "--name", "quay", "-o", "d.toml")
    made = run("estimate", "x", "--dialect", "d.toml", "--month", "2026-11")
    assert "found 'every other Friday at noon'" in made.err and "x/2.json" in made.err
    assert "no volume is known for Quay 2" in made.out
    told = run("inventory", "x", "--dialect", "d.toml").out
    assert "on weekdays at 06:30" in told and "every 15 minutes" in told
    assert "zone-missing" not in "".join(
        line for line in run("check", "x", "--dialect", "d.toml").out.splitlines() if "Quay 2" in line
    )

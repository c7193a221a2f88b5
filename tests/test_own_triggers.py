"""Flows that say themselves when they start: in a field beside their name, in a list of texts, in several clocks; read and proposed."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from conftest import Run
from scores import proposed, read_with
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Flow
from zeitbuch.readers.dialects.rules import parse_dialect

HEAD = """
dialect = 1
name = "own"
signature = { all = ["$.acts"] }
flow = { id = "key", name = "title" }
step = { at = "$.acts[*]", operation = "does", id = "key", settings = "with" }
predecessors = { at = "after" }
"""
CLOCK = '[trigger]\nat = "$"\noperation = ""\n[[kind]]\noperation = ""\ntrigger = "schedule"\ncron = "plan.at"\nzone = "plan.zone"\n'
STEPS = [
    {"key": "a", "does": "http", "with": {"url": "https://tide.example"}},
    {"key": "b", "does": "mail", "with": {"to": "quay@ferry.example"}, "after": "a"},
]


def read(rules: str, **flow: Any) -> Flow:
    document = {"key": "f", "title": "Desk", "acts": STEPS, **flow}
    return read_with(parse_dialect(HEAD + rules, "own.toml"), [json.loads(json.dumps(document))])[0]


def clocks(flow: Flow) -> list[str]:
    return [trigger.schedule.cron or "" if trigger.schedule else "" for trigger in flow.triggers]


def test_a_flow_is_its_own_trigger() -> None:
    flow = read(CLOCK, plan={"at": "5 6 * * 1-5", "zone": "Europe/Oslo", "more": 1}, other="x")
    (trigger,) = flow.triggers
    assert (trigger.id, trigger.kind, trigger.schedule and trigger.schedule.zone) == (
        "start",
        "schedule",
        "Europe/Oslo",
    )
    assert (flow.unread, trigger.unread) == ({"plan": {"more": 1}, "other": "x"}, {})
    assert flow.content.unread == 2
    assert ("start", "a") in [(link.source, link.target) for link in flow.links]


@pytest.mark.parametrize("plan", [None, {}, {"at": ""}, {"at": None, "more": 1}])
def test_a_flow_without_the_fields_of_a_trigger_has_none(plan: Any) -> None:
    assert read(CLOCK, plan=plan).triggers == ()


def test_a_word_of_the_flow_says_what_starts_it() -> None:
    rules = '[trigger]\nat = "$"\noperation = "start"\n[[kind]]\noperation = "hook"\ntrigger = "webhook"\n'
    assert [trigger.kind for trigger in read(rules, start="hook").triggers] == ["webhook"]
    assert read(rules).triggers == ()


def test_all_of_a_flow_is_no_setting_of_its_trigger() -> None:
    with pytest.raises(ZeitbuchError, match=r"`trigger.settings` to name what the trigger takes in"):
        parse_dialect(HEAD + CLOCK.replace('at = "$"', 'at = "$"\nsettings = "."'), "own.toml")


PLAIN = '[trigger]\nat = "$.at[*]"\noperation = ""\n[[kind]]\noperation = ""\ntrigger = "schedule"\ncron = "."\n'


@pytest.mark.parametrize(
    ("rules", "at", "wanted"),
    [
        (PLAIN, ["0 6 * * *", "", None, "0 18 * * *"], ["0 6 * * *", "0 18 * * *"]),
        (PLAIN.replace("at[*]", "at"), ["0 6 * * *", "0 18 * * *"], ["0 6 * * *", "0 18 * * *"]),
        (PLAIN.replace("at[*]", "at"), "0 6 * * *", ["0 6 * * *"]),
        (CLOCK, ["0 6 * * *", "0 18 * * *"], []),
        (CLOCK.replace("plan.at", "at"), ["0 6 * * *", "every day at 18:00"], ["0 6 * * *", "0 18 * * *"]),
    ],
)  # fmt: skip
def test_each_of_several_clocks_starts_the_flow(rules: str, at: Any, wanted: list[str]) -> None:
    flow = read(rules, at=at)
    assert clocks(flow) == wanted
    assert len({trigger.id for trigger in flow.triggers}) == len(wanted)
    assert {link.source for link in flow.links if link.target == "a"} == {trigger.id for trigger in flow.triggers}
    assert flow.content.unread == (len(at) if not wanted else 0)


def test_clocks_of_one_trigger_have_zones_of_their_own() -> None:
    rules = '[trigger]\nat = "$.on"\nid = "id"\noperation = ""\n[[kind]]\noperation = ""\ntrigger = "schedule"\ncron = "when.*.cron"\nzone = "when.*.tz"\n'
    when = [{"cron": "0 6 * * *", "tz": "Europe/Oslo"}, {"cron": "0 7 * * *", "tz": "UTC"}]
    flow = read(rules, on={"id": "bell", "when": when})
    assert [(trigger.id, trigger.schedule.cron, trigger.schedule.zone) for trigger in flow.triggers if trigger.schedule] == [
        ("bell", "0 6 * * *", "Europe/Oslo"), ("bell-2", "0 7 * * *", "UTC"),
    ]  # fmt: skip


# -- proposals ------------------------------------------------------------------------------------------------------------


def estate(**fields: Any) -> list[Any]:
    """Eight flows; a field is a function of the number of the flow, None where it has none."""
    return [
        {"key": f"f{at}", "title": f"Tide desk {at}", **{key: said for key, give in fields.items() if (said := give(at)) is not None}, "acts": STEPS}
        for at in range(8)
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("fields", "wanted"),
    [
        ({"cron": lambda at: f"{at} 6 * * *"}, lambda at: [f"{at} 6 * * *"]),
        ({"schedule": lambda at: f"{at} 6 * * *" if at % 2 else None, "tz": lambda _: "Europe/Oslo"}, lambda at: [f"{at} 6 * * *"] * (at % 2)),
        ({"schedules": lambda at: [f"{at} 6 * * *", f"{at} 9 * * *"][: 1 + at % 2]}, lambda at: [f"{at} 6 * * *", f"{at} 9 * * *"][: 1 + at % 2]),
        ({"rest": lambda at: {"when": f"{at} 6 * * *"}}, lambda at: [f"{at} 6 * * *"]),
        ({"at": lambda at: f"06:{at:02}", "days": lambda at: ["mon", "fri"][: 1 + at % 2]}, lambda at: [f"{at} 6 * * 1" + ",5" * (at % 2)]),
        ({"starts": lambda at: {"timer": [{"cron": f"{at} 6 * * *"}, {"cron": f"{at} 9 * * *"}]} if at % 2 else {"webhook": {"path": "/in"}}},
         lambda at: [f"{at} 6 * * *", f"{at} 9 * * *"] if at % 2 else [""]),
    ],
)  # fmt: skip
def test_the_clock_of_a_flow_is_found_wherever_it_stands(fields: dict[str, Any], wanted: Any) -> None:
    made, flows = proposed(estate(**fields))
    assert [clocks(flow) for flow in flows] == [wanted(at) for at in range(8)]
    assert made.dialect.flow.description == ""  # a cron text has as many parts as a sentence has words
    assert {flow.content.unread for flow in flows if flow.triggers} == {0}


def test_lengths_of_time_under_a_word_for_them_are_clocks() -> None:
    _, flows = proposed(estate(every=lambda at: ["15m", "2h", None, "1 hour"][at % 4]))
    assert [[trigger.schedule.every for trigger in flow.triggers if trigger.schedule] for flow in flows[:4]] == [
        [900],
        [7200],
        [],
        [3600],
    ]


def test_words_for_what_starts_a_flow_are_its_trigger() -> None:
    words = ["webhook", "mail_received", "schedule"]
    _, flows = proposed(
        estate(trigger=lambda at: words[at % 3], plan=lambda at: f"{at} 6 * * *" if at % 3 == 2 else None)
    )
    assert [[trigger.kind for trigger in flow.triggers] for flow in flows[:3]] == [["webhook"], ["event"], ["schedule"]]
    assert clocks(flows[2]) == ["2 6 * * *"]
    _, flows = proposed(estate(on=lambda at: ["webhook", "message_received"][: 1 + at % 2]))
    assert [len(flow.triggers) for flow in flows] == [1 + at % 2 for at in range(8)]


def test_fields_that_say_no_start_are_none() -> None:
    """The first step of a flow, a zone and a text of as many parts as a clock has."""
    made, flows = proposed(
        estate(start=lambda _: "a", zone=lambda _: "Europe/Oslo", about=lambda at: f"Looks {at} times each day")
    )
    assert made.dialect.trigger is None
    assert made.dialect.flow.description == "about"
    assert [flow.triggers for flow in flows] == [()] * 8


def test_a_time_of_something_else_is_no_start_and_no_certainty_is_stated_that_was_not_measured() -> None:
    made, _ = proposed(estate(quiet_from=lambda _: "22:00", zone=lambda _: "Europe/Oslo"))
    assert made.dialect.trigger is None
    made, _ = proposed(estate(at=lambda _: "22:00", zone=lambda _: "Europe/Oslo"))
    assert made.dialect.trigger is not None
    assert [claim.sure_words for claim in made.claims if claim.part == "triggers"] == [""]


def test_a_trigger_that_nobody_knows_is_something_that_happens() -> None:
    """What is asked is not asserted: a mailbox was 'a call from outside'."""
    made, flows = proposed(estate(trigger=lambda at: {"box": "quay@ferry.example", "subject_has": "tide"}))
    assert [question.text for question in made.questions if question.id.startswith("trigger")] == [
        "What sets these flows off?"
    ]
    assert [trigger.kind for flow in flows for trigger in flow.triggers] == ["event"] * 8


def test_runs_of_a_month_come_from_clocks_of_flows(run: Run, tmp_path: Path) -> None:
    (tmp_path / "x").mkdir()
    for at, document in enumerate(estate(schedules=lambda at: [f"{at} 6 * * *", f"{at} 18 * * *"])):
        (tmp_path / f"x/{at}.json").write_text(json.dumps(document))
    made = run("dialect", "suggest", "x", "-o", "d.toml", "--month", "2026-11")
    assert "8 flows, 480 runs in 2026-11 by the clock" in made.err
    (tmp_path / "zeitbuch.toml").write_text('sources = ["x"]\ndialects = ["d.toml"]\n')
    assert "daily at 06:03 (no time zone stated); daily at 18:03" in run("inventory").out

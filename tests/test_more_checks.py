# ruff: noqa: E501  (cases are easier to compare side by side)
"""Checks of failure routes, load, words from outside, prompts, copies, clocks and people: what must be told, and the traps that must not."""

from __future__ import annotations

import json
from datetime import date
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest
from msgspec import structs

from conftest import Run
from test_checks import AGENT, ATTACHED, CASES, HOURLY, PAYS, REST, case, flow, given, sorting, step, takes
from zeitbuch.core.checks.answers import answers_of_field, listed_answers
from zeitbuch.core.checks.examples import EXAMPLES
from zeitbuch.core.checks.records import Copied, EstateFacts, Limits, Person, UsageFact
from zeitbuch.core.checks.registry import CHECKS, check_flows
from zeitbuch.core.model.records import (
    Approval,
    Binding,
    Connection,
    Flow,
    Link,
    ModelUse,
    Pieces,
    Prompt,
    Ref,
    Retry,
    Schedule,
    Secret,
    Step,
    Trigger,
    Variable,
)

TODAY = EstateFacts(
    today="2026-11-15",
    people=(Person("Maren Dahl", "maren@ferry.example"), Person("Ola Tveit", left=True)),
    idle_polls={"f/slow": 3.0, "f/idle": 4000.0},
    copied=(Copied("copy", "a", "left as it was"),),
    alike=(Copied("twin", "", "it does what another does"),),
    usage=tuple(
        UsageFact(code, "seen", "", "the log says so")
        for code in ("case-never-taken", "step-never-run", "model-not-named", "log-newer")
    ),
    own_operations={"harbour": ("dock.",)},
)
CHAT = (Trigger(id="t", kind="chat"),)
READS_CHAT = structs.replace(
    AGENT,
    model=ModelUse(
        name="m", max_turns=3, prompts=(Prompt(text="{t.text}", refs=(Ref(step="t", path="text", text="{t.text}"),)),)
    ),
)


def asks(prompt: str, key: str = "m", *refs: Ref, **more: Any) -> Step:
    """A model call with one prompt."""
    use = {"name": "m"} | {name: more.pop(name) for name in list(more) if name in ModelUse.__struct_fields__}
    return step(key, "model", model=ModelUse(prompts=(Prompt(text=prompt, refs=refs),), **use), **more)


def clock(**more: Any) -> tuple[Trigger, ...]:
    return (Trigger(id="t", kind="schedule", schedule=Schedule(**more)),)


def path(*ids: str, role: Any = "next") -> tuple[Link, ...]:
    return tuple(Link(source=a, target=b, role=role) for a, b in pairwise(ids))


LONG = "Read the letter of a passenger and say in plain words what the desk has to do about"
TEXT = Ref(step="t", path="text", text="{t.text}")
FILLS = step("e", "embed", model=ModelUse(name="small"), pieces=Pieces(store="shelf"))
FAILS = (*path("t", "a", "b"), Link(source="a", target="x", role="error"))
ROUND = step("l", "loop")
FREE = step("a", "agent")

# code -> flows that have the fault, flows that have not
MORE: dict[str, tuple[list[Flow], list[Flow]]] = {
    "end-goes-on": (
        [flow(step("a"), step("All told", "end"), step("b"), links=path("t", "a", "All told", "b"))],
        [flow(step("a"), step("All told", "end"), step("b"), links=(*path("t", "a", "b"), *path("a", "All told")))],
    ),
    "answer-without-case": (
        [
            sorting("Answer with one word: minor (a few minutes), major or cancelled.", case("x", "minor"), case("y", "major")),
            sorting("Antworte mit einem Wort: klein, gross oder keins.", case("x", "klein"), case("y", "gross")),
        ],
        [
            sorting("Answer with one word: minor, major or cancelled.", case("x", "minor"), case("y", "major"), REST),
            sorting("Answer with one word: minor or major.", case("x", "Minor"), case("y", "major")),
            sorting("Say how bad it is, from a scratch to a wreck, and why you think so.", case("x", "minor"), case("y", "major")),
        ],
    ),
    "labels-in-other-words": (
        [
            sorting("Antworte mit einem Wort: dringend oder normal.", case("x", "urgent"), case("y", "routine"), REST),
            sorting("Reply with one of: red, green.", case("x", "rot"), case("y", "gruen"), REST),
        ],
        [
            sorting("Reply with one of: red, green.", case("x", "Red"), case("y", "green"), REST),
            sorting("Which colour has the flag?", case("x", "rot"), case("y", "gruen"), REST),
        ],
    ),
    "error-route-dead": (
        [
            flow(step("a"), step("b"), step("x", "end"), links=FAILS),
            flow(step("a"), step("b"), step("x", "shape"), step("y", "wait"), links=(*FAILS, *path("x", "y"))),
        ],
        [
            flow(step("a"), step("b"), step("x", "send", effect="send"), links=FAILS),
            flow(step("a"), step("b"), step("x", "shape"), step("y", "approve"), links=(*FAILS, *path("x", "y"))),
        ],
    ),
    "timeout-too-short": (
        [
            flow(step("a", timeout=30.0, timeout_for="all", retry=Retry(attempts=2, wait=20.0))),
            flow(step("a", timeout=30.0, timeout_for="all", retry=Retry(attempts=3, wait=10.0))),
        ],
        [
            flow(step("a", timeout=30.0, timeout_for="try", retry=Retry(attempts=2, wait=20.0))),
            flow(step("a", timeout=90.0, timeout_for="all", retry=Retry(attempts=2, wait=20.0))),
            flow(step("a", timeout=5.0, timeout_for="all", retry=Retry(attempts=2))),
        ],
    ),
    "timeout-perhaps-short": (
        [flow(step("a", timeout=30.0, retry=Retry(attempts=2, wait=20.0))), flow(step("a", timeout=5.0, retry=Retry(attempts=1, wait=9.0)))],
        [flow(step("a", timeout=30.0, timeout_for="try", retry=Retry(attempts=2, wait=20.0))), flow(step("a", timeout=90.0, retry=Retry(attempts=2, wait=20.0)))],
    ),
    "agent-acts-within-limits": (
        [
            flow(AGENT, structs.replace(PAYS, inputs=(given("amount", None, decided="model", role="amount"), given("limit", 200))), links=ATTACHED),
            flow(READS_CHAT, structs.replace(PAYS, effect="send", inputs=(given("channel", "#desk"), given("text", None, decided="model"))), links=ATTACHED, triggers=CHAT),
        ],
        [
            flow(AGENT, PAYS, links=ATTACHED),
            flow(AGENT, structs.replace(PAYS, effect="send", inputs=(given("to", None, decided="model"),)), links=ATTACHED),
            flow(step("o", "approve"), AGENT, structs.replace(PAYS, inputs=(given("limit", 200),)), links=(*path("t", "o", "a"), ATTACHED[1])),
        ],
    ),
    "answer-decides-target": (
        [
            flow(asks("Whose?"), step("a", "send", effect="send", inputs=(structs.replace(takes("m"), role="recipient"),))),
            flow(asks("How much?"), step("a", effect="spend", inputs=(structs.replace(takes("m"), role="amount"),))),
        ],
        [
            flow(asks("Whose?"), step("a", "send", effect="send", inputs=(structs.replace(takes("t"), role="recipient"), structs.replace(takes("m"), role="content")))),
            flow(asks("How much?"), step("a", effect="spend", inputs=(structs.replace(takes("m"), role="amount"), given("limit", 9)))),
            flow(asks("Whose?"), step("o", "approve"), step("a", "send", effect="send", inputs=(structs.replace(takes("m"), role="recipient"),))),
        ],
    ),
    "approval-unanswered": (
        [flow(step("a", "approve", timeout=60.0)), flow(step("a", "approve", timeout=60.0, approval=Approval(needed=1)))],
        [
            flow(step("a", "approve", timeout=60.0, approval=Approval(silence="rejects"))),
            flow(step("a", "approve")),
            flow(step("a", "approve", timeout=60.0), step("x", "send", effect="send"), links=(*path("t", "a"), Link(source="a", target="x", after=("timeout",)))),
        ],
    ),
    "act-failure-passed-over": (
        [flow(step("a", "send", effect="send", on_fault="continue")), flow(step("a", effect="write", on_fault="continue"), step("b"))],
        [
            flow(step("a", "send", effect="send")),
            flow(step("a", "read", effect="read", on_fault="continue")),
            flow(step("a", "send", effect="send", on_fault="continue"), step("b"), step("x", "send", effect="send"), links=FAILS),
        ],
    ),
    "agent-uncapped": (
        [flow(structs.replace(FREE, model=ModelUse(name="m"))), flow(FREE)],
        [flow(asks("Hello")), flow(step("b"), AGENT)],
    ),
    "circle-endless": (
        [
            flow(step("a"), step("b"), links=path("t", "a", "b", "a")),
            flow(step("a"), step("b"), step("c"), links=path("t", "a", "b", "c", "b")),
        ],
        [
            flow(step("a"), step("d", "decide"), step("e"), links=(*path("t", "a", "d"), Link(source="d", target="a", role="case", label="again"), Link(source="d", target="e", role="case", label="done"))),
            flow(step("a"), step("b"), step("e"), links=(*path("t", "a", "b", "a"), Link(source="b", target="e", role="error"))),
        ],
    ),
    "paid-before-filter": (
        [
            flow(asks("Sum it up: {t.text}", "m", TEXT), step("d", "decide", refs=(Ref(step="t", path="kind"),)), step("e"),
                 links=(*path("t", "m", "d"), Link(source="d", target="e", role="case", label="letter"))),
            flow(asks("Sum it up"), step("d", "decide", refs=(Ref(step="t", path="kind"),)), step("e"), step("x", "end"),
                 links=(*path("t", "m", "d"), Link(source="d", target="e", role="case", label="letter"), Link(source="d", target="x", role="case", label="advert"))),
        ],
        [
            flow(asks("Sum it up"), step("d", "decide", refs=(Ref(step="m", path="text"),)), step("e"), links=(*path("t", "m", "d"), Link(source="d", target="e", role="case", label="letter"))),
            flow(asks("Sum it up"), step("d", "decide", refs=(Ref(step="t", path="kind"),)), step("e"), step("x"),
                 links=(*path("t", "m", "d"), Link(source="d", target="e", role="case", label="letter"), Link(source="d", target="x", role="case", label="advert"))),
        ],
    ),
    "poll-too-often": (
        [
            flow(step("a"), triggers=(Trigger(id="t", kind="polling", schedule=Schedule(every=10.0)),)),
            flow(step("a"), triggers=(Trigger(id="idle", kind="polling", schedule=Schedule(every=600.0)),)),
        ],
        [
            flow(step("a"), triggers=(Trigger(id="slow", kind="polling", schedule=Schedule(every=10.0)),)),
            flow(step("a"), triggers=(Trigger(id="t", kind="polling", schedule=Schedule(every=300.0)),)),
            flow(step("a"), triggers=clock(every=10.0)),
        ],
    ),
    "same-call-twice": (
        [flow(asks("Sum up {t.text}", "m", TEXT), asks("Sum up  {t.text}", "n", TEXT)), flow(asks("Sum up the day"), step("a"), asks("Sum up the day", "n"))],
        [
            flow(asks("Sum up the day"), asks("Sum up the night", "n")),
            flow(asks("Sum up the day"), asks("Sum up the day", "n", name="other")),
            flow(step("d", "decide"), asks("Sum up the day"), asks("Sum up the day", "n"), links=(*path("t", "d"), Link(source="d", target="m", role="case", label="a"), Link(source="d", target="n", role="case", label="b"))),
        ],
    ),
    "models-asked-alike": (
        [flow(asks("Sum up the day"), asks("Sum up the day", "n", name="other"))],
        [flow(asks("Sum up the day"), asks("Sum up the day", "n")), flow(asks("Sum up the day"), asks("Sum up the night", "n", name="other"))],
    ),
    "write-in-loop": (
        [flow(ROUND, step("w", "write", effect="write", scope="l")), flow(ROUND, step("w", "http", effect="write", scope="l"))],
        [
            flow(ROUND, step("w", "write", effect="write", scope="l"), asks("Hi", "m", scope="l")),
            flow(ROUND, step("w", "send", effect="send", scope="l")),
            flow(step("g", "group"), step("w", "write", effect="write", scope="g")),
        ],
    ),
    "step-sometimes-before": (
        [flow(step("d", "decide"), step("x"), step("y", inputs=(takes("x"),)), links=(*path("t", "d"), Link(source="d", target="x", role="case", label="a"), Link(source="d", target="y", role="case", label="b"), Link(source="x", target="y")))],
        [
            flow(step("x"), step("d", "decide"), step("y", inputs=(takes("x"),)), links=(*path("t", "x", "d"), Link(source="d", target="y", role="case", label="b"))),
            flow(step("x"), step("z"), step("y", inputs=(takes("x"),)), links=(*path("t", "x", "y"), *path("t", "z", "y"))),
        ],
    ),
    "outside-words-to-agent": (
        [
            flow(READS_CHAT, PAYS, links=ATTACHED, triggers=CHAT),
            flow(step("r", "parse", inputs=(takes("t"),)), structs.replace(AGENT, inputs=(takes("r"),)), PAYS, links=(*path("t", "r", "a"), ATTACHED[1]), triggers=HOURLY),
        ],
        [
            flow(READS_CHAT, structs.replace(PAYS, effect="read"), links=ATTACHED, triggers=CHAT),
            flow(READS_CHAT, PAYS, links=ATTACHED, triggers=HOURLY),
            flow(step("o", "approve"), READS_CHAT, PAYS, links=(*path("t", "o", "a"), ATTACHED[1]), triggers=CHAT),
        ],
    ),
    "act-by-label": (
        [
            flow(*(one := sorting("Answer a or b.", case("x", "a"), case("y", "b"), REST)).steps[:2], step("x", "delete", effect="delete"), step("y"), step("z"), links=one.links),
            flow(*one.steps[:2], step("x", effect="spend"), step("y"), step("z"), links=one.links),
        ],
        [
            flow(*one.steps[:2], step("x", effect="send"), step("y"), step("z"), links=one.links),
            flow(*one.steps[:2], step("x", "approve"), step("p", effect="spend"), step("y"), step("z"), links=(*one.links, *path("x", "p"))),
        ],
    ),
    "tool-unclear": (
        [
            flow(AGENT, step("p", "tool", effect="read"), links=ATTACHED),
            flow(AGENT, step("p", "tool", effect="read", note="finds a booking", operation="find"), step("q", "tool", effect="read", note="finds a booking", operation="find"), links=(*ATTACHED, Link(source="q", target="a", role="attach"))),
        ],
        [
            flow(AGENT, step("p", "tool", effect="read", note="finds a booking"), links=ATTACHED),
            flow(AGENT, step("p", "tool", effect="read", inputs=(given("name", None, decided="model", description="of the passenger"),)), links=ATTACHED),
            flow(AGENT, step("p", "memory", inputs=(given("window", 5),)), links=ATTACHED),
        ],
    ),
    "account-of-person": (
        [
            flow(step("a", connection="c"), connections=(Connection(id="c", account="maren.dahl@ferry.example"),)),
            flow(step("a", connection="c"), connections=(Connection(id="c", account="tor.vik@ferry.example"),)),
            flow(step("a", connection="c"), connections=(Connection(id="c", account="maren@ferry.example"),)),
        ],
        [
            flow(step("a", connection="c"), connections=(Connection(id="c", account="letters.desk@ferry.example"),)),
            flow(step("a", connection="c"), connections=(Connection(id="c", account="svc-letters"),)),
        ],
    ),
    "secret-to-model": (
        [
            flow(asks("Log in with {t.password}", "m", Ref(step="t", path="password", text="{t.password}"))),
            flow(asks("Use secret A to log in"), secrets=(Secret(name="secret A"),)),
        ],
        [
            flow(asks("Count {t.max_tokens}", "m", Ref(step="t", path="max_tokens"))),
            flow(asks("Never tell the password."), step("a", inputs=(given("key", "secret A"),)), secrets=(Secret(name="secret A"),)),
        ],
    ),
    "personal-data-to-model": (
        [flow(asks("{t.iban}", "m", Ref(step="t", path="form.iban"))), flow(asks("{x}", "m", Ref(step="t", path="guest.dateOfBirth")))],
        [flow(asks("{t.text}", "m", TEXT)), flow(asks("{t.mailbox_count}", "m", Ref(step="t", path="count")))],
    ),
    "secret-in-log": (
        [
            flow(step("a", "write", effect="write", operation="log.add", inputs=(given("row", "{t.token}", refs=(Ref(step="t", path="token"),)),))),
            flow(step("log", "write", effect="write", inputs=(given("row", "{t.iban}", refs=(Ref(step="t", path="iban"),)),))),
        ],
        [
            flow(step("log", "write", effect="write", inputs=(given("row", "{t.iban}", refs=(Ref(step="t", path="iban"),), secured=True),))),
            flow(step("a", "write", effect="write", operation="catalogue.add", inputs=(given("row", "{t.iban}", refs=(Ref(step="t", path="iban"),)),))),
        ],
    ),
    "model-retired": ([], []),
    "embedding-differs": (
        [flow(FILLS, step("r", "retrieve", model=ModelUse(name="large"), pieces=Pieces(store="Shelf")))],
        [
            flow(FILLS, step("r", "retrieve", model=ModelUse(name="small"), pieces=Pieces(store="shelf"))),
            flow(FILLS, step("r", "retrieve", model=ModelUse(name="large"), pieces=Pieces(store="archive"))),
        ],
    ),
    "memory-endless": (
        [flow(AGENT, step("p", "memory"), links=ATTACHED)],
        [flow(AGENT, step("p", "memory", inputs=(given("window", 10),)), links=ATTACHED), flow(AGENT, structs.replace(step("p", "memory"), name="Last ten messages"), links=ATTACHED)],
    ),
    "date-not-given": (
        [flow(asks("Write a letter. Today's date goes on top.")), flow(asks("Say how many days remain until next friday.")), flow(asks("Welche Fähre fährt heute?"))],
        [
            flow(asks('Answer "today" or "later" and nothing else.')),
            flow(asks("Today is {t.day}. Write a letter with today's date.", "m", Ref(step="t", path="day"))),
            flow(asks("Write today's date on top: {t.sent_at}", "m", Ref(step="t", path="sent_at"))),
            flow(asks("Say which desk is meant, e.g. the one that wrote yesterday.")),
            flow(step("m", "agent", model=ModelUse(name="m", max_turns=2, prompts=(Prompt(text="Tell today's ferries."),))), step("p", "tool", operation="clock.now", note="the time"), links=(*path("t", "m"), Link(source="p", target="m", role="attach"))),
        ],
    ),
    "answer-cap-too-small": (
        [flow(asks("Write a letter of at most 400 words.", max_output=100)), flow(asks("Explain it in three paragraphs.", max_output=20)), flow(asks("Answer in at most ten sentences.", max_output=40))][::2],
        [flow(asks("Write a letter of at most 40 words.", max_output=100)), flow(asks("Write a letter of at most 400 words.")), flow(asks("Shorten these 900 words to 100 words.", max_output=200))],
    ),
    "prompt-beyond-context": ([], []),
    "json-for-nobody": (
        [flow(asks("Give JSON only."), step("a", "send", effect="send", inputs=(structs.replace(takes("m"), refs=(Ref(step="m", path="text"),)),)))],
        [
            flow(asks("Give JSON only."), step("a", "send", effect="send", inputs=(takes("m"),))),
            flow(asks("No JSON, please."), step("a", "send", effect="send", inputs=(structs.replace(takes("m"), refs=(Ref(step="m", path="text"),)),))),
            flow(asks("Give JSON only."), step("a", "code", inputs=(structs.replace(takes("m"), refs=(Ref(step="m", path="text"),)),))),
        ],
    ),
    "prompts-nearly-equal": (
        [flow(asks(f"{LONG} Oslo"), asks(f"{LONG} Bergen", "n"))],
        [flow(asks(f"{LONG} it"), asks(f"{LONG} it", "n", name="other")), flow(asks("Write to Oslo"), asks("Write to Bergen", "n"))],
    ),
    "owner-alone": ([], []),
    "owner-unknown": (
        [flow(step("a"), owners=("Nobody Here",)), flow(step("a"), owners=("Ola Tveit",))],
        [flow(step("a"), owners=("Maren Dahl",)), flow(step("a"), owners=("MAREN@ferry.example",)), flow(step("a"), owners=())],
    ),
    "description-missing": ([flow(step("a"), description=" ")], [flow(step("a")), flow(step("a"), description="", format="arazzo")]),
    "operation-foreign": (
        [flow(step("a", operation="guest.scrape"), format="harbour")],
        [flow(step("a", operation="dock.call"), format="harbour"), flow(step("a", operation="guest.scrape"), format="other")],
    ),
    "clock-change": (
        [flow(step("a"), triggers=clock(cron="30 2 * * *", zone="Europe/Oslo")), flow(step("a"), triggers=clock(cron="15 1,5 * * 0", zone="America/New_York"))],
        [
            flow(step("a"), triggers=clock(cron="30 4 * * *", zone="Europe/Oslo")),
            flow(step("a"), triggers=clock(cron="30 2 * * *", zone="Asia/Tokyo")),
            flow(step("a"), triggers=clock(cron="30 2 * * *")),
        ],
    ),
    "schedule-never-fires": (
        [flow(step("a"), triggers=clock(cron="0 8 31 2 *", zone="Europe/Oslo")), flow(step("a"), triggers=clock(rule="DTSTART:20240101T080000\nRRULE:FREQ=DAILY;COUNT=3", zone="Europe/Oslo"))],
        [flow(step("a"), triggers=clock(cron="0 8 29 2 *", zone="Europe/Oslo")), flow(step("a"), triggers=clock(cron="0 8 31 12 *", zone="Europe/Oslo"))],
    ),
    "flow-stale": (
        [flow(asks("Hi"), changed="2023-05-01T10:00:00Z")],
        [flow(asks("Hi"), changed="2026-05-01"), flow(asks("Hi"), changed="2023-05-01", state="off"), flow(step("a"), changed="2023-05-01"), flow(asks("Hi"), changed="long ago")],
    ),
    "default-step-name": (
        [flow(structs.replace(step("a"), name="Edit Fields 3")), flow(structs.replace(step("a"), name="Untitled"))],
        [flow(structs.replace(step("a"), name="Terminal 3")), flow(structs.replace(step("a"), name="Call the agent"))],
    ),
    "sample-data": ([flow(step("a", sample=True))], [flow(step("a")), flow(step("a", sample=True), environment="test")]),
    "answer-unused": (
        [flow(step("r", "read", effect="read"), step("a", inputs=(takes("r"),)), asks("Sum it up"), triggers=HOURLY)],
        [
            flow(step("r", "read", effect="read"), step("a", inputs=(takes("r"),)), asks("Sum it up"), triggers=CHAT),
            flow(step("r", "read", effect="read"), asks("Sum it up"), step("a", inputs=(takes("m"),)), triggers=HOURLY),
            flow(step("r", "read", effect="read"), asks("Sum it up"), triggers=HOURLY),
        ],
    ),
    "copy-edit-missed": ([flow(step("a"), id="copy")], [flow(step("a"))]),
    "never-started": (
        [flow(step("a"), triggers=()), flow(step("a"), triggers=(Trigger(id="t", kind="form", enabled=False),))],
        [flow(step("a")), flow(step("a"), triggers=(), state="off"), flow(step("a"), triggers=(), format="bpmn")],
    ),
    "input-empty": (
        [
            flow(step("a", inputs=(given("url", " "),))),
            flow(step("a", inputs=(given("line", "{v}", decided="data", refs=(Ref(variable="v", text="{v}"),)),)), variables=(Variable(name="v", value=""),)),
        ],
        [flow(step("a", inputs=(given("cc", ""), given("body", "")))), flow(step("a"), variables=(Variable(name="v", value=""),))],
    ),
    "own-request": (
        [
            flow(step("a", "approve", approval=Approval(approvers=("{t.sender}",), refs=(Ref(step="t", path="sender"),)))),
            flow(step("a", "approve", inputs=(given("who", "{t.requester}", role="approver", refs=(Ref(step="t", path="requester"),)),))),
        ],
        [flow(step("a", "approve", approval=Approval(approvers=("{t.manager}",), refs=(Ref(step="t", path="manager"),)))), flow(step("a", "approve"))],
    ),
    "approver-left": (
        [flow(step("a", "approve", approval=Approval(approvers=("Ola Tveit",))))],
        [flow(step("a", "approve", approval=Approval(approvers=("Maren Dahl",)))), flow(step("a", "approve", approval=Approval(approvers=("desk@x.example",))))],
    ),
    "flows-alike": ([flow(step("a"), id="twin")], [flow(step("a"))]),
    # What logs say is found in tests/test_calibrate.py.
    "case-never-taken": ([flow(step("a"), id="seen")], [flow(step("a"))]),
    "step-never-run": ([flow(step("a"), id="seen")], [flow(step("a"))]),
    "model-not-named": ([flow(step("a"), id="seen")], [flow(step("a"))]),
    "log-newer": ([flow(step("a"), id="seen")], [flow(step("a"))]),
    "flows-call-each-other": ([], []),
    "handler-missing": ([], []),
    "same-minute": ([], []),
    "status-words-differ": ([], []),
}  # fmt: skip


def found_in(*flows: Flow, **more: Any) -> list[str]:
    return [one.code for one in check_flows(flows, facts=structs.replace(TODAY, **more))]


def test_every_check_has_cases() -> None:
    assert set(CASES) | set(MORE) == set(CHECKS) == set(EXAMPLES) and not set(CASES) & set(MORE)


@pytest.mark.parametrize("code", MORE)
def test_what_is_wrong_is_told_and_what_is_right_is_not(code: str) -> None:
    wrong, right = MORE[code]
    for number, one in enumerate(wrong):
        found = [finding for finding in check_flows([one], facts=TODAY) if finding.code == code]
        assert len(found) == 1 and found[0].message and found[0].remedy, (code, number, found, found_in(one))
    for number, one in enumerate(right):
        assert code not in found_in(one), (code, number, [f.message for f in check_flows([one], facts=TODAY)])


def test_checks_over_several_flows() -> None:
    acts = flow(step("a", "write", effect="write"), triggers=HOURLY)
    handler = flow(step("x", "send", effect="send"), id="h", name="Faults", triggers=(Trigger(id="t", kind="fault"),))
    named = flow(step("a"), id="g", name="Other", fault_handlers=("Faults",))
    assert "handler-missing" in found_in(acts, named, handler) and "handler-missing" not in found_in(acts, handler)
    early = [
        flow(asks("Hi there all"), id=f"f{n}", name=f"Flow {n}", triggers=clock(cron="0 8 * * *", zone="UTC"))
        for n in range(4)
    ]
    assert found_in(*early).count("same-minute") == 4 and "same-minute" not in found_in(*early[:3])
    assert found_in(*early[:3], limits=Limits(same_minute=3)).count("same-minute") == 3
    writes = flow(step("a", "write", effect="write", inputs=(given("status", "approved"),)), id="w", name="Writer")
    waits = flow(step("d", "decide", condition="row.status == 'Approved'"), id="r", name="Reader")
    same = structs.replace(waits, steps=(step("d", "decide", condition="row.status == 'approved'"),))
    assert "status-words-differ" in found_in(writes, waits) and "status-words-differ" not in found_in(writes, same)
    two = flow(step("a"), id="g", name="Other", owners=("Maren Dahl", "Maren Dahl"))
    assert found_in(flow(step("a")), two).count("owner-alone") == 1 and "owner-alone" not in found_in(flow(step("a")))
    there, back = (
        flow(step("s", "subflow", calls="g"), id="f"),
        flow(step("s", "subflow", calls="f"), id="g", name="Back"),
    )
    assert [one.message for one in check_flows([there, back]) if one.code == "flows-call-each-other"] == [
        "the flows ‘Refunds’ -> ‘Back’ -> ‘Refunds’ call each other: a run may never end"
    ]
    assert "flows-call-each-other" not in found_in(there, flow(step("a"), id="g"))
    caller = flow(step("s", "subflow", calls="f"), id="c", name="Caller")
    assert "never-started" not in found_in(flow(step("a"), triggers=()), caller)


def test_models_of_the_rate_card() -> None:
    from zeitbuch.core.pricing.rate_card import ModelRate, RateCard

    card = RateCard(currency="EUR", model=(
        ModelRate(name="old", retires=date(2026, 1, 1), replaced_by="new"), ModelRate(name="soon", retires=date(2026, 12, 31)),
        ModelRate(name="new", also=("new-*",), context=200, retires=date(2030, 1, 1)),
    ))  # fmt: skip

    def told(*flows: Flow) -> list[str]:
        return [
            one.message
            for one in check_flows(flows, card, facts=TODAY)
            if one.code in ("model-retired", "model-unpriced", "prompt-beyond-context")
        ]

    assert told(flow(asks("Hi", name="old"))) == [
        "‘M’ calls ‘old’, which is no more since 2026-01-01: ‘new’ takes its place"
    ]
    assert "ends in 46 days" in told(flow(asks("Hi", name="soon")))[0] and told(flow(asks("Hi", name="new-2"))) == []
    long = flow(asks("word " * 400, name="new"))
    assert "takes 200 together" in told(long)[0] and told(flow(asks("word " * 60, name="new"))) == []


def test_silence_that_leads_where_a_yes_leads() -> None:
    ways = (
        *path("t", "a"),
        Link(source="a", target="p", role="case", label="approved"),
        Link(source="a", target="x", role="case", label="refused"),
    )
    steps = (step("a", "approve", timeout=60.0), step("p", effect="spend"), step("x", "send", effect="send"))
    yes, no = (flow(*steps, links=(*ways, Link(source="a", target=to, after=("timeout",)))) for to in ("p", "x"))
    assert "approval-by-silence" in found_in(yes) and "approval-by-silence" not in found_in(no)


def test_what_a_prompt_says_tells_the_task() -> None:
    hot, cool = (flow(asks("Extract the number of the parcel.", temperature=t)) for t in (0.9, 0.1))
    assert "label-temperature" in found_in(hot) and "label-temperature" not in found_in(cool)
    assert "label-temperature" not in found_in(flow(asks("Write a poem on labels.", temperature=0.9)))


def test_a_decision_by_data_needs_a_rest_too() -> None:
    def decision(*more: Link) -> Flow:
        kind = (Ref(step="t", path="kind"),)
        cases = tuple(
            Link(source="d", target=to, role="case", label=word, condition=f"{{t.kind}} == '{word}'", refs=kind)
            for to, word in (("x", "a1"), ("y", "b2"))
        )
        return flow(step("d", "decide"), step("x"), step("y"), step("z"), links=(*path("t", "d"), *cases, *more))

    assert "case-rest-missing" in found_in(decision()) and "case-rest-missing" not in found_in(decision(REST))


def test_a_limit_beside_an_amount_counts() -> None:
    amount = given("quote", None, decided="model", role="amount")
    pays = step("a", effect="spend", inputs=(amount,))
    assert "model-decides-target" in found_in(flow(pays))
    assert "model-decides-target" not in found_in(
        flow(structs.replace(pays, inputs=(amount, given("max_amount", 450))))
    )
    answered = structs.replace(takes("m"), role="amount", name="amount")
    by_answer = flow(asks("How much?"), step("a", effect="spend", inputs=(answered,)))
    assert "answer-decides-target" in found_in(by_answer)
    tested = step("d", "decide", refs=(Ref(step="m", path="x"),), condition="{m.x} < 450")
    held = flow(
        asks("How much?"),
        tested,
        step("a", effect="spend", inputs=(answered,)),
        links=(*path("t", "m", "d"), Link(source="d", target="a", role="case", label="little")),
    )
    assert "answer-decides-target" not in found_in(held)


def _shaped(taken: str, *inputs: Binding) -> Flow:
    """A letter goes to what a step in between makes of an answer and of data."""
    to = structs.replace(takes("k"), name="to", role="recipient", refs=(Ref(step="k", path=taken),))
    return flow(asks("Whose?"), step("k", "shape", inputs=inputs), step("a", "send", effect="send", inputs=(to,)))


def test_an_answer_stays_one_where_a_step_reshapes_it() -> None:
    address, body = structs.replace(takes("m"), name="address"), structs.replace(takes("t"), name="body")
    (hit,) = [
        one
        for one in check_flows([_shaped("address", address, body)], facts=TODAY)
        if one.code == "answer-decides-target"
    ]
    assert hit.message == "the recipient (to) of ‘A’ is made of what ‘M’ answered, and nobody approves it"
    assert "answer-decides-target" not in found_in(_shaped("body", address, body))
    stored = structs.replace(
        _shaped("address", address),
        steps=(asks("Whose?"), step("k", "store", inputs=(address,)), _shaped("x").steps[2]),
    )
    assert "answer-decides-target" not in found_in(stored)  # what comes back from elsewhere need not be the answer


@pytest.mark.parametrize(("model", "decision", "said"), [
    (asks("Answer a or b."), step("d", "decide", refs=(Ref(step="m", path="x"),)), "‘X’ deletes because ‘M’ answered ‘yes’, and nobody approves it"),
    (asks("Answer a or b."), step("d", "decide", refs=(Ref(step="k", path="word"),)), "‘X’ deletes in case ‘yes’, by what ‘M’ answered, and nobody approves it"),
    (step("m", "agent", model=ModelUse(name="m")), step("d", "decide", refs=(Ref(step="m", path="x"),)), "‘X’ deletes because ‘M’ answered ‘yes’, and nobody approves it"),
    (asks("Answer a or b."), asks("Answer yes or no.", "d"), "‘X’ deletes because ‘D’ answered ‘yes’, and nobody approves it"),
    (asks("Answer a or b."), step("d", "decide", refs=(Ref(step="t", path="x"),)), ""),
    (asks("Answer a or b.", enabled=False), step("d", "decide", refs=(Ref(step="m", path="x"),)), ""),
    (asks("Answer a or b."), step("d", "approve", refs=(Ref(step="m", path="x"),)), ""),
])  # fmt: skip
def test_who_decides_over_what_is_final_is_told(model: Step, decision: Step, said: str) -> None:
    shaped = step("k", "shape", inputs=(structs.replace(takes("m"), name="word"),))
    cases = (case("x", "yes"), case("z", "no"))
    given_flow = flow(
        model,
        shaped,
        decision,
        step("x", "delete", effect="delete"),
        step("z"),
        links=(*path("t", "m", "k", "d"), *cases),
    )
    told = [one.message for one in check_flows([given_flow], facts=TODAY) if one.code == "act-by-label"]
    assert told == [said] * bool(said)


def test_what_stands_in_a_block_that_is_off_does_nothing_wrong() -> None:
    block = step("g", "group", enabled=False)
    agent, tool, letter = (
        structs.replace(one, scope="g")
        for one in (
            AGENT,
            PAYS,
            step("w", "send", effect="send", inputs=(structs.replace(takes("m"), role="recipient"),)),
        )
    )
    ways = (*path("t", "m", "g"), Link(source="p", target="a", role="attach"))
    framed = flow(asks("Whose?"), block, agent, tool, letter, links=ways)
    on = structs.replace(framed, steps=tuple(structs.replace(one, enabled=True) for one in framed.steps))
    told = {"agent-acts-alone", "answer-decides-target"}
    assert told <= set(found_in(on)) and not told & set(found_in(framed))
    host = flow(
        structs.replace(AGENT, enabled=False),
        structs.replace(PAYS, inputs=(structs.replace(given("to", "{x}", decided="model"), role="recipient"),)),
        links=ATTACHED,
    )
    assert "model-decides-target" not in found_in(host)
    assert "model-decides-target" in found_in(structs.replace(host, steps=(AGENT, host.steps[1])))


@pytest.mark.parametrize(("prompt", "answers"), [
    ("Answer with one word: emergency (water, gas), routine, or notours (damage).", ("emergency", "routine", "notours")),
    ('Reply with "in time" or "late".', ("in time", "late")),
    ("Classify as spam | ham | unsure", ("spam", "ham", "unsure")),
    ("Réponds avec un seul mot : oui, non ou peut-être.", ("oui", "non", "peut-être")),
    ("Answer politely and in the language of the letter that was sent to us.", ()),
    ("Return the invoice number, the date on which it was written and the sum.", ()),
    ("Sort it. Answer with one label:\n- urgent: today\n- routine (this week)\n- spam", ("urgent", "routine", "spam")),
    ("Say yes or no. Then choose red or blue.", ()),
    ("Answer with JSON: item, colour, brand, ship.", ()),
    ("Return the fields: name, date, sum.", ()),
    ("Return the number, the date and the sum.", ()),
    ("Antworte mit Nummer, Datum und Summe.", ()),
    ("Classify as urgent, routine and spam.", ("urgent", "routine", "spam")),
    ("Answer with one of red, blue and green.", ("red", "blue", "green")),
])  # fmt: skip
def test_answers_that_prompts_list(prompt: str, answers: tuple[str, ...]) -> None:
    assert listed_answers(prompt) == answers


def test_answers_of_a_field() -> None:
    assert answers_of_field("Take out: number, result (pass, fail, at risk).", "result") == ("pass", "fail", "at risk")
    assert answers_of_field("result (pass, fail), result (a, b)", "result") == () == answers_of_field("none", "")


# -- the workspace ------------------------------------------------------------------------------------------------------

NATIVE = {"zeitbuch": 1, "flows": [{"id": "f", "name": "Refunds", "description": "Pays.", "owners": ["Maren Dahl"], "triggers": [{"id": "t", "kind": "form"}],
          "steps": [{"id": "a", "kind": "http", "name": "Call"}], "links": [{"source": "t", "target": "a"}]}]}  # fmt: skip


def test_people_and_limits_of_the_workspace(tmp_path: Path, run: Run) -> None:
    (tmp_path / "x.json").write_text(json.dumps(NATIVE))
    (tmp_path / "zeitbuch.toml").write_text(
        'sources = ["x.json"]\npeople = "people.csv"\n[[person]]\nname = "Ivar Lunde"\n'
    )
    (tmp_path / "people.csv").write_text("Name,Mail,Team,Left\nMaren Dahl,m@x.example,Desk,no\n,x,,\nOla,,,perhaps\n")
    ran = run("check", "-f", "json")
    assert [one["code"] for one in json.loads(ran.out)["findings"]] == []
    assert (
        "people.csv:3: error: expected a name, and yes or no for `left`, found no name" in ran.err
        and "found left = 'perhaps'" in ran.err
    )
    (tmp_path / "people.csv").write_text("name,left\nMaren Dahl,yes\n")
    assert "‘Maren Dahl’ has left the house" in run("check").out
    (tmp_path / "people.csv").write_text("person,left\nMaren Dahl,yes\n")
    assert "found person, left" in run("check").err
    (tmp_path / "people.csv").unlink()
    ran = run("check")
    assert ran.code == 2 and "[people-unreadable]" in ran.err
    (tmp_path / "zeitbuch.toml").write_text('sources = ["x.json"]\n[check_limits]\npoll_evry = 5\n')
    assert "poll_evry" in run("check").err


def test_a_day_that_there_is_not_is_no_fault_of_the_text() -> None:
    from zeitbuch.core.assumptions.recurrence import cron_fires
    from zeitbuch.core.model.problems import ZeitbuchError

    def fires(cron: str) -> int:
        return cron_fires(cron, "Europe/Oslo", date(2026, 1, 1), date(2031, 1, 1))

    assert fires("0 6 30 2 *") == fires("0 6 31 4,6 *") == 0 and fires("0 6 29 2 *") == 1 and fires("0 6 31 1 *") == 5
    for wrong in ("0 6 32 2 *", "0 6 30 13 *", "0 6 x 2 *"):
        with pytest.raises(ZeitbuchError):
            fires(wrong)


def test_traps() -> None:
    quoted = sorting("Answer with one word: late or cancelled.", case("x", '"late"'), case("y", "'Cancelled'"), REST)
    assert not {"label-spelled-otherwise", "label-not-asked", "labels-in-other-words"} & set(found_in(quoted))
    rest = sorting(
        "Answer with one word: late or cancelled.",
        case("x", "late"),
        case("y", "cancelled"),
        case("z", "everything else"),
    )
    assert not {"label-not-asked", "case-rest-missing", "answer-without-case"} & set(found_in(rest))
    assert "placeholder-text" not in found_in(
        flow(asks("Collect every TODO and TBD in the minutes, and answer XXX where a name is missing."))
    )
    assert "placeholder-text" in found_in(flow(asks("Write to CHANGE_ME about the ferry.")))
    local = step("a", inputs=(given("url", "http://localhost:80/x"),))
    assert "local-address" in found_in(flow(local)) and "local-address" not in found_in(
        flow(local, folder="Team / Test")
    ) + found_in(flow(local, environment="pre-prod QA"))
    around = step("a", inputs=(given("x", "{env.HOME}", refs=(Ref(step="env", path="HOME", text="{env.HOME}"),)),))
    assert "step-missing" not in found_in(flow(around))
    one = flow(step("e", "embed", connection="db", model=ModelUse(name="a")), id="g", name="G")
    other = flow(step("r", "retrieve", connection="db", model=ModelUse(name="b")))
    assert "embedding-differs" not in found_in(one, other)
    both = flow(
        step("e", "embed", connection="db", model=ModelUse(name="a")),
        step("r", "retrieve", connection="db", model=ModelUse(name="b")),
    )
    assert "embedding-differs" in found_in(both)

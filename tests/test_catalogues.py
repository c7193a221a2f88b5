# ruff: noqa: E501  (cases are easier to compare side by side)
"""Catalogues over an estate, and the conditions of the inventory."""

from __future__ import annotations

import json
from datetime import date
from pathlib import Path
from typing import Any

import pytest

from conftest import Run
from test_checks import AGENT, PAYS, flow, given, step
from zeitbuch.cli.options.list import WHAT
from zeitbuch.core.checks.catalogues.registry import CATALOGUES, catalogue_rows
from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.checks.records import EstateFacts, Person
from zeitbuch.core.model.conditions import parse_condition
from zeitbuch.core.model.records import (
    Approval,
    Connection,
    Flow,
    Link,
    ModelUse,
    Pieces,
    Prompt,
    Ref,
    Schedule,
    Trigger,
    Variable,
)
from zeitbuch.core.pricing.rate_card import ModelRate, RateCard

FACTS = EstateFacts(
    today="2026-11-15",
    people=(Person("Maren Dahl", "maren@x.example", "Desk"), Person("Tor Vik", left=True)),
    own_operations={"harbour": ("dock.",)},
)
CARD = RateCard(
    currency="EUR", model=(ModelRate(name="old", retires=date(2026, 1, 1), replaced_by="new"), ModelRate(name="new"))
)
SHELF = Pieces(store="Shelf")
LONG = "Read the letter of a passenger and say in plain words what the desk has to do about"


def rows(name: str, *flows: Flow, where: str = "", text: str = "") -> list[dict[str, Any]]:
    catalogue = CATALOGUES[name]
    condition = parse_condition(where, catalogue.facts) if where else None
    return catalogue_rows(catalogue, EstateView(flows, CARD, FACTS), text, condition)


def marks(name: str, *flows: Flow) -> list[list[str]]:
    return [row["marks"] for row in rows(name, *flows)]


def uses(name: str, prompt: str = "Hi", key: str = "m", **more: Any) -> Any:
    return step(key, "model", model=ModelUse(name=name, prompts=(Prompt(text=prompt),), **more))


def test_connections() -> None:
    one = flow(
        step("a", "send", effect="send", connection="c"),
        connections=(
            Connection(id="c", name="Desk mail", service="mailbox", account="desk@x.example"),
            Connection(id="d", name="test2", service="table"),
        ),
    )
    two = flow(
        step("a", connection="c"),
        id="g",
        name="Other",
        connections=(
            Connection(id="c", name="Office", service="mailbox", account="desk@x.example"),
            Connection(id="p", name="Maren's box", account="maren@x.example"),
        ),
    )
    first, unused, office, person = rows("connections", one, two)
    assert (first["name"], first["steps"], first["effects"], first["used_by"]) == (
        "Desk mail",
        1,
        ["send"],
        ["Refunds / A"],
    )
    assert first["marks"] == ["same account as Office"] and office["marks"] == ["same account as Desk mail"]
    assert unused["marks"] == ["unclear name", "unused"] and person["marks"] == ["unused", "account of a person"]
    assert [row["name"] for row in rows("connections", one, two, where="flows=0 and marks=unused")] == [
        "test2",
        "Maren's box",
    ]


def test_prompts_and_models() -> None:
    one = flow(
        uses("old", f"{LONG} Oslo", temperature=0.7, max_output=50),
        uses("Old", f"{LONG} Bergen", "n"),
        uses("new", f"{LONG} Oslo", "o"),
    )
    first, second = rows("prompts", one)
    assert (
        first["used_by"] == ["Refunds / M", "Refunds / O"]
        and "in 2 places" in first["marks"]
        and first["language"] == "en"
        and 15 < first["tokens"] < 25
    )
    assert second["marks"] == ["nearly that of ‘M’ of ‘Refunds’ (‘Bergen’ for ‘Oslo’)"]
    assert [(row["name"], row["temperature"], row["cap"], row["marks"]) for row in rows("models", one)] == [
        ("Old", "not stated", "not stated", ["also written old", "not on the rate card"]), ("new", "not stated", "not stated", ["no price today"]),
        ("old", "0.7", "50", ["also written Old", "gone since 2026-01-01", "no price today"]),
    ]  # fmt: skip
    assert [row["replaced_by"] for row in rows("models", one, where="name=old and replaced_by=new")] == ["new"]
    assert marks("models", flow(AGENT)) == [["not on the rate card"]]


def test_tools_and_variables() -> None:
    pays = flow(AGENT, PAYS, step("q", "tool", effect="read", inputs=(given("name", None, decided="model"), given("limit", 3))), step("r", "memory"),
                links=(Link(source="t", target="a"), *[Link(source=key, target="a", role="attach") for key in "pqr"]))  # fmt: skip
    pay, find = rows("tools", pays)
    assert pay["marks"] == ["acts, and nobody approves it"] and (find["by_model"], find["given"], find["marks"]) == (
        ["name"],
        ["limit"],
        ["no description"],
    )
    used = flow(
        step("a", inputs=(given("x", "{v}", refs=(Ref(variable="v", text="{v}"),)),)),
        variables=(Variable(name="v", value="CHANGE_ME"), Variable(name="w", value="")),
    )
    other = flow(step("a"), id="g", variables=(Variable(name="v", value="x"),))
    assert marks("variables", used, other) == [
        ["placeholder", "another value in another flow"],
        ["unused", "empty"],
        ["unused", "another value in another flow"],
    ]


def test_the_value_of_a_variable_is_shown_as_exports_write_it() -> None:
    values: list[tuple[Any, str]] = [({"on": True}, '{"on":true}'), (False, "false"), (3, "3"), ("3", "3"), (None, "")]
    made = flow(step("a"), variables=tuple(Variable(name=f"v{n}", value=value) for n, (value, _) in enumerate(values)))
    assert [row["value"] for row in rows("variables", made)] == [said for _, said in values]


def test_stores_hosts_and_operations() -> None:
    fills = step("e", "embed", model=ModelUse(name="a"), pieces=SHELF)
    one = flow(fills, step("r", "retrieve", effect="read", model=ModelUse(name="b"), pieces=SHELF), step("w", "write", effect="write", connection="c"), step("o", "read", effect="read", connection="d"),
               connections=(Connection(id="c", name="Ledger"), Connection(id="d", name="Timetable")))  # fmt: skip
    assert [(row["name"], row["marks"]) for row in rows("stores", one)] == [
        ("Shelf", ["several models"]),
        ("Ledger", ["read by no flow"]),
    ]
    calls = flow(
        step(
            "a",
            inputs=(
                given("url", "http://localhost:80/x"),
                given("to", "Desk@X.example"),
                given("page", "https://api.your-company.com/v1 and https://[bad"),
            ),
        ),
        uses("m", "see https://prompt.example"),
    )
    assert [(row["name"], row["kind"], row["paths"], row["marks"]) for row in rows("hosts", calls)] == [
        ("localhost", "http", ["/x"], ["only one machine or network reaches it", "not encrypted"]), ("api.your-company.com", "https", ["/v1"], ["placeholder"]),
        ("desk@x.example", "mail", [], []),
    ]  # fmt: skip
    foreign = flow(step("a", operation="guest.x"), step("b", "other", operation="dock.y"), format="harbour")
    assert [(row["operation"], row["marks"]) for row in rows("operations", foreign)] == [
        ("guest.x", ["of a third party"]),
        ("", []),
        ("dock.y", ["not classified"]),
    ]


def test_people_and_schedules() -> None:
    asks = step("o", "approve", approval=Approval(approvers=("MAREN@x.example", "{t.boss}")))
    one = flow(asks, owners=("Maren Dahl", "Pia Ny"))
    two = flow(step("a"), id="g", owners=("Tor Vik",), connections=(Connection(id="c", account="maren@x.example"),))
    assert [(row["name"], row["owns"], row["approves"], row["marks"]) for row in rows("people", one, two)] == [
        ("Maren Dahl", 1, 1, ["flows act under the account"]), ("Tor Vik", 1, 0, ["only owner of 1", "has left"]), ("Pia Ny", 1, 0, ["not among the workspace's people"]),
    ]  # fmt: skip

    def at(cron: str, key: str, **more: Any) -> Flow:
        return flow(uses("m"), id=key, name=key, triggers=(Trigger(id="t", kind="schedule", schedule=Schedule(cron=cron, **more)),))  # fmt: skip

    plan = rows(
        "schedules",
        at("30 2 * * *", "a", zone="Europe/Oslo"),
        at("0 8,20 * * *", "b"),
        at("0 8 * * *", "c", zone="UTC"),
        at("*/5 * * * *", "d", zone="UTC"),
    )
    assert [(row["time"], row["flow"]) for row in plan] == [
        ("02:30", "a"),
        ("08:00", "b"),
        ("08:00", "c"),
        ("20:00", "b"),
        ("often", "d"),
    ]
    assert (
        plan[0]["marks"] == ["skipped or doubled by a clock change"]
        and plan[1]["marks"] == ["no time zone", "with 1 other"]
        and plan[4]["marks"] == []
    )


@pytest.mark.parametrize("name", [name for name in WHAT if name != "plugins"])
def test_every_catalogue_of_the_demo(demo: Path, run: Run, name: str) -> None:
    assert set(WHAT) == {*CATALOGUES, "plugins"}
    told = json.loads(run("list", name, "-f", "json", cwd=demo).out)
    assert told["rows"] and all(
        set(row) == {column.key for column in CATALOGUES[name].all_columns} for row in told["rows"]
    )
    assert f"({name}) of 17 flows; " in run("list", name, cwd=demo).out
    marked = json.loads(run("list", name, "--where", "marks", "-f", "json", cwd=demo).out)["rows"]
    assert marked == [row for row in told["rows"] if row["marks"]]
    word = str(next(iter(told["rows"][0].values())))
    assert told["rows"][0] in json.loads(run("list", name, "--text", word.upper(), "-f", "json", cwd=demo).out)["rows"]


def test_what_cannot_be_listed(demo: Path, run: Run) -> None:
    ran = run("list", "models", "--where", "modl=x", cwd=demo)
    assert ran.code == 2 and "expected a fact that is known, found 'modl'" in ran.err
    assert run("list", "boats", cwd=demo).code == 2
    assert "9 more of 10 rows are not shown" in run("list", "hosts", "--top", "1", cwd=demo).out


def test_conditions_of_the_inventory(demo: Path, run: Run) -> None:
    def ids(*options: str) -> set[str]:
        return {one["id"] for one in json.loads(run("inventory", *options, "-f", "json", cwd=demo).out)["flows"]}

    assert ids("--where", "kind=agent and cost>5") == {"letters", "SH-1090", "TM-210"}
    assert ids("--where", "kind=agent", "--owner", "brekke") == {"letters"} == ids("--id", "LETT*")
    assert ids("--where", "month.calls>1000") == ids("--where", "not (month.calls<=1000)") & ids(
        "--where", "month.calls"
    )
    assert ids("--service", "mailbox") & ids("--connection", "office") and ids("--state", "draft") == set()
    ran = run("inventory", "--where", "cots>5", cwd=demo)
    assert ran.code == 2 and "did you mean cost?" in ran.err
    assert run("inventory", "--state", "onn", cwd=demo).code == 2

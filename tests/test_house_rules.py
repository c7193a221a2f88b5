# ruff: noqa: E501  (cases are easier to compare side by side)
"""Conditions, rules of the house, checks of other packages, and what is new since an earlier state."""

from __future__ import annotations

import json
import tomllib
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given as drawn
from hypothesis import strategies as st

from conftest import Run
from test_checks import flow, given, step
from zeitbuch.core.checks.house_rules import check_of_rule
from zeitbuch.core.checks.records import Check, Hit, Rule
from zeitbuch.core.checks.registry import check_flows
from zeitbuch.core.checks.rule_facts import OVER, known_facts
from zeitbuch.core.checks.rule_page import EXAMPLES
from zeitbuch.core.model.conditions import Fact, parse_condition
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Connection, Link, ModelUse, Prompt, Schedule, Trigger

KNOWN = {name: Fact("") for name in ("kind", "cost", "name", "owner", "note", "off")} | {"decided": Fact("", 1)}
FACTS: dict[str, Any] = {
    "kind": "send",
    "cost": 7,
    "name": "Copy of X",
    "owner": ("Maren Dahl", "Tor"),
    "note": None,
    "off": False,
    "decided": ["model"],
}


def holds(text: str) -> bool:
    return parse_condition(text, KNOWN).holds(lambda name, given: FACTS[name])


@pytest.mark.parametrize(("text", "wanted"), [
    ("kind=send", True), ("kind=SEND", True), ("kind!=send", False), ("kind=read or kind=send", True), ("not kind=read and cost>5", True),
    ("cost>=7 and cost<=7", True), ("cost<7", False), ("cost=7", True), ("cost=7.5", False), ('name ~ "copy of"', True), ("name=*x", True),
    ("owner=*dahl", True), ("owner!=tor", False), ("owner!=nobody", True), ("note", False), ("note=x", False), ("note>3", False), ("off=no", True),
    ("decided(recipient)=model", True), ("(kind=read or kind=send) and not (cost>9)", True), ("kind=read or kind=read and cost>5", False),
])  # fmt: skip
def test_conditions(text: str, wanted: bool) -> None:
    assert holds(text) is wanted


@pytest.mark.parametrize(("text", "said"), [
    ("knd=send", "did you mean kind?"), ("kind=", "not understood at"), ("cost>much", "expected a number behind cost >"),
    ("decided=model", "expected decided(WORD)"), ("kind(x)=y", "expected kind, found"), ("kind=send nd cost>3", "not understood at nd"),
    ("", "not understood at its end"), ("zzzzzz", "known: "), ("kind=send and", "not understood"),
])  # fmt: skip
def test_what_is_no_condition_is_refused(text: str, said: str) -> None:
    with pytest.raises(ZeitbuchError) as caught:
        parse_condition(text, KNOWN)
    assert said in str(caught.value)


@drawn(st.recursive(st.sampled_from(["kind=send", "cost>9", "note", "off=no"]), lambda inner: st.one_of(
    st.tuples(inner, st.sampled_from(["and", "or"]), inner).map(lambda t: f"({t[0]} {t[1]} {t[2]})"), inner.map(lambda t: f"not ({t})")), max_leaves=8))  # fmt: skip
def test_and_or_and_not_are_those_of_logic(text: str) -> None:
    plain = (
        text.replace("kind=send", "True").replace("cost>9", "False").replace("note", "False").replace("off=no", "True")
    )
    assert holds(text) is eval(plain)


def told(text: str, *flows: Any) -> list[str]:
    rule = tomllib.loads(text)
    return [one.message for one in check_flows(flows, checks=[check_of_rule(Rule(**rule), set())])]


def test_the_ten_rules_of_the_page_find_what_they_say() -> None:
    send = step(
        "s",
        "send",
        effect="send",
        connection="c",
        inputs=(given("to", None, decided="model", role="recipient"), given("sum", 500, role="amount")),
    )
    label = step(
        "m", "model", model=ModelUse(name="fulmar-large", task="label", prompts=(Prompt(text="word " * 2500),))
    )
    agent = step("a", "agent", model=ModelUse(name="m", max_turns=20))
    bad = flow(send, label, agent, step("h", "http"), step("p", effect="spend"), owners=(), state="on", triggers=(Trigger(id="t", kind="schedule", schedule=Schedule(cron="0 8 * * *", zone="UTC")),),
               connections=(Connection(id="c", name="Mail", service="mailbox", account="x@else.example"),))  # fmt: skip
    good = flow(step("a", "read", effect="read"), folder="Desk", state="on")
    assert len(EXAMPLES) == 10
    for title, text in EXAMPLES:
        assert told(text, bad), title
        assert not told(text, good), title
    assert told(EXAMPLES[7][1], bad) == ["‘S’: an amount of 500"]


def test_every_fact_can_be_asked_for() -> None:
    full = flow(step("d", "decide"), step("a", "approve"), step("m", "model", model=ModelUse(name="x", prompts=(Prompt(text="Hi"),)), inputs=(given("to", "x"),)),
                links=(Link(source="t", target="d"), Link(source="d", target="a"), Link(source="a", target="m")))  # fmt: skip
    for over in OVER:
        for name, fact in known_facts(over).items():
            asked = f"{name}(approve)" if fact.arguments else name
            rule = Rule("r", f"{asked} or not {asked}", "x", "y", over)
            assert check_flows([full], checks=[check_of_rule(rule, set())]), (over, name)
    behind = 'code = "r"\nwhere = "behind(approve) and not ahead_of(approve)"\nsentence = "x"\nreason = "y"'
    assert told(behind, full) == ["‘M’: x"]


# -- the command --------------------------------------------------------------------------------------------------------

NATIVE = {"zeitbuch": 1, "flows": [{"id": "f", "name": "Refunds", "description": "Pays.", "owners": ["Maren Dahl"], "triggers": [{"id": "t", "kind": "form"}],
          "steps": [{"id": "a", "kind": "http", "name": "Call", "operation": "web.get"}], "links": [{"source": "t", "target": "a"}]}]}  # fmt: skip
RULE = '[[rule]]\ncode = "no-limit"\nwhere = "kind=http and not timeout"\nsentence = "has no time limit ({operation})"\nreason = "it may hang"\n'


def test_rules_of_the_workspace_and_rules_to_try(tmp_path: Path, run: Run) -> None:
    (tmp_path / "x.json").write_text(json.dumps(NATIVE))
    (tmp_path / "zeitbuch.toml").write_text('sources = ["x.json"]\n' + RULE)
    (found,) = json.loads(run("check", "-f", "json").out)["findings"]
    assert (found["code"], found["severity"], found["message"]) == (
        "no-limit",
        "medium",
        "‘Call’: has no time limit (web.get)",
    )
    assert run("check", "--fail-on", "medium").code == 1 and "it may hang" in run("check", "--explain", "no-limit").out
    (tmp_path / "r.toml").write_text(RULE.replace("no-limit", "other"))
    assert [one["code"] for one in json.loads(run("check", "--try", "r.toml", "-f", "json").out)["findings"]] == [
        "other"
    ]
    for wrong, said in (
        (RULE.replace("timeout", "timeuot"), "did you mean timeout?"), (RULE.replace("no-limit", "placeholder-text"), "expected a code of its own"),
        (RULE.replace("reason", "why"), "why"), (RULE.replace("{operation}", "{operatoin}"), "did you mean operation"), ("", "expected at least one [[rule]]"),
    ):  # fmt: skip
        (tmp_path / "r.toml").write_text(wrong)
        ran = run("check", "--try", "r.toml")
        assert ran.code == 2 and said in ran.err and "r.toml" in ran.err, ran.err
    (tmp_path / "zeitbuch.toml").write_text('sources = ["x.json"]\n\n' + RULE.replace("timeout", "timeuot"))
    assert "zeitbuch.toml:3: error: expected a fact that is known, found 'timeuot'" in run("check").err


def test_what_is_new_since_and_exceptions_for_all(tmp_path: Path, run: Run) -> None:
    for name, steps in (("old", ["CHANGE_ME"]), ("new", ["CHANGE_ME", "TODO"])):
        flow_of = json.loads(json.dumps(NATIVE))
        flow_of["flows"][0]["steps"] = [
            {"id": f"s{n}", "kind": "http", "inputs": [{"name": "code", "value": word}]} for n, word in enumerate(steps)
        ]
        flow_of["flows"][0]["links"] = [{"source": "t", "target": f"s{n}"} for n in range(len(steps))]
        (tmp_path / f"{name}.json").write_text(json.dumps(flow_of))
    ran = run("check", "new.json", "--since", "old.json", "--fail-on", "high")
    assert (
        ran.code == 1 and "new since old.json: 1 high" in ran.out and "TODO" in ran.out and "CHANGE_ME" not in ran.out
    )
    assert run("check", "old.json", "--since", "old.json", "--fail-on", "low").code == 0
    (tmp_path / "zeitbuch.toml").write_text('sources = ["new.json"]\n')
    assert run("check", "--accept-all", "-o", "accept.toml").code == 0
    written = tomllib.loads((tmp_path / "accept.toml").read_text())["accept"]
    assert [(one["code"], one["flow"], one["step"]) for one in written] == [
        ("placeholder-text", "f", "s0"),
        ("placeholder-text", "f", "s1"),
    ]
    (tmp_path / "zeitbuch.toml").write_text('sources = ["new.json"]\n' + (tmp_path / "accept.toml").read_text())
    ran = run("check", "--fail-on", "low")
    assert ran.code == 0 and "2 accepted" in ran.out


def test_checks_of_other_packages(monkeypatch: pytest.MonkeyPatch) -> None:
    from zeitbuch.app import check_rows
    from zeitbuch.plugins.entry_points import PlugIn

    row = Check("quay-late", "low", "x", "x", "x", "x", "x", lambda view: [Hit(None, "late")])

    def plug(value: Any) -> PlugIn:
        return PlugIn("zeitbuch.checks", "quay", "zeitbuch-quay", "1", "quay:CHECKS", value, None)  # fmt: skip

    monkeypatch.setattr(check_rows, "find_plugins", lambda group: (plug((row,)),))
    assert check_rows.all_checks()["quay-late"] is row and check_rows.check_problem(plug(row)) is None
    for wrong, said in (
        (3, "found int"),
        (row._replace(code="step-missing"), "a code that is new"),
        (row._replace(severity="dire"), "found 'dire'"),
    ):
        problem = check_rows.check_problem(plug(wrong))
        assert problem is not None and said in problem.message


def test_findings_are_ordered_by_money(demo: Path, run: Run) -> None:
    found = json.loads(run("check", "-f", "json", cwd=demo).out)
    rows = [one for one in found["findings"] if one["severity"] == "low" and one["certain"]]
    months = [one["month"] for one in rows if one["month"] is not None]
    assert found["currency"] == "EUR" and len(months) > 3 and months == sorted(months, reverse=True)

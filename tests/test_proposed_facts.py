"""What a proposal says of approvals, waits, time limits, joins, pieces, inputs and the facts of flows."""

from __future__ import annotations

from typing import Any

import pytest

from scores import read_with
from zeitbuch.core.model.records import Flow
from zeitbuch.readers.infer.facts import input_roles, kind_facts, trigger_facts, unclear_wait
from zeitbuch.readers.infer.fields import find_columns
from zeitbuch.readers.infer.spans import unit_in_key, unit_of
from zeitbuch.readers.infer.suggest import Suggestion, suggest_dialect
from zeitbuch.readers.infer.survey import find_leaves
from zeitbuch.readers.infer.value_kinds import kind_told


def columns_of(*records: dict[str, Any]) -> Any:
    return find_columns([list(find_leaves(record)) for record in records])[0]


FACTS = [
    ("wait", [{"delay": "15 min"}, {"delay": "PT2H"}], {"wait": "delay"}),
    ("wait", [{"waitSeconds": 30}], {"wait": "waitSeconds"}),
    ("wait", [{"delay_minutes": 30}], {"wait": "delay_minutes", "wait_unit": "minutes"}),
    ("wait", [{"pauseMs": 1500}], {"wait": "pauseMs", "wait_unit": "milliseconds"}),
    ("wait", [{"delay": 30}], {}),  # of what? it is asked
    ("wait", [{"wait_time": 30}], {}),  # "time" is an hour in Norwegian, and no unit in English
    ("wait", [{"xo": "15 min"}], {"wait": "xo"}),  # the values say it
    ("wait", [{"until": "2026-12-01T08:00:00Z"}], {"wait_until": "until"}),
    ("approve", [{"approver": "duty officer"}], {"approvers": "approver"}),
    ("approve", [{"reviewers": ["purser", "duty officer"]}], {"approvers": "reviewers"}),
    ("approve", [{"xo": "purser@ferry.example"}], {"approvers": "xo"}),
    ("approve", [{"text": "May this letter go out to all passengers?"}], {}),
    (
        "approve",
        [{"who": "purser", "after_expiry": "auto-approve"}, {"who": "mate", "after_expiry": "decline"}],
        {"approvers": "who", "silence": "after_expiry", "silences": {"auto-approve": "approves", "decline": "rejects"}},
    ),
    ("approve", [{"who": "purser", "onTimeout": "approve or reject"}], {"approvers": "who"}),  # two meanings are none
    ("approve", [{"who": "purser", "votes": 2}], {"approvers": "who", "approvals_needed": "votes"}),
    ("join", [{"mode": "any"}, {"mode": "all"}], {"join": "mode", "joins": {"all": "all", "any": "once"}}),
    ("join", [{"mode": "green"}], {}),
    ("embed", [{"chunkSize": 500, "overlap": 50, "index": "rules"}], {"piece_size": "chunkSize", "piece_overlap": "overlap", "store": "index"}),
    ("retrieve", [{"top_k": 4, "collection": "rules"}], {"pieces_found": "top_k", "store": "collection"}),
    ("subflow", [{"waitForEnd": False}], {"awaits": "waitForEnd"}),
    ("loop", [{"parallel": 4, "onError": "skip"}], {"concurrency": "parallel", "on_item_fault": "onError", "on_item_faults": {"skip": "continue"}}),
    ("send", [{"delay": "15 min", "approver": "purser"}], {}),  # other kinds have no such facts
]  # fmt: skip


@pytest.mark.parametrize(("kind", "records", "facts"), FACTS)
def test_facts_of_a_kind(kind: str, records: list[dict[str, Any]], facts: dict[str, Any]) -> None:
    assert kind_facts(kind, columns_of(*records), set()) == facts


def test_a_path_that_says_something_else_is_no_fact() -> None:
    assert kind_facts("approve", columns_of({"owner": {"person": "Hedda"}}), {"owner.person"}) == {}


@pytest.mark.parametrize(
    ("key", "unit"),
    [("limitSeconds", "seconds"), ("every_min", ""), ("minutes", "minutes"), ("timeoutMs", "milliseconds"), ("time", ""),
     ("ventetid_timer", ""), ("dauer_stunden", "hours"), ("size", "")],
)  # fmt: skip
def test_the_key_tells_the_unit_where_it_can_only_mean_one(key: str, unit: str) -> None:
    assert unit_in_key((key,)) == unit


def test_values_that_say_their_unit_need_no_key() -> None:
    assert unit_of(("limit",), ["20 s", "PT1M"]) == "seconds"
    assert unit_of(("limit",), ["20 s", "30"]) is None
    assert unit_of(("limit",), [20]) is None


def test_unclear_waits() -> None:
    assert unclear_wait("wait", columns_of({"delay": 30, "size": 3}), "") == ("delay",)
    assert unclear_wait("wait", columns_of({"xo": 30}), "") == ("xo",)
    assert unclear_wait("wait", columns_of({"xo": 30, "yo": 4}), "") == ()
    assert unclear_wait("wait", columns_of({"delay": 30}), "delay") == ()
    assert unclear_wait("send", columns_of({"delay": 30}), "") == ()


def test_roles_of_inputs() -> None:
    columns = columns_of({"set": {"to": "crew@ferry.example", "body": "All hands", "cc": ["a@b.example"], "page": 3}})
    assert input_roles("send", columns, ("set",), set()) == {"to": "recipient", "body": "content", "cc": "recipient"}
    assert input_roles("send", columns, ("set",), {"set.to"}) == {"body": "content", "cc": "recipient"}
    assert input_roles("model", columns, ("set",), set()) == {}
    assert input_roles("http", columns_of({"xo": "https://desk.example/v1"}), (), set()) == {"xo": "address"}


def test_callers_of_a_web_address() -> None:
    assert trigger_facts("webhook", columns_of({"auth": "key", "path": "/in"})) == {"authentication": "auth"}
    assert trigger_facts("schedule", columns_of({"auth": "key"})) == {}


def test_kinds_that_only_values_tell() -> None:
    assert kind_told(columns_of({"a": "https://desk.example/v1", "b": "GET"}))[0] == "http"
    assert kind_told(columns_of({"a": "https://desk.example/v1", "b": "later"})) == ("", "")
    assert kind_told(columns_of({"a": "for row in rows:\n    return row"}))[0] == "code"
    assert kind_told(columns_of({"a": "purser@ferry.example", "b": "May this go out?"})) == (
        "",
        "",
    )  # perhaps an approval


# -- whole proposals --------------------------------------------------------------------------------------------------


def ferry(at: int, **more: Any) -> dict[str, Any]:
    """A flow with an approval, a wait and a call that may take its time."""
    steps = [
        {"id": "a", "title": f"Morning {at}", "type": "cron.trigger", "set": {"cron": "0 7 * * *"}},
        {"id": "b", "title": f"Ask the purser {at}", "type": "approval", "set": {"approver": "purser", "onTimeout": "reject", "note": 3}},
        {"id": "c", "title": f"Hold on {at}", "type": "delay", "set": {"duration": 5 + at, "page": 2}},
        {"id": "d", "title": f"Call the desk {at}", "type": "http.get", "timeout": 30, "set": {"url": "https://desk.example/v1", "method": "GET"}},
        {"id": "e", "title": f"Tell the crew {at}", "type": "mail.send", "timeout": 20, "set": {"to": "crew@ferry.example", "text": "It is done"}},
    ]  # fmt: skip
    arrows = [{"from": x, "to": y} for x, y in ("ab", "bc", "cd", "de")]
    return {"id": f"f{at}", "name": f"Letters of pier {at}", "steps": steps, "arrows": arrows, **more}


def propose(flows: list[dict[str, Any]], **answers: str) -> Suggestion:
    made = suggest_dialect(list(flows), "probe", {key.replace("_", " "): word for key, word in answers.items()})
    assert made is not None
    return made


def read(made: Suggestion, flow: dict[str, Any]) -> Flow:
    (found,) = read_with(made.dialect, [flow])
    return found


def test_what_a_proposal_knows_is_read() -> None:
    flows = [ferry(at) for at in range(3)]
    by_id = {step.id: step for step in read(propose(flows), flows[0]).steps}
    approval = by_id["b"].approval
    assert approval is not None
    assert (approval.approvers, approval.silence) == (("purser",), "rejects")
    assert [binding.role for binding in by_id["e"].inputs] == ["recipient", "content"]


def test_numbers_without_a_unit_are_asked_and_claimed_only_then() -> None:
    flows = [ferry(at) for at in range(3)]
    made = propose(flows)
    asked = {question.id: question for question in made.questions}
    assert {"unit of timeout", "unit of wait delay"} <= asked.keys()
    assert asked["unit of wait delay"].example == "set.duration = 5, 6, 7"
    before = {step.id: step for step in read(made, flows[0]).steps}
    assert before["c"].pause is None
    assert before["d"].timeout is None
    told = suggest_dialect(flows, "probe", {"unit of timeout": "milliseconds", "unit of wait delay": "minutes"})
    assert told is not None
    after = {step.id: step for step in read(told, flows[0]).steps}
    assert after["c"].pause is not None
    assert (after["c"].pause.seconds, after["d"].timeout) == (300.0, 0.03)
    none = suggest_dialect(flows, "probe", {"unit of timeout": "none"})
    assert none is not None
    assert not none.dialect.step.timeout


def test_an_interval_without_a_unit_is_asked() -> None:
    flows = [ferry(at) for at in range(3)]
    for flow in flows:
        flow["steps"][0]["set"] = {"every": 2}
    made = propose(flows)
    assert "unit cron.trigger" in {question.id for question in made.questions}
    assert read(made, flows[0]).triggers[0].schedule is None
    told = suggest_dialect(flows, "probe", {"unit cron.trigger": "hours"})
    assert told is not None
    schedule = read(told, flows[0]).triggers[0].schedule
    assert schedule is not None
    assert schedule.every == 7200


def test_the_place_of_a_box_is_no_interval() -> None:
    flows = [ferry(at) for at in range(3)]
    for flow in flows:
        flow["steps"][0]["set"] = {"every": 2}
        for number, step in enumerate(flow["steps"]):
            step["spot"] = {"x": 40 * number, "y": 90}
    made = propose(flows)
    rule = next(rule for rule in made.dialect.kind if rule.trigger)
    assert not rule.every
    question = next(question for question in made.questions if question.id == "unit cron.trigger")
    assert question.example.startswith("set.every")


def test_who_takes_the_failures_of_a_flow() -> None:
    flows = [ferry(at, errorFlow="f2") for at in range(2)] + [ferry(2)]
    made = propose(flows)
    assert made.dialect.flow.fault_handlers == "errorFlow"
    assert read(made, flows[0]).fault_handlers == ("f2",)
    alone = propose([ferry(at, onError="stop") for at in range(3)])
    assert not alone.dialect.flow.fault_handlers


def test_the_first_step_that_a_flow_names() -> None:
    flows = [ferry(at, startAt="b") for at in range(3)]
    for flow in flows:
        flow["arrows"] = flow["arrows"][1:]
    assert propose(flows).dialect.flow.first == "startAt"
    assert not propose([ferry(at, last="e") for at in range(3)]).dialect.flow.first  # links lead to it


def test_what_holds_the_steps_is_no_trigger() -> None:
    """An envelope with a field of its own beside the steps names many steps: it starts none."""
    flows = []
    for at in range(3):
        inner = ferry(at)
        flows.append(
            {
                "id": inner["id"],
                "name": inner["name"],
                "data": {"handler": f"f{at}", "steps": inner["steps"], "arrows": inner["arrows"]},
            }
        )
    assert propose(flows).dialect.trigger is None


def test_a_call_may_change_what_its_method_says() -> None:
    flows = [ferry(at) for at in range(3)]
    for number, flow in enumerate(flows):
        flow["steps"][3]["set"]["method"] = ("GET", "POST", "delete")[number]
    made = propose(flows)
    rule = next(rule for rule in made.dialect.kind if rule.kind == "http")
    assert rule.method == "set.method"
    steps = [next(step for step in read(made, flow).steps if step.id == "d") for flow in flows]
    assert [step.effect for step in steps] == ["read", "write", "delete"]
    assert all("method" in {binding.name for binding in step.inputs} for step in steps)  # and it stays an input

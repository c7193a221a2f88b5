"""Rows in tables of their own: put into the flows and steps that they name, read as a dialect says, and proposed."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

import pytest

from conftest import Run
from scores import read_with
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Flow
from zeitbuch.readers.dialects.rules import Dialect, parse_dialect
from zeitbuch.readers.infer.suggest import Suggestion, suggest_dialect

HEAD = 'dialect = 1\nname = "quays"\n[signature]\nall = ["$.plans"]\n[flow]\nat = "$.plans[*]"\nid = "@key"\n'
STEP = '[step]\nat = "$.tasks[*]"\noperation = "does"\nsettings = "given"\n[order]\n'
STARTS = '[trigger]\nat = "$.starts[*]"\noperation = ""\nsettings = "."\ndisabled = "resting"\n'
KINDS = '[[kind]]\nhas = "clock"\ntrigger = "schedule"\ncron = "clock"\n[[kind]]\nhas = "door"\ntrigger = "webhook"\nevent = "door"\n'
CLOCKS = '[[gather]]\nat = "$.clocks[*]"\nby = "plan"\nto = "$.plans[*]"\ninto = "starts"\nequals = "@key"\n'
DOORS = CLOCKS.replace("clocks", "doors")


def plans() -> dict[str, Any]:
    """Two flows under their names; anew each time, since a document is brought into shape in place."""
    tide = [{"id": "a", "does": "look"}, {"id": "b", "does": "ask"}]
    return {"tide": {"tasks": tide}, "dock": {"tasks": [{"id": "c", "does": "look"}]}}


def dialect(text: str) -> Dialect:
    return parse_dialect(text, "quays.toml")


def test_tables_of_two_sorts_fill_one_list_of_the_flow_that_its_key_names() -> None:
    document = {
        "plans": plans(),
        "clocks": [{"plan": "tide", "clock": "5 7 * * *"}, {"plan": "nobody", "clock": "1 1 * * *"}],
        "doors": [{"plan": "tide", "door": "/in"}, {"plan": "dock", "door": "/out", "resting": True}],
    }
    tide, dock = read_with(dialect(HEAD + CLOCKS + DOORS + STEP + STARTS + KINDS), [document])
    assert [(one.kind, one.event, one.enabled) for one in tide.triggers] == [
        ("schedule", "", True),
        ("webhook", "/in", True),
    ]
    assert [(one.kind, one.event, one.enabled) for one in dock.triggers] == [("webhook", "/out", False)]
    assert [one.origin.pointer for one in tide.triggers if one.origin] == ["/clocks/0", "/doors/0"]
    assert tide.around == {"clocks": [{"plan": "nobody", "clock": "1 1 * * *"}]} and tide.unread == {}


def test_a_key_that_the_records_have_is_no_place_for_rows() -> None:
    document = {"plans": {"tide": {"tasks": [], "starts": []}}, "clocks": [{"plan": "tide", "clock": "5 7 * * *"}]}
    with pytest.raises(ZeitbuchError, match="expected `into` to name a key that the records do not have"):
        read_with(dialect(HEAD + CLOCKS + STEP), [document])


def test_rows_of_a_name_and_a_value_are_the_settings_of_what_they_name() -> None:
    rows = [
        {"task": "b", "name": "brain", "is": "tern-2"},
        {"task": "b", "name": "note", "is": "x", "row": 7},
        {"task": "b", "name": "note", "is": "twice"},
        {"task": "a", "name": "", "is": "nameless"},
    ]
    gather = '[[gather]]\nat = "$.given[*]"\nby = "task"\nto = "$.plans[*].tasks[*]"\ninto = "given"\nname = "name"\nvalue = "is"\n'
    kinds = '[[kind]]\noperation = "ask"\nkind = "model"\nmodel = "given.brain"\n'
    tide, _ = read_with(dialect(HEAD + gather + STEP + kinds), [{"plans": plans(), "given": rows}])
    ask = tide.steps[1]
    assert ask.model is not None and ask.model.name == "tern-2"
    assert [(one.name, one.value) for one in ask.inputs if one.name == "note"] == [("note", "x")]
    kept = [value for step in tide.steps for one in step.inputs for value in (one.value,) if one.name == "@rest"]
    assert "7" in str(kept) and "twice" in str(kept) and "nameless" in str(kept)  # nothing is lost


TEXT = "Read the letter of passenger {0} and say in one word what it is about: a ticket, a berth, a tide."


def beside(keyed: bool) -> dict[str, Any]:
    """Flows that hold their steps, with clocks and addresses in tables beside them."""
    flows = [
        {
            "label": f"Quay work {at}",
            "steps": [
                {"name": "read", "op": "table.find", "args": {"table": "quays"}},
                {"name": "judge", "op": "llm.ask", "args": {"engine": "fulmar-mini-2", "question": TEXT.format(at)}},
                {"name": "tell", "op": "mail.send", "args": {"to": "quay@ferry.example", "text": "{{judge.answer}}"}},
            ],
        }
        for at in range(12)
    ]
    names = [f"quay-{at}" for at in range(12)]
    clocks = [{"flow": names[at], "cron": f"{at} 7 * * *", "active": at % 4 != 0} for at in range(12) if at % 3]
    hooks = [{"flow": names[at], "path": f"/quay/{at}", "method": "POST"} for at in range(0, 12, 3)]
    owners = [{"flow": name, "person": "Hedda Quist"} for name in names]
    held: Any = (
        dict(zip(names, flows, strict=True))
        if keyed
        else [{**one, "slug": n} for n, one in zip(names, flows, strict=True)]
    )
    return {"schedules": clocks, "webhooks": hooks, "owners": owners, "flows": held}


@pytest.mark.parametrize("keyed", [True, False])
def test_what_sets_flows_off_in_tables_beside_them_is_found(keyed: bool) -> None:
    made = suggest_dialect([beside(keyed)], "quays")
    assert made is not None and made.dialect.trigger is not None
    assert [(rule.at, rule.into) for rule in made.dialect.gather] == [
        ("$.schedules[*]", "triggers"),
        ("$.webhooks[*]", "triggers"),
        ("$.owners[*]", "owners"),
    ]
    flows = read_with(made.dialect, [beside(keyed)])
    assert [flow.triggers[0].kind for flow in flows] == ["webhook" if at % 3 == 0 else "schedule" for at in range(12)]
    assert [flow.id for flow in flows if not flow.triggers[0].enabled] == ["quay-4", "quay-8"]
    assert any("2 of 12 are off" in claim.words for claim in made.claims if claim.part == "trigger off")


def dump() -> dict[str, Any]:
    """Tables of a database: flows, steps, links, and the settings of steps one a row."""
    tables: dict[str, list[dict[str, Any]]] = {"flows": [], "nodes": [], "edges": [], "params": []}
    settings: list[tuple[str, dict[str, Any]]] = [
        ("schedule", {"cron": "{0} 5 * * *"}),
        ("http.request", {"url": "https://tide.example", "method": "GET"}),
        ("llm.ask", {"model": "fulmar-mini-2", "prompt": TEXT}),
        ("mail.send", {"to": "crew@ferry.example", "text": "Rough sea"}),
    ]
    for at in range(14):
        tables["flows"].append({"flow_id": at + 1, "flow_name": f"Mooring {at}"})
        for place, (operation, given) in enumerate(settings):
            node = 100 + 4 * at + place
            tables["nodes"].append(
                {"node_id": node, "flow_id": at + 1, "node_type": operation, "node_name": f"Step {place}"}
            )
            tables["params"] += [
                {"node_id": node, "param": key, "content": value.format(at)} for key, value in given.items()
            ]
            if place:
                tables["edges"].append({"flow_id": at + 1, "from_node": node - 1, "to_node": node})
    return tables


def test_settings_one_a_row_are_found_for_the_steps_they_name() -> None:
    made = suggest_dialect([dump()], "dump")
    assert made is not None
    assert [(rule.at, rule.to, rule.name, rule.value) for rule in made.dialect.gather] == [
        ("$.params[*]", "$.nodes[*]", "param", "content"),
        ("$.nodes[*]", "$.flows[*]", "", "value"),
        ("$.edges[*]", "$.flows[*]", "", "value"),
    ]
    flow: Flow = read_with(made.dialect, [dump()])[3]
    ask = next(step for step in flow.steps if step.kind == "model")
    assert ask.model is not None and ask.model.name == "fulmar-mini-2" and ask.model.prompts[0].text == TEXT.format(3)
    assert flow.triggers[0].schedule is not None and flow.triggers[0].schedule.cron == "3 5 * * *"
    assert isinstance(made, Suggestion) and len(flow.links) == 3


def test_a_trial_says_what_the_paths_within_triggers_find(run: Run, tmp_path: Path) -> None:
    document = {
        "plans": plans(),
        "clocks": [{"plan": "tide", "clock": "5 7 * * *"}],
        "doors": [{"plan": "dock", "door": "/out", "resting": True}],
    }
    (tmp_path / "x.json").write_text(json.dumps(document))
    step = STEP.replace("[order]", 'prompts = [{ path = "talk.*.says", speaker = "talk.*.who" }]\n[order]')
    text = HEAD + CLOCKS + DOORS + step + STARTS.replace("resting", "restin") + KINDS
    (tmp_path / "quays.toml").write_text(text)
    rows = run("dialect", "test", "x.json", "--dialect", "quays.toml", "--rules").out
    assert re.search(r"^trigger\.disabled +restin +0 +2 +nothing is there; `resting` is in 1 of 2", rows, re.M), rows
    assert re.search(r"^step\.prompts\.speaker +talk\.\*\.who +0 +3 ", rows, re.M), rows

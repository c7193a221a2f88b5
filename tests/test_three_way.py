"""Three ways: every change of each side since the base is told once, and as a conflict exactly where both touch the same."""

from __future__ import annotations

import copy
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import Run

Flow = dict[str, Any]
Act = Callable[[Flow], None]

BASE: Flow = {
    "id": "f",
    "name": "Refund",
    "triggers": [{"id": "t", "kind": "webhook"}],
    "steps": [
        {"id": "d", "kind": "decide", "name": "Amount"},
        {"id": "p", "kind": "approve", "name": "Treasurer"},
        {"id": "m", "kind": "model", "name": "Write", "model": {"name": "m1", "prompts": [{"role": "system", "text": "You write letters to passengers."}]}},
        {"id": "h", "kind": "http", "name": "Pay", "effect": "spend", "inputs": [{"name": "amount", "value": "1"}, {"name": "to", "value": "x"}]},
    ],
    "links": [
        {"source": "t", "target": "d"},
        {"source": "d", "target": "p", "role": "case", "label": "large", "condition": "amount > 100"},
        {"source": "d", "target": "m", "role": "case", "label": "small", "condition": "amount <= 100"},
        {"source": "p", "target": "m"},
        {"source": "m", "target": "h"},
    ],
}  # fmt: skip


def link(flow: Flow, source: str, target: str) -> dict[str, Any]:
    found: dict[str, Any] = next(one for one in flow["links"] if (one["source"], one["target"]) == (source, target))
    return found


def model(name: str) -> Act:
    return lambda flow: flow["steps"][2]["model"].update(name=name)


def prompt(text: str) -> Act:
    return lambda flow: flow["steps"][2]["model"]["prompts"][0].update(text=text)


def amount(value: str) -> Act:
    return lambda flow: flow["steps"][3]["inputs"][0].update(value=value)


def receiver(value: str) -> Act:
    return lambda flow: flow["steps"][3]["inputs"][1].update(value=value)


def limit(text: str) -> Act:
    return lambda flow: link(flow, "d", "p").update(condition=text)


def without_approval(flow: Flow) -> None:
    flow["steps"] = [step for step in flow["steps"] if step["id"] != "p"]
    flow["links"] = [one for one in flow["links"] if "p" not in (one["source"], one["target"])]
    flow["links"].append({"source": "d", "target": "m", "role": "case", "label": "large", "condition": "amount > 100"})


def renamed_approval(flow: Flow) -> None:
    flow["steps"][1]["name"] = "Chair"


def step_after(key: str) -> Act:
    def act(flow: Flow) -> None:
        flow["steps"].append({"id": key, "kind": "http", "name": key.title(), "effect": "write"})
        link(flow, "m", "h")["target"] = key
        flow["links"].append({"source": key, "target": "h"})

    return act


def nothing(flow: Flow) -> None:
    """No change."""


CASES: list[tuple[str, Act, Act, list[str]]] = [
    ("none", nothing, nothing, []),
    ("ours", model("m2"), nothing, ["only ours"]),
    ("theirs", nothing, model("m2"), ["only theirs"]),
    ("alike", model("m2"), model("m2"), ["both alike"]),
    ("one field", model("m2"), model("m3"), ["conflict"]),
    ("two fields of a step", model("m2"), prompt("You write short letters."), ["only ours", "only theirs"]),
    ("two inputs", amount("2"), receiver("y"), ["only ours", "only theirs"]),
    ("one input", amount("2"), amount("3"), ["conflict"]),
    ("two conditions of one arrow", limit("amount > 200"), limit("amount > 300"), ["conflict"]),
    ("a condition and a model", limit("amount > 200"), model("m2"), ["only ours", "only theirs"]),
    ("a step taken out that the other changed", without_approval, renamed_approval, ["conflict"]),
    ("a step taken out by both", without_approval, without_approval, ["both alike"]),
    ("steps at one place", step_after("log"), step_after("store"), ["conflict"]),
    ("a step and a model", step_after("log"), model("m2"), ["only ours", "only theirs"]),
]


def write(folder: Path, side: str, flows: list[Flow]) -> None:
    (folder / side).mkdir(exist_ok=True)
    for flow in flows:
        (folder / side / f"{flow['id']}.json").write_text(json.dumps({"zeitbuch": 1, "flows": [flow]}))


def states(run: Run, code: int | None = None) -> list[str]:
    ran = run("diff", "--base", "base", "ours", "theirs", "-f", "json")
    found = sorted(one["state"] for one in json.loads(ran.out)["changes"])
    assert ran.code == int("conflict" in found)
    return found


@pytest.mark.parametrize(("name", "ours", "theirs", "wanted"), CASES, ids=[case[0] for case in CASES])
def test_each_change_is_told_once(
    tmp_path: Path, run: Run, name: str, ours: Act, theirs: Act, wanted: list[str]
) -> None:
    sides = {"base": nothing, "ours": ours, "theirs": theirs}
    for side, act in sides.items():
        flow = copy.deepcopy(BASE)
        act(flow)
        write(tmp_path, side, [flow])
    assert states(run) == sorted(wanted)


def test_whole_flows(tmp_path: Path, run: Run) -> None:
    def flow(key: str, **more: Any) -> Flow:
        return {**copy.deepcopy(BASE), "id": key, "name": key.title(), **more}

    changed = flow("b")
    changed["steps"][2]["model"]["name"] = "m2"
    write(tmp_path, "base", [flow("a"), flow("b"), flow("c", steps=BASE["steps"][:1], links=[])])
    write(tmp_path, "ours", [flow("a"), flow("new", description="x", steps=BASE["steps"][:2], links=BASE["links"][:2])])
    write(
        tmp_path,
        "theirs",
        [flow("a"), changed, flow("new", description="y", steps=BASE["steps"][:2], links=BASE["links"][:2])],
    )
    ran = run("diff", "--base", "base", "ours", "theirs", "-f", "json")
    found = [(one["state"], one["flow"]) for one in json.loads(ran.out)["changes"]]
    assert ran.code == 1 and sorted(found) == [("both alike", "C"), ("conflict", "B"), ("conflict", "New")]
    text = run("diff", "--base", "base", "ours", "theirs").out
    assert "2 conflicts, 1 both alike." in text and "flow removed" in text


def test_steps_that_one_side_numbered_anew_are_the_same(tmp_path: Path, run: Run) -> None:
    ours, theirs = copy.deepcopy(BASE), copy.deepcopy(BASE)
    model("m2")(ours)
    model("m3")(theirs)
    text = json.dumps(theirs)
    for key in "dpmh":
        text = text.replace(f'"{key}"', f'"9{key}"')
    for side, flow in (("base", BASE), ("ours", ours), ("theirs", json.loads(text))):
        write(tmp_path, side, [flow])
    assert states(run) == ["conflict"]


def test_what_cannot_be_read_is_told(tmp_path: Path, run: Run) -> None:
    for side in ("base", "ours", "theirs"):
        write(tmp_path, side, [BASE, {**BASE, "id": "g", "name": "G"}])
    (tmp_path / "theirs" / "g.json").write_text("{")
    ran = run("diff", "--base", "base", "ours", "theirs")
    assert ran.code == 2 and "not compared: ‘G’" in ran.out and "flow removed" not in ran.out
    assert run("diff", "--base", "base", "ours", "theirs", "--only", "model").code == 2

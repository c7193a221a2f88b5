"""What a comparison tells first, and what follows from a change: the month, approvals, ways, conditions; and what is no change."""

from __future__ import annotations

import copy
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import Run
from zeitbuch.core.diff.change_types import CHANGE_KINDS, CONCERNS
from zeitbuch.core.model.plain_texts import plain_condition, plain_text, plain_value

Flow = dict[str, Any]
Told = list[tuple[str, str, str]]

BASE: Flow = {
    "id": "f",
    "name": "Refund",
    "description": "Pays back.",
    "triggers": [{"id": "t", "kind": "webhook"}],
    "steps": [
        {"id": "d", "kind": "decide", "name": "Amount"},
        {"id": "p", "kind": "approve", "name": "Treasurer"},
        {"id": "m", "kind": "model", "name": "Write", "model": {"name": "m1", "prompts": [{"role": "system", "text": "You write letters.\nBe kind.\n"}]}},
        {"id": "pay", "kind": "http", "name": "Pay", "effect": "spend", "inputs": [{"name": "sep", "value": ","}]},
        {"id": "mail", "kind": "send", "name": "Mail", "effect": "send"},
        {"id": "log", "kind": "write", "name": "Log", "effect": "write"},
    ],
    "links": [
        {"source": "t", "target": "d"},
        {"source": "d", "target": "p", "role": "case", "label": "large", "condition": "amount > 100"},
        {"source": "d", "target": "m", "role": "case", "label": "small", "condition": "amount <= 100"},
        {"source": "p", "target": "m", "role": "case", "label": "approved"},
        {"source": "p", "target": "log", "role": "case", "label": "refused"},
        {"source": "m", "target": "pay"},
        {"source": "pay", "target": "mail"},
        {"source": "mail", "target": "log"},
    ],
}  # fmt: skip


@pytest.fixture
def told(tmp_path: Path, run: Run) -> Callable[[Callable[[Flow], object]], Told]:
    """The changes that an edit of the flow is told as: type, where, remarks."""

    def tell(act: Callable[[Flow], object]) -> Told:
        flow = copy.deepcopy(BASE)
        act(flow)
        for name, one in (("o.json", BASE), ("n.json", flow)):
            (tmp_path / name).write_text(json.dumps({"zeitbuch": 1, "flows": [one]}))
        ran = run("diff", "o.json", "n.json", "-f", "json")
        assert ran.code in (0, 1), ran
        flows = json.loads(ran.out)["flows"]
        return [(c["type"], c["where"], "; ".join(c["remarks"])) for one in flows for c in one["changes"]]

    return tell


def link(flow: Flow, source: str, target: str) -> dict[str, Any]:
    return next(one for one in flow["links"] if (one["source"], one["target"]) == (source, target))  # type: ignore[no-any-return]


def without(flow: Flow, key: str, *more: dict[str, Any]) -> None:
    flow["steps"] = [step for step in flow["steps"] if step["id"] != key]
    flow["links"] = [one for one in flow["links"] if key not in (one["source"], one["target"])] + list(more)


def prompt(text: str) -> Callable[[Flow], object]:
    return lambda flow: flow["steps"][2]["model"]["prompts"][0].update(text=text)


NONE: list[Callable[[Flow], object]] = [
    prompt("You write letters.\r\nBe kind.\r\n"),
    prompt("You write letters.  \nBe kind."),
    lambda flow: flow.update(description="Pays back. \r\n"),
    lambda flow: link(flow, "d", "p").update(condition=" amount  >\t100 "),
    lambda flow: flow.update(name="Refund "),
]


@pytest.mark.parametrize("act", NONE)
def test_white_space_that_says_nothing_is_no_change(told: Callable[..., Told], act: Callable[[Flow], object]) -> None:
    assert told(act) == []


def test_white_space_that_says_something_is_a_change(told: Callable[..., Told]) -> None:
    assert told(lambda flow: flow["steps"][3]["inputs"][0].update(value=", "))[0][0] == "input"
    assert told(lambda flow: link(flow, "d", "p").update(condition="name = 'a  b'"))[0][0] == "condition"
    assert plain_condition("a  = 'x  y'") == "a = 'x  y'" and plain_condition('a\n== "  "') == 'a == "  "'
    assert (
        plain_text(" a \r\n\tb\t\r\n\n") == "a\n\tb"
        and plain_value(" ") == " "
        and plain_value({"k": ["a \nb"]}) == {"k": ["a\nb"]}
    )


def test_a_trigger_is_one_change(told: Callable[..., Told]) -> None:
    def add(flow: Flow) -> None:
        flow["triggers"].append({"id": "t2", "kind": "schedule", "schedule": {"every": 3600}})
        flow["links"].append({"source": "t2", "target": "m"})

    assert told(add) == [("trigger added", "the flow", "begins with ‘Write’")]


def test_an_approval_to_which_nothing_leads_is_bypassed(told: Callable[..., Told]) -> None:
    found = told(lambda flow: link(flow, "d", "p").update(target="m"))
    assert found == [
        (
            "approval bypassed",
            "‘Treasurer’",
            "‘Amount’ (large) leads to ‘Write’ now; ‘Pay’, ‘Mail’ and ‘Log’ without it",
        ),
        ("link rewired", "from ‘Amount’ (large)", ""),
    ]


def test_opposite_fates_of_an_approval_are_told_apart(told: Callable[..., Told]) -> None:
    large = {"source": "d", "role": "case", "label": "large", "condition": "amount > 100"}
    on = told(lambda flow: without(flow, "p", {**large, "target": "m"}))
    assert on == [
        (
            "approval removed",
            "‘Treasurer’ after ‘Amount’",
            "‘Amount’ (large) leads to ‘Write’ now; nobody approves ‘Pay’, ‘Mail’ and ‘Log’ any more",
        )
    ]
    ends = told(lambda flow: without(flow, "p", {**large, "target": "log"}))
    assert ends[0][2].endswith("nobody approves ‘Log’ any more; ‘Pay’ and ‘Mail’ no longer follow it")

    def swap(flow: Flow) -> None:
        one, other = link(flow, "p", "m"), link(flow, "p", "log")
        one["target"], other["target"] = "log", "m"

    assert {kind for kind, _, _ in told(swap)} == {"approval outcome"}


def test_a_condition_is_told_whatever_else_happens_there(told: Callable[..., Told]) -> None:
    def gone(flow: Flow) -> None:
        without(flow, "p", {"source": "d", "target": "m", "role": "case", "label": "large"})

    def between(flow: Flow) -> None:
        flow["steps"].append({"id": "x", "kind": "http", "name": "Post", "effect": "send"})
        link(flow, "d", "p").update(target="x", condition="amount > 900")
        flow["links"].append({"source": "x", "target": "p"})

    for act in (gone, between):
        assert ("condition", "‘Amount’ (large)", "") in told(act)


def test_where_the_way_of_a_removed_step_leads(told: Callable[..., Told]) -> None:
    found = told(lambda flow: without(flow, "d", {"source": "t", "target": "m"}))
    assert ("step removed", "‘Amount’ after ‘t’", "‘t’ leads to ‘Write’ now") in found
    found = told(lambda flow: without(flow, "m", {"source": "p", "target": "pay", "role": "case", "label": "approved"}))
    assert found[0][0] == "step removed" and "‘Amount’ (small) leads nowhere now" in found[0][2]


def test_a_case_whose_condition_changed_with_the_step_behind_it_leads_on(tmp_path: Path, run: Run) -> None:
    """Cases that are told apart by their conditions alone: another condition is no dead end."""
    steps = [
        {"id": "d", "kind": "decide", "name": "Moist?"},
        {"id": "x", "kind": "code", "name": "Dry"},
        {"id": "e", "kind": "write", "name": "Dried"},
    ]
    links = [
        {"source": "d", "target": "x", "role": "case", "condition": "moisture > 14"},
        {"source": "d", "target": "e", "role": "case", "otherwise": True},
        {"source": "x", "target": "e"},
    ]
    old = {"id": "f", "name": "Grain", "steps": steps, "links": links}
    new = {
        **old,
        "steps": [steps[0], steps[2]],
        "links": [{**links[0], "target": "e", "condition": "moisture > 99"}, links[1]],
    }
    for name, flow in (("o.json", old), ("n.json", new)):
        (tmp_path / name).write_text(json.dumps({"zeitbuch": 1, "flows": [flow]}))
    text = run("diff", "o.json", "n.json").out
    assert "leads nowhere" not in text and "moisture > 14" in text and "moisture > 99" in text


def test_steps_that_nothing_leads_to_are_told_with_what_cut_them_off(
    tmp_path: Path, run: Run, told: Callable[..., Told]
) -> None:
    found = told(lambda flow: flow["links"].remove(link(flow, "pay", "mail")))
    cut = ("link removed", "‘Pay’ to ‘Mail’", "no way leads to ‘Mail’ any more")
    assert found == [("rights narrowed", "the flow", "no longer sends"), cut]
    assert "! link removed" in run("diff", "o.json", "n.json").out


def test_long_additions_are_folded_with_a_count(run: Run, told: Callable[..., Told]) -> None:
    told(prompt("You write letters.\n" + "Be very kind to everyone. " * 80))
    text = run("diff", "o.json", "n.json").out
    assert "words more)" in text and len(text) < 1500
    assert "words more)" in run("diff", "o.json", "n.json", "-f", "markdown").out


# -- the head -----------------------------------------------------------------------------------------------------------


def test_the_month_of_the_head_is_that_of_estimate(demo: Path, run: Run) -> None:
    totals = json.loads(run("diff", "october", "november", "-f", "json", cwd=demo).out)["totals"]
    assert totals["scope"] == "estate"
    for side, month in (("before", "october"), ("after", "november")):
        told = json.loads(run("estimate", month, "--runs", "0", "-f", "json", cwd=demo).out)["total"]
        cost = sum(float(told[part]["amount"]) for part in ("cost_month", "meters_month", "fees_month"))
        assert float(totals[side]["cost"]["amount"]) == pytest.approx(cost)
        assert totals[side]["calls"] == pytest.approx(told["calls_month"])


def test_flows_around_a_changed_one_are_in_the_head(tmp_path: Path, run: Run) -> None:
    def write(name: str, items: int) -> None:
        caller = {"id": "a", "name": "Caller", "triggers": [{"id": "t", "kind": "schedule", "schedule": {"every": 86400}}],
                  "steps": [{"id": "l", "kind": "loop", "repeat": {"count": items}}, {"id": "c", "kind": "subflow", "calls": "b", "scope": "l"}],
                  "links": [{"source": "t", "target": "l"}]}  # fmt: skip
        callee = {"id": "b", "name": "Callee", "triggers": [{"id": "t", "kind": "call"}],
                  "steps": [{"id": "m", "kind": "model", "model": {"name": "m1"}}], "links": [{"source": "t", "target": "m"}]}  # fmt: skip
        (tmp_path / name).write_text(json.dumps({"zeitbuch": 1, "flows": [caller, callee]}))

    write("o.json", 2)
    write("n.json", 5)
    text = run("diff", "o.json", "n.json", "--month", "2026-11").out
    assert "The estate per month (2026-11): 60 → 150 model calls" in text
    assert "Moved with them, unchanged themselves: ‘Callee’ 60 → 150 calls." in text


def test_unknown_volumes_stay_unknown(tmp_path: Path, run: Run) -> None:
    two = [{**copy.deepcopy(BASE), "id": key} for key in "ab"]
    two[0]["triggers"] = [{"id": "t", "kind": "schedule", "schedule": {"every": 86400}}]
    (tmp_path / "o.json").write_text(json.dumps({"zeitbuch": 1, "flows": two}))
    two[0]["triggers"][0]["schedule"]["every"] = 43200
    (tmp_path / "n.json").write_text(json.dumps({"zeitbuch": 1, "flows": two}))
    assert (
        "22.5 + ? → 45 + ? model calls; not counted: 1 flow of unknown volume"
        in run("diff", "o.json", "n.json", "--month", "2026-11").out
    )
    for name in ("o.json", "n.json"):
        held = json.loads((tmp_path / name).read_text())
        (tmp_path / name).write_text(json.dumps({**held, "flows": held["flows"][1:]}))
    (tmp_path / "n.json").write_text((tmp_path / "n.json").read_text().replace('"m1"', '"m2"'))
    assert "unknown, no flow has a known volume" in run("diff", "o.json", "n.json").out


def test_changes_come_in_the_order_of_their_consequence(demo: Path, run: Run) -> None:
    found = json.loads(run("diff", "october", "november", "-f", "json", cwd=demo).out)
    ranks = [
        CONCERNS.index(min(flow["changes"], key=lambda c: CONCERNS.index(c["concern"]))["concern"])
        for flow in found["flows"]
    ]
    assert ranks == sorted(ranks) and len(found["first"]) == 5
    for flow in found["flows"]:
        own = [CONCERNS.index(change["concern"]) for change in flow["changes"]]
        assert own == sorted(own)
    assert {kind.concern for kind in CHANGE_KINDS.values()} <= set(CONCERNS)


def test_a_selection_moves_no_figure(demo: Path, run: Run) -> None:
    whole = json.loads(run("diff", "october", "november", "-f", "json", cwd=demo).out)
    some = json.loads(run("diff", "october", "november", "--only", "model", "-f", "json", cwd=demo).out)
    assert some["totals"] == whole["totals"] and some["unchanged"] == whole["unchanged"]
    assert some["left_out"] == sum(len(flow["changes"]) for flow in whole["flows"]) - 3
    by_id = {flow["id"]: flow for flow in whole["flows"]}
    for flow in some["flows"]:
        assert (flow["before"], flow["after"], flow.get("interaction")) == tuple(
            by_id[flow["id"]].get(k) for k in ("before", "after", "interaction")
        )
    assert "6 changes of other topics not shown." in run("diff", "october", "november", "--only", "model", cwd=demo).out


def test_a_gate_on_cost_looks_at_what_is_not_shown_too(demo: Path, run: Run) -> None:
    for words in (["--fail-on", "cost"], ["--max-increase", "10%"]):
        ran = run("diff", "october", "november", "--only", "prompt", *words, cwd=demo)
        assert ran.code == 1 and "'Customer letters': 2.6" in ran.err, ran


def test_the_brief_form_and_the_feed(demo: Path, run: Run) -> None:
    brief = run("diff", "october", "november", "-f", "brief", cwd=demo).out.splitlines()
    assert (
        len(brief) <= 10 and "per month" in brief[1] and brief[3].startswith("1. ! ") and brief[-1].startswith("and ")
    )
    run("record", "october", cwd=demo)
    lines = [json.loads(line) for line in run("diff", "@1", "november", "-f", "jsonl", cwd=demo).out.splitlines()]
    assert len(lines) == 9 and all(line["flow"] and line["type"] in CHANGE_KINDS for line in lines)
    assert {line["concern"] for line in lines} <= set(CONCERNS)
    letters = next(line for line in lines if line["flow_id"] == "letters")
    assert float(letters["month_share"]) == pytest.approx(8.06, abs=0.01)


def test_one_change_taken_back(demo: Path, run: Run) -> None:
    """The flow without it is written whole, and differs from each version in just that."""
    ran = run("diff", "october", "november", "--undo", "Berth delay notices/2", "-o", "u.yaml", cwd=demo)
    assert ran.code == 0, ran
    told = [
        c["type"]
        for f in json.loads(run("diff", "u.yaml", "november", "--flow", "SH-1052", "-f", "json", cwd=demo).out)["flows"]
        for c in f["changes"]
    ]
    assert told == ["step added"]
    told = [
        c["type"]
        for f in json.loads(run("diff", "october", "u.yaml", "--flow", "SH-1052", "-f", "json", cwd=demo).out)["flows"]
        for c in f["changes"]
    ]
    assert told == ["connection"]
    for words in ("Berth delay notices", "Berth delay notices/9", "SH-1052/x"):
        ran = run("diff", "october", "november", "--undo", words, cwd=demo)
        assert ran.code == 2 and "2 step added: ‘Put on the boards’" in ran.err
    assert "of a changed flow" in run("diff", "october", "november", "--undo", "Nobody/1", cwd=demo).err


def test_a_change_that_only_follows_cannot_be_taken_back(tmp_path: Path, run: Run, told: Callable[..., Told]) -> None:
    told(lambda flow: link(flow, "d", "p").update(target="m"))
    ran = run("diff", "o.json", "n.json", "--undo", "Refund/1")
    assert ran.code == 2 and "only follows from others" in ran.err
    assert run("diff", "o.json", "n.json", "--undo", "Refund/2", "-o", "back.yaml").code == 0
    assert "No change of meaning" in run("diff", "o.json", "back.yaml").out


def test_the_head_of_one_flow_is_not_of_the_estate(demo: Path, run: Run) -> None:
    assert (
        "changed flows and those around them per month"
        in run("diff", "october", "november", "--flow", "letters", cwd=demo).out
    )


def test_a_change_of_failure_behaviour_says_what_a_failure_leads_to(
    told: Callable[..., Told], demo: Path, run: Run
) -> None:
    def route(flow: Flow) -> None:
        flow["links"].append({"source": "pay", "target": "log", "role": "error", "after": ["failure"]})

    def passed_over(flow: Flow) -> None:
        flow["steps"][3]["on_fault"] = "continue"

    assert told(route)[0][::2] == ("error route added", "when it fails now: the run goes on at 6 ‘Log’")
    assert told(passed_over)[0][::2] == ("on error", "when it fails now: the run goes on as if nothing had happened")
    said = run("diff", "october", "november", "--flow", "SH-1077", cwd=demo).out
    assert "when it fails now: nothing takes the fault, and the branch ends there" in said

"""Every check on inputs that must be told and on traps that must not, and the command with its formats, gates and exceptions."""

from __future__ import annotations

import json
import xml.etree.ElementTree as ET
from collections.abc import Iterator
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest
from msgspec import structs

from conftest import Run
from zeitbuch.app.diff_findings import MOST_FLOWS
from zeitbuch.core.checks.families.copies import MOST_COMPARED
from zeitbuch.core.checks.records import Check, Hit
from zeitbuch.core.checks.registry import BROKEN, CHECKS, check_flows
from zeitbuch.core.checks.views import FlowView
from zeitbuch.core.diff.clones import MOST_UNITS
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
    Repeat,
    Retry,
    Schedule,
    Secret,
    Step,
    Trigger,
    Variable,
)


def flow(*steps: Step, links: tuple[Link, ...] | None = None, **more: Any) -> Flow:
    """A flow that is in order but for what is given: an owner, a form that begins it, steps in a row."""
    base: dict[str, Any] = {
        "id": "f",
        "name": "Refunds",
        "owners": ("Maren Dahl",),
        "description": "Pays back what a passenger is owed.",
        "triggers": (Trigger(id="t", kind="form"),),
    }
    base |= more
    first = base["triggers"][0].id if base["triggers"] else None
    ids = [key for key in [first, *[step.id for step in steps if step.scope is None]] if key is not None]
    row = tuple(Link(source=a, target=b) for a, b in pairwise(ids))
    return Flow(steps=steps, links=row if links is None else links, **base)


def step(key: str, kind: Any = "http", **more: Any) -> Step:
    return Step(id=key, kind=kind, name=key.title(), **more)


def given(name: str, value: Any, **more: Any) -> Binding:
    return Binding(name=name, value=value, **more)


def takes(source: str, **more: Any) -> Binding:
    return Binding(
        name="text",
        value=f"{{{source}.x}}",
        decided="data",
        refs=(Ref(step=source, path="x", text=f"{{{source}.x}}"),),
        **more,
    )


HOURLY = (Trigger(id="t", kind="schedule", schedule=Schedule(every=3600.0)),)
AGENT = step("a", "agent", model=ModelUse(name="m", max_turns=3))
PAYS = step("p", "tool", effect="spend", note="pays a refund")
ATTACHED = (Link(source="t", target="a"), Link(source="p", target="a", role="attach"))
ASK = step("m", "model", model=ModelUse(name="m", temperature=0.9, prompts=(Prompt(text="Which?"),)))
COLD = structs.replace(ASK, model=ModelUse(name="m", temperature=0.0, prompts=(Prompt(text="Which?"),)))
DECIDE = step("d", "decide", condition="{m.x}", refs=(Ref(step="m", path="x", text="{m.x}"),))


def sorting(prompt: str, *cases: Link) -> Flow:
    """A model that answers a word, and a decision by it."""
    model = step("m", "model", model=ModelUse(name="m", prompts=(Prompt(text=prompt),)))
    ends = tuple(step(link.target) for link in cases)
    return flow(model, step("d", "decide", refs=(Ref(step="m", path="text", text="{m.text}"),)), *ends,
                links=(Link(source="t", target="m"), Link(source="m", target="d"), *cases))  # fmt: skip


def case(target: str, label: str, **more: Any) -> Link:
    return Link(source="d", target=target, role="case", label=label, **more)


def parted(role: Any) -> tuple[Link, ...]:
    """Ways from ‘D’ to ‘A’, one more of some role to ‘B’, and on from both to ‘J’ and ‘Z’."""
    first = case("a", "a") if role == "case" else Link(source="d", target="a")
    ways = [("t", "d"), ("a", "j"), ("b", "j"), ("j", "z")]
    return (*[Link(source=a, target=b) for a, b in ways], first, Link(source="d", target="b", role=role, label="b"))


REST = case("z", "", otherwise=True)
ASKS = "Answer emergency, routine or notours."

# code -> flows that have the fault, flows that have not
CASES: dict[str, tuple[list[Flow], list[Flow]]] = {
    "placeholder-text": (
        [
            flow(step("a", inputs=(given("phone", "CHANGE_ME"),))),
            flow(step("a", "send", effect="send", inputs=(given("body", {"text": "lorem ipsum dolor"}),))),
            flow(step("a", inputs=(given("to", "{v}", refs=(Ref(variable="v", text="{v}"),)),)), variables=(Variable(name="v", value="TODO"),)),
        ],
        [
            flow(step("a", note="CHANGE_ME later")),
            flow(step("a", inputs=(given("text", "Please do change me to the next ferry."),))),
            flow(step("a", enabled=False, inputs=(given("phone", "CHANGE_ME"),))),
            flow(step("a", "model", model=ModelUse(name="m", prompts=(Prompt(text="Write a todo list for the crew."),)))),
        ],
    ),
    "empty-role": (
        [flow(step("a", "send", effect="send", inputs=(given("to", " ", role="recipient"),)))],
        [flow(step("a", "send", effect="send", inputs=(given("to", "x@y.example", role="recipient"), given("cc", ""))))],
    ),
    "local-address": (
        [flow(step("a", inputs=(given("url", "http://localhost:8080/x"),))), flow(step("a", inputs=(given("file", "C:\\data\\x.csv"),)))],
        [
            flow(step("a", inputs=(given("url", "http://localhost:8080/x"),)), environment="test"),
            flow(step("a", inputs=(given("url", "https://10things.example/x"), given("text", "see http and localhost"),))),
        ],
    ),
    "test-recipient": (
        [flow(step("a", "send", effect="send", inputs=(given("to", "test@ferry.example"),)))],
        [
            flow(step("a", "send", effect="send", inputs=(given("to", "latest@ferry.example"),))),
            flow(step("a", "send", effect="send", inputs=(given("body", "write to test@ferry.example"),))),
        ],
    ),
    "step-unreached": (
        [flow(step("a"), step("b"), links=(Link(source="t", target="a"),))],
        [flow(step("a"), step("b"))],
    ),
    "join-unmet": (
        [
            flow(step("d", "decide"), step("a"), step("b"), step("j", join="all"), step("z"), links=parted("case")),
            flow(step("d"), step("a"), step("b"), step("j", join="all"), step("z"), links=parted("error")),
        ],
        [
            flow(step("d", "decide"), step("a"), step("b"), step("j", join="once"), step("z"), links=parted("case")),
            flow(step("d"), step("a"), step("b"), step("j", join="all"), step("z"), links=parted("next")),
            flow(step("a"), step("j", join="all"), links=(Link(source="t", target="a"), Link(source="a", target="j", after=("skip",)))),
            flow(step("d", "decide", inclusive=True), step("a"), step("b"), step("j", join="all"), step("z"), links=parted("case")),
        ],
    ),
    "source-off": (
        [flow(step("a", enabled=False), step("b", inputs=(takes("a"),)))],
        [flow(step("a"), step("b", inputs=(takes("a"),))), flow(step("a", enabled=False), step("b", enabled=False, inputs=(takes("a"),)))],
    ),
    "connection-unused": (
        [flow(step("a"), connections=(Connection(id="c", name="Old mail"),))],
        [flow(step("a", connection="c"), connections=(Connection(id="c"),))],
    ),
    "variable-unused": (
        [flow(step("a"), variables=(Variable(name="spend_cap", value=450),))],
        [flow(step("a", condition="amount < spend_cap"), variables=(Variable(name="spend_cap", value=450),))],
    ),
    "default-name": ([flow(step("a"), name="Copy of Refunds")], [flow(step("a"), name="Copy desk orders"), flow(step("a"), name="Photocopy")]),
    "label-spelled-otherwise": (
        [
            sorting(ASKS, case("x", "emergency"), case("y", "not ours"), REST),
            sorting(ASKS, case("x", "urgent", condition="{m.text} == 'emergency'"), case("y", "rest", condition="{m.text} = not ours"), REST),
            sorting("One of: in_progress, done.", case("x", "in progress"), case("y", "done"), REST),
        ],
        [
            sorting(ASKS, case("x", "Emergency"), case("y", "NotOurs"), REST),
            sorting('Answer "emergency" or "not ours".', case("x", "emergency"), case("y", "not ours"), REST),
            sorting(ASKS, case("x", "urgent"), case("y", "later"), REST),
            sorting(ASKS, case("x", "", condition="{m.score} > 3"), case("y", "", condition="{m.score} = 3"), REST),
        ],
    ),
    "label-not-asked": (
        [sorting(ASKS, case("x", "emergency"), case("y", "complaint"), REST)],
        [sorting(ASKS, case("x", "emergency"), case("y", "routine"), REST), sorting("Which desk?", case("x", "north"), case("y", "south"), REST)],
    ),
    "case-rest-missing": (
        [sorting(ASKS, case("x", "emergency"), case("y", "routine"))],
        [
            sorting(ASKS, case("x", "emergency"), case("y", "routine"), REST),
            sorting(ASKS, case("x", "emergency"), case("y", "routine"), case("z", "else")),
            sorting("Say yes or no.", case("x", "yes"), case("y", "no")),
        ],
    ),
    "failure-unhandled": (
        [flow(step("a", "write", effect="write"), triggers=HOURLY)],
        [
            flow(step("a", "write", effect="write", retry=Retry(attempts=2)), triggers=HOURLY),
            flow(step("a", "write", effect="write")),  # a person fills in the form
            flow(step("a", "read", effect="read"), triggers=HOURLY),
            flow(step("a", "write", effect="write"), triggers=HOURLY, fault_handlers=("g",)),
        ],
    ),
    "failure-ignored": (
        [flow(step("a", on_fault="continue"), step("b", inputs=(takes("a"),)))],
        [flow(step("a", on_fault="continue"), step("b")), flow(step("a"), step("b", inputs=(takes("a"),)))],
    ),
    "act-repeated": (
        [flow(step("a", effect="spend", retry=Retry(attempts=3)))],
        [
            flow(step("a", effect="spend", retry=Retry(attempts=3, wait=30.0))),
            flow(step("a", effect="spend", retry=Retry(attempts=3), inputs=(given("idempotency_key", "{run}"),))),
            flow(step("a", effect="read", retry=Retry(attempts=3))),
        ],
    ),
    "approval-by-silence": (
        [flow(step("a", "approve", approval=Approval(silence="approves")))],
        [flow(step("a", "approve", approval=Approval(silence="rejects"))), flow(step("a", "approve"))],
    ),
    "approval-endless": (
        [flow(step("a", "approve", approval=Approval(silence="waits")))],
        [flow(step("a", "approve", approval=Approval(silence="waits"), timeout=60.0)), flow(step("a", "approve"))],
    ),
    "step-missing": (
        [flow(step("b", inputs=(takes("gone"),)))],
        [flow(step("a"), step("b", inputs=(takes("a"),))), flow(step("l", "loop", repeat=Repeat(items="rows")), step("b", scope="l", inputs=(takes("item"),)))],
    ),
    "step-never-before": (
        [flow(step("a", inputs=(takes("b"),)), step("b"))],
        [flow(step("a"), step("b", inputs=(takes("a"),)))],
    ),
    "flow-missing": ([flow(step("a", "subflow", calls="gone"))], [flow(step("a", "subflow"))]),
    "flow-off": ([], []),
    "flow-calls-itself": (
        [flow(step("a", "subflow", calls="f"))],
        [flow(step("d", "decide"), step("a", "subflow", calls="f"), links=(Link(source="t", target="d"), Link(source="d", target="a", role="case", label="again")))],
    ),
    "agent-acts-alone": (
        [flow(AGENT, PAYS, links=ATTACHED)],
        [
            flow(AGENT, structs.replace(PAYS, effect="read"), links=ATTACHED),
            flow(step("o", "approve"), AGENT, PAYS, links=(Link(source="t", target="o"), Link(source="o", target="a"), ATTACHED[1])),
        ],
    ),
    "model-decides-target": (
        [flow(step("a", "send", effect="send", inputs=(given("to", None, decided="model", role="recipient"),)))],
        [
            flow(step("a", "send", effect="send", inputs=(given("to", None, decided="data", role="recipient"),))),
            flow(step("a", "send", effect="send", inputs=(given("body", None, decided="model", role="content"),))),
            flow(step("o", "approve"), step("a", "send", effect="send", inputs=(given("to", None, decided="model", role="recipient"),))),
        ],
    ),
    "webhook-open": (
        [flow(step("a", "write", effect="write"), triggers=(Trigger(id="t", kind="webhook", authentication="none"),))],
        [
            flow(step("a", "write", effect="write"), triggers=(Trigger(id="t", kind="webhook"),)),
            flow(step("a", "write", effect="write"), triggers=(Trigger(id="t", kind="webhook", authentication="signature"),)),
            flow(step("a", "shape"), triggers=(Trigger(id="t", kind="webhook", authentication="none"),)),
        ],
    ),
    "secret-in-clear": ([flow(step("a"), secrets=(Secret(name="secret A"),))], [flow(step("a"))]),
    "label-temperature": ([flow(ASK, DECIDE)], [flow(COLD, DECIDE), flow(ASK, step("b"))]),
    "model-unpriced": ([], []),
    "pieces-overlap": (
        [flow(step("a", "embed", pieces=Pieces(size=400, overlap=400)))],
        [flow(step("a", "embed", pieces=Pieces(size=400, overlap=40))), flow(step("a", "embed", pieces=Pieces(overlap=40)))],
    ),
    "loop-endless": (
        [flow(step("a", "loop", repeat=Repeat(until="done")))],
        [flow(step("a", "loop", repeat=Repeat(until="done", cap=5))), flow(step("a", "loop", repeat=Repeat(items="rows", until="done")))],
    ),
    "owner-missing": ([flow(step("a"), owners=())], [flow(step("a")), flow(step("a"), owners=(), format="bpmn")]),
    "zone-missing": (
        [flow(step("a"), triggers=(Trigger(id="t", kind="schedule", schedule=Schedule(cron="0 8 * * 1")),))],
        [
            flow(step("a"), triggers=(Trigger(id="t", kind="schedule", schedule=Schedule(cron="0 8 * * 1", zone="Europe/Oslo")),)),
            flow(step("a"), triggers=(Trigger(id="t", kind="schedule", schedule=Schedule(cron="*/15 * * * *")),)),
        ],
    ),
}  # fmt: skip


def codes(*flows: Flow) -> list[str]:
    return [one.code for one in check_flows(flows)]


@pytest.mark.parametrize("code", CASES)
def test_what_is_wrong_is_told_and_what_is_right_is_not(code: str) -> None:
    wrong, right = CASES[code]
    for one in wrong:
        found = [finding for finding in check_flows([one]) if finding.code == code]
        assert len(found) == 1 and found[0].message and found[0].remedy, (code, found)
    for one in right:
        assert code not in codes(one), (code, check_flows([one]))


def test_flows_in_order_have_no_findings_that_matter() -> None:
    quiet = flow(step("a", "read", effect="read"), step("b", "write", effect="write", inputs=(takes("a"),)), links=None)
    assert codes(quiet) == []


def test_checks_that_need_the_estate() -> None:
    off = flow(step("x"), id="g", name="Old", state="off")
    assert codes(flow(step("a", "subflow", calls="g")), off) == ["flow-off"]
    assert codes(flow(step("a", "subflow", calls="Old")), structs.replace(off, state="on")) == []
    handler = flow(step("x"), id="h", name="Desk", triggers=(Trigger(id="t", kind="fault"),))
    assert codes(flow(step("a", "write", effect="write"), triggers=HOURLY), handler) == []


def test_models_without_a_price(demo: Path) -> None:
    from zeitbuch.readers.config.figures import load_rates

    card, _ = load_rates(str(demo / "rates.toml"))
    known, unknown = (
        flow(structs.replace(COLD, model=ModelUse(name=name))) for name in (card.model[0].name, "nobodys-9")
    )
    assert [one.code for one in check_flows([known], card)] == []
    assert [one.message for one in check_flows([unknown], card)] == [
        "‘M’ calls ‘nobodys-9’, which the rate card has not: its cost is unknown"
    ]
    assert [one.code for one in check_flows([unknown])] == []  # without a rate card nothing is known of prices


def test_every_placeholder_passes_the_quick_look() -> None:
    from zeitbuch.core.checks.families.left_over import _PLACEHOLDER_WORDS, placeholder_in

    for text in ("CHANGE_ME", "CHANGEME", "REPLACE-ME", "TODO", "FIXME: ask", "[TBD]", "XXXX", "PLACEHOLDER", "Lorem Ipsum", "<your name>", "your_api_key",
                 "your-token", "<insert phone>", "someone@example.com", "https://api.example.com/x"):  # fmt: skip
        assert placeholder_in(text) and any(word in text.lower() for word in _PLACEHOLDER_WORDS), text
    for text in (
        "Your TODO list for the night watch",
        "Call XXX at noon",
        "a placeholder",
        "desk@ferry.example",
        "https://ferry.example/x",
    ):
        assert not placeholder_in(text), text


def test_an_approval_inside_a_called_flow_counts() -> None:
    asks = flow(
        step("o", "approve"),
        step("p", "http", effect="spend"),
        id="g",
        name="Pay",
        triggers=(Trigger(id="t", kind="call"),),
    )
    pays = structs.replace(PAYS, calls="g")
    assert codes(flow(AGENT, pays, links=ATTACHED), asks) == []
    alone = flow(step("p", "http", effect="spend"), id="g", name="Pay", triggers=(Trigger(id="t", kind="call"),))
    assert "agent-acts-alone" in codes(flow(AGENT, pays, links=ATTACHED), alone)


def test_a_placeholder_within_a_longer_text_is_suspected_only() -> None:
    def certain(value: str) -> list[bool]:
        return [one.certain for one in check_flows([flow(step("a", inputs=(given("text", value),)))])]

    assert certain("CHANGE_ME") == certain(" <TODO> ") == certain("CHANGE_ME@ferry.example") == [True]
    assert certain("Ring CHANGE_ME at night") == [False] and certain("Your TODO list for the night watch") == []


def test_a_check_that_breaks_is_one_finding() -> None:
    def breaks(view: FlowView) -> Iterator[Hit]:
        raise KeyError("oops")

    row = Check("broken", "high", "x", "x", "x", "x", "x", breaks)
    found = check_flows([flow(step("a"), owners=())], checks=[row, CHECKS["owner-missing"]])
    assert [one.code for one in found] == [BROKEN, "owner-missing"] or [one.code for one in found] == [
        "owner-missing",
        BROKEN,
    ]
    assert "the check 'broken' failed with KeyError" in next(one.message for one in found if one.code == BROKEN)


# -- the command --------------------------------------------------------------------------------------------------------

BAD = {"zeitbuch": 1, "flows": [
    {"id": "f", "name": "Refunds", "description": "Pays.", "triggers": [{"id": "t", "kind": "form"}],
     "steps": [{"id": "a", "kind": "http", "name": "Call", "inputs": [{"name": "phone", "value": "CHANGE_ME"}]}], "links": [{"source": "t", "target": "a"}]},
    {"id": "g", "name": "Draft one", "state": "draft", "owners": ["x"], "description": "Asks.", "triggers": [{"id": "t", "kind": "form"}],
     "steps": [{"id": "a", "kind": "approve", "approval": {"silence": "approves"}}], "links": [{"source": "t", "target": "a"}]},
]}  # fmt: skip


@pytest.fixture
def bad(tmp_path: Path) -> Path:
    (tmp_path / "in").mkdir()
    (tmp_path / "in" / "x.json").write_text(json.dumps(BAD, indent=1))
    return tmp_path


def test_what_is_not_looked_for_in_many_flows_is_told(tmp_path: Path, run: Run) -> None:
    flow = {"triggers": [{"id": "t", "kind": "manual"}], "steps": [{"id": "s", "kind": "shape"}]}
    flows = [{"id": f"f{n}", "name": f"Flow {n}", **flow} for n in range(MOST_COMPARED + 1)]
    (tmp_path / "many.json").write_text(json.dumps({"zeitbuch": 1, "flows": flows}))
    (tmp_path / "fewer.json").write_text(json.dumps({"zeitbuch": 1, "flows": flows[1:]}))
    told = f"not looked for: flows-alike, since more than {MOST_COMPARED:,} flows"
    assert told in run("check", "many.json", "--only", "flows-alike").out
    assert json.loads(run("check", "many.json", "-f", "json").out)["left_out"]
    for words in (("fewer.json", "--only", "flows-alike"), ("many.json", "--only", "owner-missing")):
        assert "not looked for" not in run("check", *words).out


def test_branches_of_a_large_flow_that_are_not_compared_are_told(tmp_path: Path, run: Run) -> None:
    def steps(branches: int) -> list[dict[str, str]]:
        groups = [{"id": f"g{n}", "kind": "group"} for n in range(branches)]
        return groups + [{"id": f"s{n}", "kind": "shape", "scope": f"g{n}"} for n in range(branches)]

    flows = [{"id": f"f{n}", "name": f"Flow {n}", "steps": steps(n)} for n in (MOST_UNITS, MOST_UNITS + 1)]
    (tmp_path / "large.json").write_text(json.dumps({"zeitbuch": 1, "flows": flows}))
    told = json.loads(run("check", "large.json", "--only", "copy-edit-missed", "-f", "json").out)["left_out"]
    assert told == [
        "copy-edit-missed was not looked for between all branches of ‘Flow 151’: the first 150 of one flow are held against each other"
    ]
    assert json.loads(run("check", "large.json", "--only", "owner-missing", "-f", "json").out)["left_out"] == []


def test_reports_for_programs_tell_what_was_not_checked(tmp_path: Path, run: Run) -> None:
    flow = {"name": "Flow", "triggers": [{"id": "t", "kind": "manual"}], "steps": [{"id": "s", "kind": "shape"}]}
    flows = [{**flow, "id": f"f{n}"} for n in range(MOST_COMPARED + 1)]
    (tmp_path / "in").mkdir()
    (tmp_path / "in/many.json").write_text(json.dumps({"zeitbuch": 1, "flows": flows}))
    (tmp_path / "in/cut off.json").write_text('{"zeitbuch": 1, ')
    ran = run("check", "in", "--only", "flows-alike", "-f", "sarif")
    assert ran.code == 2 and "cut off.json" in ran.err
    ((only,), (how,)) = json.loads(ran.out)["runs"], json.loads(ran.out)["runs"][0]["invocations"]
    assert only["results"] == [] and how["executionSuccessful"] is False
    error, warning = how["toolExecutionNotifications"]
    assert (error["level"], error["descriptor"]) == ("error", {"id": "json-syntax"})
    assert error["locations"][0]["physicalLocation"]["artifactLocation"]["uri"] == "in/cut%20off.json"
    assert warning["level"] == "warning" and "not looked for: flows-alike" in warning["message"]["text"]
    (suite,) = ET.fromstring(run("check", "in", "--only", "flows-alike", "-f", "junit").out)
    assert (suite.get("errors"), suite.get("skipped")) == ("1", "1")
    assert suite[0][0].tag == "error" and suite[0].get("classname") == "in/cut off.json:1:17"
    told = json.loads(run("check", "in", "-f", "json").out)["not_read"]
    assert [(one["code"], one["origin"]["source"]) for one in told] == [("json-syntax", "in/cut off.json")]
    whole = json.loads(run("check", "in/many.json", "--only", "owner-missing", "-f", "sarif").out)["runs"][0]
    assert whole["invocations"] == [{"executionSuccessful": True, "toolExecutionNotifications": []}]


def test_findings_gates_and_drafts(bad: Path, run: Run) -> None:
    told = json.loads(run("check", "in", "-f", "json").out)
    assert [(one["code"], one["flow"]) for one in told["findings"]] == [
        ("placeholder-text", "Refunds"), ("approval-by-silence", "Draft one"), ("owner-missing", "Refunds"),
    ] and told["flows"] == 2  # fmt: skip
    assert told["findings"][0]["origin"]["line"] > 1
    text = run("check", "in").out
    assert (
        "‘Call’ (input phone) holds ‘CHANGE_ME’" in text
        and "2 flows checked: 2 high, 1 low; 1 in drafts or flows that are off." in text
    )
    for level, code in (("high", 1), ("medium", 1), ("low", 1)):
        ran = run("check", "in", "--fail-on", level)
        assert ran.code == code and "no: " in ran.err
    assert run("check", "in", "--flow", "draft*", "--fail-on", "low").code == 0  # a draft fails no gate
    assert [
        one["code"] for one in json.loads(run("check", "in", "--only", "owner-missing", "-f", "json").out)["findings"]
    ] == ["owner-missing"]
    ran = run("check", "in", "--only", "owner-mising")
    assert ran.code == 2 and "did you mean owner-missing or " in ran.err
    assert (
        len(run("check", "in", "-f", "jsonl").out.splitlines()) == 3
        and "severity,sure,flow" in run("check", "in", "-f", "csv").out
    )
    assert "what it misses: " in run("check", "--explain", "agent-acts-alone").out
    assert all(code in run("check", "--codes").out for code in CHECKS)


def test_exceptions_of_the_workspace(bad: Path, run: Run) -> None:
    accept = '[[accept]]\ncode = "placeholder-text"\nflow = "Ref*"\nreason = "dialled by hand until May"\nby = "Maren Dahl"\n'
    (bad / "zeitbuch.toml").write_text('sources = ["in"]\n' + accept + "until = 2999-01-01\n")
    told = json.loads(run("check", "-f", "json").out)["findings"]
    assert told[0]["accepted"] == "dialled by hand until May, Maren Dahl"
    assert run("check", "--fail-on", "high").code == 0 and "1 accepted" in run("check").out
    (bad / "zeitbuch.toml").write_text('sources = ["in"]\n' + accept + "until = 2026-01-01\n")
    ran = run("check", "--fail-on", "high", "-f", "json")
    over = next(one for one in json.loads(ran.out)["findings"] if one["code"] == "accept-expired")
    assert (
        ran.code == 1 and "accepted until 2026-01-01 by Maren Dahl" in over["message"] and over["origin"]["line"] == 2
    )
    (bad / "zeitbuch.toml").write_text('sources = ["in"]\n' + accept.replace("Ref*", "Nobody"))
    ran = run("check", "--fail-on", "high", "-f", "sarif")
    idle = next(one for one in json.loads(ran.out)["runs"][0]["results"] if one["ruleId"] == "accept-idle")
    assert ran.code == 1 and "no finding placeholder-text of flow 'Nobody'" in idle["message"]["text"]
    assert "accept-idle" not in run("check", "in", "-f", "csv").out  # other sources than those of the workspace
    assert "accept-idle" not in run("check", "--only", "owner-missing", "-f", "csv").out


def test_sarif_and_junit(bad: Path, run: Run) -> None:
    log = json.loads(run("check", "in", "-f", "sarif").out)
    (only,) = log["runs"]
    assert log["version"] == "2.1.0" and [one["ruleId"] for one in only["results"]] == [
        "placeholder-text",
        "approval-by-silence",
        "owner-missing",
    ]
    place = only["results"][0]["locations"][0]
    assert (
        place["physicalLocation"]["artifactLocation"]["uri"] == "in/x.json"
        and place["physicalLocation"]["region"]["startLine"] > 1
    )
    assert place["logicalLocations"][0]["fullyQualifiedName"] == "f/a"
    assert {rule["id"] for rule in only["tool"]["driver"]["rules"]} == {one["ruleId"] for one in only["results"]}
    root = ET.fromstring(run("check", "in", "-f", "junit").out)
    assert [(suite.get("name"), suite.get("failures"), suite.get("skipped")) for suite in root] == [
        ("Refunds", "2", "0"),
        ("Draft one", "0", "1"),
    ]
    assert root[0][0][0].get("message") == "‘Call’ (input phone) holds ‘CHANGE_ME’"


# What the story of the demo explains: the estate of November, and three flows that were built in a hurry.
STORY = {
    ("approval-unanswered", "Crew swap approvals"),
    ("agent-acts-within-limits", "Customer letters"), ("failure-ignored", "Fault logger"), ("approval-by-silence", "Invoice intake"), ("handler-missing", "Customer letters"),
    ("act-failure-passed-over", "Berth delay notices"), ("variable-unused", "Lost property matching"), ("zone-missing", "Sailing statistics"),
}  # fmt: skip
FAULTS = {
    "Winter refunds": {
        "placeholder-text", "label-spelled-otherwise", "model-decides-target", "outside-words-to-agent", "account-of-person", "answer-cap-too-small",
        "label-temperature", "date-not-given", "connection-unused", "act-failure-passed-over", "variable-unused",
    },
    "Storm watch": {
        "source-off", "approval-by-silence", "local-address", "step-unreached", "test-recipient", "act-repeated", "loop-endless", "clock-change",
        "poll-too-often", "json-for-nobody",
    },
    "Copy of Pier lists": {
        "step-missing", "schedule-never-fires", "input-empty", "flow-missing", "description-missing", "default-name", "default-step-name",
    },
}  # fmt: skip


def test_the_demo_has_the_faults_that_its_story_has(demo: Path, run: Run) -> None:
    found = json.loads(run("check", "-f", "json", cwd=demo).out)["findings"]
    assert {(one["code"], one["flow"]) for one in found if not one["accepted"]} == STORY
    told: dict[str, set[str]] = {}
    for one in json.loads(run("check", "faults", "-f", "json", cwd=demo).out)["findings"]:
        if not one["accepted"]:
            told.setdefault(one["flow"], set()).add(one["code"])
    assert told == FAULTS and sum(map(len, FAULTS.values())) >= 15
    text = run("check", cwd=demo).out
    assert (
        "owner-alone" not in text and "accepted" in text and "owner-alone" in run("check", "--accepted", cwd=demo).out
    )


def test_a_comparison_tells_which_checks_it_does_not_do_over_many_flows(tmp_path: Path, run: Run) -> None:
    step = {"id": "s", "kind": "write", "name": "Write"}
    flows = [{"id": f"f{n}", "name": f"Flow {n}", "triggers": [{"id": "t", "kind": "manual"}], "steps": [step]} for n in range(MOST_FLOWS + 1)]  # fmt: skip
    later = [{**flows[0], "steps": [{**step, "name": "Write it"}]}, *flows[1:]]
    for name, held in (("old", flows), ("new", later), ("few", flows[:2]), ("fewer", later[:2])):
        (tmp_path / f"{name}.json").write_text(json.dumps({"zeitbuch": 1, "flows": held}))
    codes = [row.code for row in CHECKS.values() if row.of_estate]
    ran = run("diff", "old.json", "new.json")
    assert f"Not looked for, since there are too many flows: {', '.join(codes[:-1])} and {codes[-1]}." in " ".join(
        ran.out.split()
    )
    assert "Not looked for" not in run("diff", "few.json", "fewer.json").out + run("diff", "old.json", "old.json").out

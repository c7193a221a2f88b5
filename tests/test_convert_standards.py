"""Flows written in open standards that cannot say everything: what was written is read back, what is left out is told."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
import yaml
from hypothesis import HealthCheck, given, settings
from msgspec import structs

from builders import START, drawn_flows
from conftest import ESTATE, Run
from test_standards import read_text
from zeitbuch.app.convert import STANDARDS, convert_flows
from zeitbuch.app.session import Session
from zeitbuch.core.diff.estate_changes import flow_changes
from zeitbuch.core.diff.losses import find_losses
from zeitbuch.core.diff.lost_arrows import lost_arrows
from zeitbuch.core.model.records import Binding, Estate, Flow, Link, ModelUse, Prompt, Ref, Repeat, Retry, Step, Trigger

OWN = {
    "serverless": ESTATE / "november/standards/sailing-statistics.yaml",
    "arazzo": ESTATE / "november/standards/booking-check.yaml",
    "agent-spec": ESTATE / "november/standards/harbour-desk.json",
}


def written(flow: Flow, form: str) -> tuple[str, list[str]]:
    text, problems = convert_flows(Session(), Estate(flows=(flow,)), form)
    return text, [problem.message for problem in problems]


def step(key: str, kind: str = "tool", **more: Any) -> Step:
    return Step(id=key, kind=kind, name=key.title(), operation=f"call {key}", **more)  # type: ignore[arg-type]


def flow_of(steps: list[Step], *links: tuple[str, str] | Link, triggers: tuple[Trigger, ...] = (START,)) -> Flow:
    made = [one if isinstance(one, Link) else Link(source=one[0], target=one[1]) for one in links]
    return Flow(id="quay/f", name="Quay work", triggers=triggers, steps=tuple(steps), links=tuple(made))


@pytest.mark.parametrize("form", list(OWN))
def test_a_file_of_a_standard_goes_round(form: str, tmp_path: Path) -> None:
    before, _ = read_text(OWN[form].read_text(), tmp_path, OWN[form].name)
    text, told = written(before[0], form)
    after, reader = read_text(text, tmp_path, "after.yaml")
    assert not [problem for problem in reader.problems if problem.severity == "error"]
    names = {step.id: step.id for step in before[0].steps}
    assert told == [] and find_losses(before[0], after[0], names) == []
    changes = flow_changes(before[0], after[0])
    assert changes is None or {change.type for change in changes.changes} <= {"other setting"}, changes


@pytest.mark.parametrize("form", list(OWN))
def test_the_estate_of_the_demo_is_written_as_far_as_it_goes(form: str, november: Estate, tmp_path: Path) -> None:
    """Each flow is written or refused with a reason; what is written is read without a fault."""
    text, problems = convert_flows(Session(), november, form)
    refused = [problem for problem in problems if problem.code == "convert-unsayable"]
    back, reader = read_text(text, tmp_path, "all.yaml")
    whole = [flow for flow in back if flow.origin is None or "/subflow" not in flow.origin.pointer]
    assert len(whole) + len(refused) == len(november.flows) and whole
    assert not [problem for problem in reader.problems if problem.severity == "error"]
    assert all(flow.content.unread == 0 for flow in back)


FEATURES: dict[str, tuple[Flow, list[str]]] = {
    # Every one of these is said in Serverless Workflow; beside it words that must stand in the text.
    "branches that meet": (
        flow_of([step("a"), step("b"), step("c"), step("d")], ("start", "a"), ("a", "b"), ("a", "c"), ("b", "d"), ("c", "d")),
        ["fork:", "branches:"],
    ),
    "a case": (
        flow_of([step("a", "decide"), step("b"), step("c")], ("start", "a"),
                Link(source="a", target="b", role="case", label="deep", condition="depth > 9"),
                Link(source="a", target="c", role="case", label="else", otherwise=True)),
        ["when: depth > 9", "then: C"],
    ),
    "a way back": (
        flow_of([step("a"), step("b", "decide"), step("c")], ("start", "a"), ("a", "b"),
                Link(source="b", target="a", role="case", label="again", condition="bad"),
                Link(source="b", target="c", role="case", label="good", otherwise=True)),
        ["when: bad", "then: A"],
    ),
    "an error route": (
        flow_of([step("a"), step("b"), step("e")], ("start", "a"), ("a", "b"), Link(source="a", target="e", role="error")),
        ["try:", "catch:", "- E:"],
    ),
    "a retry": (flow_of([step("a", retry=Retry(attempts=3, wait=5))], ("start", "a")), ["count: 3", "seconds: 5"]),
    "a loop": (
        flow_of([step("a", "loop", repeat=Repeat(items="${ .ships }")), step("b", scope="a")], ("start", "a")),
        ["in: ${ .ships }"],
    ),
    "a time limit": (flow_of([step("a", timeout=90)], ("start", "a")), ["seconds: 90"]),
    "a prompt": (
        flow_of([Step(id="a", kind="model", name="A", operation="ask", model=ModelUse(name="fulmar-mini-2", prompts=(Prompt(text="Count the gulls."),)))], ("start", "a")),
        ["Count the gulls.", "fulmar-mini-2"],
    ),
    "a switched-off step": (flow_of([step("a", enabled=False)], ("start", "a")), ["if: ${ false }"]),
}  # fmt: skip


@pytest.mark.parametrize("feature", list(FEATURES))
def test_what_serverless_can_say_is_said(feature: str, tmp_path: Path) -> None:
    flow, words = FEATURES[feature]
    text, told = written(flow, "serverless")
    assert all(one in text for one in words), text
    back, reader = read_text(text, tmp_path, "f.yaml")
    assert not [problem for problem in reader.problems if problem.severity == "error"]
    assert {one.name for one in flow.steps} <= {one.name for one in back[0].steps}, told
    assert back[0].id == "quay/f" and back[0].name == "Quay work"


REFUSED: dict[str, tuple[str, Flow, str]] = {
    "cases without conditions": (
        "serverless",
        flow_of([step("a", "decide"), step("b"), step("c")], ("start", "a"),
                Link(source="a", target="b", role="case", label="yes"), Link(source="a", target="c", role="case", label="no")),
        "cases of 'A' have no condition",
    ),
    "branches that never meet at one step": (
        "serverless",
        flow_of([step(key) for key in "abcde"], ("start", "a"), ("a", "b"), ("a", "c"), ("a", "d"), ("b", "e"), ("c", "e")),
        "do not meet",
    ),
    "triggers that start apart": (
        "serverless",
        flow_of([step("a"), step("b")], ("start", "a"), ("other", "b"), triggers=(START, Trigger(id="other", kind="manual"))),
        "start at different steps",
    ),
    "no described interface": ("arazzo", flow_of([step("a")], ("start", "a")), "no description of an interface"),
    "a case that is more than a value": (
        "agent-spec",
        flow_of([step("a", "decide"), step("b"), step("c")], ("start", "a"),
                Link(source="a", target="b", role="case", label="deep", condition="depth > 9"), Link(source="a", target="c", role="case", label="else", otherwise=True)),
        "is more than a value",
    ),
    "branches of a block that meet": (
        "agent-spec",
        flow_of([step("a", "parallel"), step("b", scope="a"), step("c", scope="a"), step("d", scope="a")], ("start", "a"), ("b", "d"), ("c", "d")),
        "meet within it",
    ),
    "a model without a name": (
        "agent-spec",
        flow_of([Step(id="a", kind="model", name="A", model=ModelUse(prompts=(Prompt(text="Hm."),)))], ("start", "a")),
        "does not say which model",
    ),
}  # fmt: skip


@pytest.mark.parametrize("case", list(REFUSED))
def test_what_cannot_be_said_is_refused_with_a_reason(case: str) -> None:
    form, flow, reason = REFUSED[case]
    text, told = written(flow, form)
    assert text == "" and len(told) == 1 and reason in told[0]


BLOCKS: dict[str, tuple[Flow, str]] = {
    "a loop": (
        flow_of([step("a", "loop", repeat=Repeat(items="x")), step("b", scope="a"), step("c", scope="a"), step("d")],
                ("start", "a"), ("b", "c"), ("a", "d")),
        "MapNode",
    ),
    "branches": (
        flow_of([step("a", "parallel"), step("b", scope="a"), step("c", scope="a"), step("d", scope="a")], ("start", "a"), ("c", "d")),
        "ParallelFlowNode",
    ),
    "a group in a group": (
        flow_of([step("a", "group"), step("b", "group", scope="a"), step("c", scope="b")], ("start", "a")),
        "FlowNode",
    ),
    "an error route": (
        flow_of([step("a"), step("b"), step("e")], ("start", "a"), ("a", "b"), Link(source="a", target="e", role="error")),
        "caught_exception_branch",
    ),
    "a guarded block": (
        flow_of([step("a", "guard"), step("b", scope="a"), step("e")], ("start", "a"), Link(source="a", target="e", role="error")),
        "CatchExceptionNode",
    ),
}  # fmt: skip


@pytest.mark.parametrize("block", list(BLOCKS))
def test_blocks_are_flows_within_the_flow(block: str) -> None:
    flow, word = BLOCKS[block]
    text, told = written(flow, "agent-spec")
    assert word in text
    assert all("; step (" not in words and "arrow (" not in words and ": step (" not in words for words in told), told


def test_what_is_left_out_is_told() -> None:
    flow = flow_of(
        [step("a", "send", effect="send", connection="mail", inputs=(Binding(name="to", value="the pilot"),), note="At dawn.")],
        ("start", "a"),
        triggers=(Trigger(id="start", kind="webhook", name="Called"),),
    )  # fmt: skip
    _, (told,) = written(flow, "serverless")
    for words in ("kind of a trigger (Called)", "kind (A)", "effect (A)", "connection (A)", "note (A)"):
        assert words in told
    assert "inputs" not in told  # they stand in the file


@settings(
    max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow]
)
@given(flow=drawn_flows())
def test_random_flows_are_written_or_refused(flow: Flow, tmp_path: Path) -> None:
    """No flow ends in a fault; what is written is whole, and every step that is not told to be missing is there."""
    for form in STANDARDS:
        text, problems = convert_flows(Session(), Estate(flows=(flow,)), form)
        if not text:
            assert [problem.code for problem in problems] == ["convert-unsayable"]
            continue
        (back,), reader = read_text(text, tmp_path, "f.yaml")
        assert not [problem for problem in reader.problems if problem.severity == "error"]
        told = " ".join(problem.message for problem in problems)
        prompts = {prompt.text for one in flow.steps if one.model for prompt in one.model.prompts}
        assert "; arrow (" not in told, (told, text)  # no way of the flow is lost
        assert "step (" in told or len(back.steps) >= len([one for one in flow.steps if one.kind != "note"])
        assert all(prompt in yaml.dump(yaml.safe_load(text), width=10**6) for prompt in prompts)


def test_an_arrow_that_is_lost_is_found(tmp_path: Path) -> None:
    flow, _ = FEATURES["branches that meet"]
    text, _ = written(flow, "serverless")
    (back,), _ = read_text(text, tmp_path, "f.yaml")
    names = {one.id: next(other.id for other in back.steps if other.name == one.name) for one in flow.steps}
    assert lost_arrows(flow, back, names) == []
    fork = next(one.id for one in back.steps if one.kind == "parallel")
    cut = structs.replace(
        back, links=tuple(link for link in back.links if link.source != fork or link.target != names["b"])
    )
    cut = structs.replace(
        cut, steps=tuple(structs.replace(one, scope=None) if one.id == names["b"] else one for one in cut.steps)
    )
    assert [(link.source, link.target) for link in lost_arrows(flow, cut, names)] == [("a", "b"), ("b", "d")]


def test_data_runs_along_edges(tmp_path: Path) -> None:
    ask = ModelUse(name="fulmar-mini-2", prompts=(Prompt(text="Sort {{letter}}."),))
    feed = Binding(name="letter", decided="data", refs=(Ref(step="a", path="body", text="{{letter}}"),))
    flow = flow_of(
        [step("a"), Step(id="b", kind="model", name="B", operation="LlmNode", model=ask, inputs=(feed,))],
        ("start", "a"), ("a", "b"),
    )  # fmt: skip
    text, _ = written(flow, "agent-spec")
    (back,), _ = read_text(text, tmp_path, "f.yaml")
    (fed,) = [binding for binding in back.steps[1].inputs if binding.name == "letter"]
    assert fed.refs[0].step == "a" and fed.refs[0].path == "body"


@pytest.mark.parametrize("form", list(STANDARDS))
def test_convert_tells_and_goes_on(form: str, run: Run, demo: Path) -> None:
    ran = run("convert", "november", "-f", form, "-o", f"{form}.yaml", cwd=demo)
    assert ran.code == 2 and "convert-unsayable" in ran.err and "the rest was processed" in ran.err
    again = run("inventory", f"{form}.yaml", "-f", "json", cwd=demo)
    assert again.code == 0 and json.loads(again.out)["totals"]["flows"] >= 1
    only = run("convert", str(OWN[form].relative_to(ESTATE)), "-f", form, cwd=demo)
    assert only.code == 0 and yaml.safe_load(only.out)


def test_nothing_sayable_writes_nothing(run: Run, demo: Path) -> None:
    ran = run("convert", "november/kvarte", "-f", "arazzo", "-o", "none.yaml", cwd=demo)
    assert ran.code == 2 and not (demo / "none.yaml").exists()


# -- YAML files of several documents ----------------------------------------------------------------------------------


def test_each_document_of_a_yaml_file_is_read(tmp_path: Path, run: Run) -> None:
    one = OWN["serverless"].read_text()
    other = one.replace("sailing-statistics", "night-statistics").replace("cron: 30 23 * * *", "every: soon")
    (tmp_path / "two.yaml").write_text(f"# both\n---\n{one}\n---\n{other}\n---\n# nothing here\n")
    ran = run("inventory", "two.yaml", "-f", "json")
    assert {row["id"] for row in json.loads(ran.out)["flows"]} == {
        "ferries/sailing-statistics",
        "ferries/night-statistics",
    }
    assert {row["source"] for row in json.loads(ran.out)["flows"]} == {
        f"two.yaml!document-{place}.yaml" for place in (1, 2)
    }


def test_a_broken_document_does_not_hide_the_others(tmp_path: Path, run: Run) -> None:
    one = OWN["serverless"].read_text()
    (tmp_path / "two.yaml").write_text(f"{one}\n---\na: [1,\n")
    ran = run("inventory", "two.yaml", "-f", "json")
    lines = one.count("\n") + 3
    assert ran.code == 2 and len(json.loads(ran.out)["flows"]) == 1
    assert f"line {lines + 1}" in ran.err or f"line {lines}" in ran.err, ran.err


def test_a_line_of_dashes_within_a_text_is_no_document(tmp_path: Path, run: Run) -> None:
    text = (
        OWN["serverless"]
        .read_text()
        .replace("  title: Sailing statistics", "  title: |\n    Sailing\n    ---\n    statistics")
    )
    (tmp_path / "one.yaml").write_text(text)
    ran = run("inventory", "one.yaml", "-f", "json")
    assert ran.code == 0 and len(json.loads(ran.out)["flows"]) == 1

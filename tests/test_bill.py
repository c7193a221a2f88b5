"""Bills of materials, SARIF and JUnit, held against the schemas and readers of libraries that know nothing of us."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

import msgspec
import pytest
from junitparser import JUnitXml  # type: ignore[import-untyped]
from sarif_pydantic import Sarif

from conftest import Run
from test_checks import flow, step
from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.model.records import Flow, Link, ModelUse, Prompt
from zeitbuch.core.report.bill import bill_of

sys.path.insert(0, str(Path(__file__).parent.parent / "benchmarks"))
from clean_flows import clean_estate, pay_desk


def faults_of(text: str) -> Any:
    """What the standard's own validator finds."""
    from cyclonedx.schema import SchemaVersion
    from cyclonedx.validation.json import JsonStrictValidator  # takes seconds to load

    return JsonStrictValidator(SchemaVersion.V1_6).validate_str(text)


def test_the_bill_of_the_demo(demo: Path, run: Run) -> None:
    text = run("inventory", "--format", "cyclonedx", cwd=demo).out
    assert faults_of(text) is None and text == run("inventory", "--format", "cyclonedx", cwd=demo).out
    bill = json.loads(text)
    parts = {one["bom-ref"]: one for one in bill["components"]}
    assert parts["model:fulmar-large-2"]["type"] == "machine-learning-model"
    prompts = [one for ref, one in parts.items() if ref.startswith("prompt:")]
    assert prompts and all(len(one["hashes"][0]["content"]) == 64 for one in prompts)
    assert "spoken announcement" not in text  # a prompt's words stay in the house
    effects = [
        one["value"]
        for one in next(part for part in parts.values() if part["name"] == "Pay a refund")["properties"]
        if one["name"] == "zeitbuch:effect"
    ]
    assert effects == ["spend"]
    needs = {one["ref"]: one["dependsOn"] for one in bill["dependencies"]}
    assert "flow:fault-logger" in needs["flow:SH-1077"] and "connection:Bank" in needs["flow:letters"]
    services = {one["bom-ref"]: one for one in bill["services"]}
    assert {one["flow"] for one in services["connection:Bank"]["data"]} == {"outbound"}
    one = json.loads(run("inventory", "november/native", "--format", "cyclonedx", cwd=demo).out)
    assert one["serialNumber"] != bill["serialNumber"]


@pytest.mark.parametrize("seed", range(20))
def test_bills_are_valid_and_know_no_order(seed: int) -> None:
    flows = msgspec.convert([*[made.flow for made in clean_estate(seed)], pay_desk()], list[Flow])
    bill = bill_of(EstateView(flows), "1.0")
    assert faults_of(json.dumps(bill)) is None
    assert bill == bill_of(EstateView(flows[::-1]), "1.0")


def test_what_comes_twice_is_told_twice() -> None:
    """Two flows with one id, one prompt in two roles, one tool of two agents: nothing is left out, in any order."""
    agents = (
        step("a", "agent", model=ModelUse(name="m", prompts=(Prompt(role="system", text="Be kind."),))),
        step("b", "agent"),
    )
    tool = step("p", "send", effect="send")
    links = tuple([Link(source="p", target=one, role="attach") for one in ("a", "b")])
    asked = step("q", "model", model=ModelUse(name="m", prompts=(Prompt(role="user", text="Be kind."),)))
    flows = [flow(*agents, tool, links=links, name="Dev"), flow(asked, name="Prod")]
    bill = bill_of(EstateView(flows), "1.0")
    assert faults_of(json.dumps(bill)) is None and bill == bill_of(EstateView(flows[::-1]), "1.0")
    assert {one["name"] for one in bill["components"] if one["bom-ref"].startswith("flow:")} == {"Dev", "Prod"}

    def of(kind: str, name: str) -> list[str]:
        parts = [one for one in bill["components"] if one["bom-ref"].startswith(kind)]
        return [row["value"] for row in parts[0]["properties"] if row["name"] == f"zeitbuch:{name}"]

    assert of("prompt:", "role") == ["system", "user"] and of("tool:", "agent") == ["A", "B"]


def test_findings_are_read_by_others(demo: Path, run: Run, tmp_path: Path) -> None:
    found = json.loads(run("check", "-f", "json", cwd=demo).out)["findings"]
    log = Sarif.model_validate_json(run("check", "-f", "sarif", cwd=demo).out)
    assert [one.rule_id for one in log.runs[0].results or []] == [one["code"] for one in found]
    assert all(one.locations and one.partial_fingerprints for one in log.runs[0].results or [])
    (tmp_path / "j.xml").write_text(run("check", "-f", "junit", cwd=demo).out)
    read = JUnitXml.fromfile(str(tmp_path / "j.xml"))
    assert sum(suite.failures + suite.skipped for suite in read) == len(found)

"""Conservation: change or remove any value of an export, and the model, the unread part or noise changes."""

from __future__ import annotations

import json
import random
import re
from collections import Counter
from pathlib import Path
from typing import Any

import pytest
import yaml

from conftest import ESTATE, draws
from conservation import Silent, said_of, silent_values
from test_mutations import DIALECTS, mutated
from zeitbuch.readers.dialects.rules import parse_dialect
from zeitbuch.readers.input.sources import Held
from zeitbuch.readers.reading.reader import Reader

EXPORTS = sorted(p for p in (ESTATE / "november").rglob("*.json") if "standards" not in str(p))
NATIVE = sorted((ESTATE / "november" / "native").glob("*.yaml"))
DOCUMENTS = Path(__file__).parent / "documents"
STANDARDS = {path.stem: yaml.safe_load(path.read_text()) for path in sorted(DOCUMENTS.glob("*.yaml"))}
# What the dialects of the demo, and the readers of standards, call noise.
NOISE = re.compile(
    r"^(kvarte|strandline|lockgate|pilotline|tidemark)(/|$)|people/\d+/duty$|canvas(/|$)|masters/second$|"
    r"data_flow_connections/\d+/id$"
)
REASONS: tuple[tuple[str, Any], ...] = (
    ("noise", lambda one, place: NOISE.search(place) is not None),
    ("null or empty says nothing", lambda one, place: one.act == "removed" and one.before in (None, "")),
    ("what holds when nothing is said", lambda one, place: one.act == "removed" and _is_default(one, place)),
)


def _is_default(one: Silent, place: str) -> bool:
    """A value that is written out and would hold without it."""
    said = f"{place}={one.before}"
    return (
        re.search(
            r"(/|^)(component_type=(Control|Data)FlowEdge|component_type=Agent|agentspec_version=.*|type=(end|openapi|object)|"
            r"then=(page|l|exit)|(waits|after)/[^/]*/\d+=(done|ok)|exits/\d+/label=.*|\$component_ref=(start|is|two|asked)|"
            r"start_node/\$component_ref=.*|start/stateName=look)$",
            said,
        )
        is not None
    )


def reason_of(one: Silent) -> str:
    place = "/".join(map(str, one.path))
    return next((name for name, fits in REASONS if fits(one, place)), "")


def judged(tried: int, silent: list[Silent], most: float) -> None:
    """Prints the reasons, and fails when values beyond them went silent."""
    count = Counter(reason_of(one) for one in silent)
    print(f"{tried} values:", dict(count))
    unexplained = {one.path: one for one in silent if not reason_of(one)}
    assert len(unexplained) <= most * tried, list(unexplained.values())[:5]


@pytest.mark.parametrize("path", EXPORTS, ids=lambda p: p.stem)
def test_exports_of_the_demo(path: Any) -> None:
    judged(*silent_values(json.loads(path.read_text()), DIALECTS, random.Random(1), draws(70, 10**9)), 0)


@pytest.mark.parametrize("name", list(STANDARDS))
def test_open_standards(name: str) -> None:
    judged(*silent_values(STANDARDS[name], (), random.Random(1), draws(70, 10**9)), 0)


@pytest.mark.parametrize("path", NATIVE, ids=lambda p: p.stem)
def test_native_form(path: Any) -> None:
    judged(*silent_values(yaml.safe_load(path.read_text()), (), random.Random(1)), 0)


@pytest.mark.parametrize("seed", range(draws(1)))
def test_random_exports(seed: int) -> None:
    draw = random.Random(seed)
    tried, silent = 0, []
    for _ in range(12):
        document = mutated(json.loads(draw.choice(EXPORTS).read_text()), draw)
        if said_of(json.dumps(document).encode(), "export.json", DIALECTS)[0]:
            count, found = silent_values(document, DIALECTS, draw, 25)
            tried, silent = tried + count, silent + found
    assert tried > 150
    judged(tried, silent, 0.005)


@pytest.mark.parametrize("seed", range(draws(1)))
def test_random_documents_of_standards(seed: int) -> None:
    draw = random.Random(seed)
    tried, silent = 0, []
    for _ in range(12):
        document = mutated(draw.choice(list(STANDARDS.values())), draw)
        if said_of(json.dumps(document).encode(), "export.json")[0]:
            count, found = silent_values(document, (), draw, 25)
            tried, silent = tried + count, silent + found
    assert tried > 100
    judged(tried, silent, 0.005)


LOST = """
dialect = 1
name = "n"
[signature]
all = ["$.iron"]
[flow]
at = "$.r"
id = "id"
name = "id"
owners = ["a", "b"]
[step]
at = "$.works[*]"
id = "@key"
name = "@key"
operation = "act"
settings = "args"
timeout = "limit"
[predecessors]
at = "after"
outcomes = { ok = "success" }
[[holds]]
at = "branches"
role = "case"
steps = "works"
label = "equals"
[trigger]
at = "$.on[*]"
id = "@key"
name = "@key"
operation = "act"
settings = "args"
[[kind]]
operation = "poll"
trigger = "polling"
every = "args.interval"
[[kind]]
operation = "form"
trigger = "form"
event = "args.fields.*.name"
[[kind]]
operation = "if"
kind = "decide"
"""


def _lost(interval: Any, limit: Any) -> dict[str, Any]:
    branch = {"works": {"S": {"act": "send", "after": {}}}}
    return {
        "iron": 1,
        "r": {
            "id": "R1", "a": "Ann", "b": ["Ben", "Cy"],
            "on": {"p": {"act": "poll", "args": {"interval": interval}}, "q": {"act": "form", "args": {"fields": [{"name": "plant"}, {"name": "pieces"}]}}},
            "works": {"A": {"act": "ask", "args": {"who": "x"}, "limit": limit, "after": {}}, "I": {"act": "if", "after": {"A": ["ok"]}, "branches": {"yes": branch}}},
        },
    }  # fmt: skip


def read_lost(interval: Any, limit: Any) -> tuple[Any, list[Any]]:
    reader = Reader([parse_dialect(LOST, "n.toml")])
    (flow,) = reader.flows_of([Held("x.json", json.dumps(_lost(interval, limit)).encode())])
    return flow, reader.problems


def test_values_that_were_lost() -> None:
    """An interval and a limit in ISO 8601, form fields, the second owner, the key of a branch without a label."""
    flow, problems = read_lost("PT1M", "P2D")
    assert problems == [] and flow.owners == ("Ann", "Ben", "Cy")
    by = {trigger.id: trigger for trigger in flow.triggers}
    assert by["p"].schedule is not None and by["p"].schedule.every == 60
    assert by["q"].event == "plant, pieces"
    assert flow.step("A").timeout == 172800
    assert [link.label for link in flow.links if link.role == "case"] == ["yes"]
    assert flow.around == {"iron": 1} and flow.content.unread == 1
    judged(*silent_values(_lost("PT1M", "P2D"), [parse_dialect(LOST, "n.toml")], random.Random(1)), 0.06)


@pytest.mark.parametrize(
    "limit", ["2d", "36 h", "48:00:00", "P2D", {"days": 2}, {"value": 48, "unit": "hours"}, 172800]
)
def test_durations_in_common_forms(limit: Any) -> None:
    flow, problems = read_lost("PT1M", limit)
    assert problems == [] and flow.step("A").timeout in (172800, 129600)


@pytest.mark.parametrize("limit", ["1:30", "two days", "3 fortnights", -5, {"days": "x"}, ["a", {"b": 1}]])
def test_durations_that_cannot_be_used_stay_unread_and_are_told(limit: Any) -> None:
    flow, problems = read_lost("PT1M", limit)
    (problem,) = problems
    assert problem.code == "value-unusable" and problem.severity == "finding" and "`limit`" in problem.message
    assert problem.origin.pointer == "/r/works/A/limit"
    step = flow.step("A")
    assert step.timeout is None and step.unread == {"limit": limit}


def test_an_unusable_value_is_no_fault_of_the_input(tmp_path: Any, run: Any) -> None:
    (tmp_path / "n.toml").write_text(LOST)
    (tmp_path / "x.json").write_text(json.dumps(_lost("every minute", "P2D")))
    ran = run("inventory", "x.json", "--dialect", "n.toml", "-f", "json")
    assert ran.code == 0 and "value-unusable" in ran.err and "'every minute'" in ran.err
    (row,) = json.loads(ran.out)["flows"]
    assert row["read"] < 1


def test_cases_of_a_second_step_with_the_same_id_are_not_lost() -> None:
    """Links leave the first of the two; what the cases of the other say stays unread."""
    document = json.loads((ESTATE / "november/strandline/cargo-papers.json").read_text())
    stations = document["sheet"]["stations"]
    first = next(station for station in stations if station["ref"] == "p5")
    stations.append(json.loads(json.dumps(first)))
    before = said_of(json.dumps(document).encode(), "export.json", DIALECTS)
    for station in (first, stations[-1]):
        was = station["with"]["ways"][0]["says"]
        station["with"]["ways"][0]["says"] = "perhaps"
        assert said_of(json.dumps(document).encode(), "export.json", DIALECTS) != before
        station["with"]["ways"][0]["says"] = was


def test_outcomes_of_a_predecessor_that_is_not_there_are_not_lost() -> None:
    document = json.loads((ESTATE / "november/lockgate/invoice-intake.json").read_text())
    waits = document["canal"]["gates"]["Tell accounting"]["waits"]
    waits["Nobody"] = ["broke"]
    before = said_of(json.dumps(document).encode(), "export.json", DIALECTS)
    waits["Nobody"] = ["late"]
    assert said_of(json.dumps(document).encode(), "export.json", DIALECTS) != before

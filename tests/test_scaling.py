"""Readers and commands grow with their input at most as n log n. Counted are lines of Python that run, not seconds: what a flow of twice
the size adds is about twice what it added before; where it were four times, a loop runs over all for each."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from counted import lines_run
from zeitbuch.cli.main import main

SIZES = (60, 120, 240)
MOST = 2.9  # linear 2, n log n 2.3, quadratic 4
MOST_OF = {
    "estimate failures that meet": 4.0
}  # each meeting looks through the branches that are left: next to nothing for each


def native(size: int, mark: str = "") -> str:
    """A chain of steps of four kinds with cases, prompts and references."""
    kinds = ("model", "http", "decide", "code")
    steps: list[dict[str, Any]] = []
    for n in range(size):
        step = {
            "id": f"s{n}",
            "kind": kinds[n % 4],
            "name": f"Step {n}",
            "inputs": [{"name": "x", "value": f"v{n}{mark if n % 20 == 0 else ''}"}],
        }
        if n % 4 == 0:
            step["model"] = {"name": "quill-small", "prompts": [{"text": f"Say {n} to the desk, please."}]}
        steps.append(step)
    links = [{"source": "t", "target": "s0"}]
    links += [
        {"source": f"s{n}", "target": f"s{n + 1}", **({"role": "case", "label": f"case {n}"} if n % 4 == 2 else {})}
        for n in range(size - 1)
    ]
    return json.dumps(
        {
            "zeitbuch": 1,
            "flows": [{"id": "a", "triggers": [{"id": "t", "kind": "manual"}], "steps": steps, "links": links}],
        }
    )


def secrets(size: int) -> str:
    """Steps that each hold a secret of their own."""
    document = json.loads(native(size))
    for n, step in enumerate(document["flows"][0]["steps"]):
        step["inputs"] = [{"name": "password", "value": f"Otter-{n}-x9"}]
    return json.dumps(document)


def bpmn(size: int) -> str:
    tasks = "".join(f'<task id="t{n}" name="T{n}"/>' for n in range(size))
    arrows = "".join(f'<sequenceFlow id="f{n}" sourceRef="t{n}" targetRef="t{n + 1}"/>' for n in range(size - 1))
    start = '<startEvent id="s"/><sequenceFlow id="f" sourceRef="s" targetRef="t0"/>'
    return f'<definitions xmlns="http://www.omg.org/spec/BPMN/20100524/MODEL"><process id="a">{start}{tasks}{arrows}</process></definitions>'


def serverless(size: int) -> str:
    tasks = "".join(
        f"- s{n}: {{call: http, with: {{method: get, endpoint: 'https://x.example/{n}'}}}}\n" for n in range(size)
    )
    return f"document: {{dsl: '1.0.0', namespace: n, name: a, version: '1.0.0'}}\ndo:\n{tasks}"


def arazzo(size: int) -> str:
    steps = "".join(f"  - {{stepId: s{n}, operationId: o{n}}}\n" for n in range(size))
    head = (
        "arazzo: 1.0.0\ninfo: {title: a, version: '1'}\nsourceDescriptions: [{name: x, url: 'x.yaml', type: openapi}]\n"
    )
    return f"{head}workflows:\n- workflowId: a\n  steps:\n{steps}"


def agents(size: int) -> str:
    nodes = [{"component_type": "StartNode", "id": "s", "name": "start"}]
    nodes += [
        {"component_type": "LlmNode", "id": f"n{n}", "name": f"n{n}", "prompt_template": f"Say {n}"}
        for n in range(size)
    ]
    edges = [
        {
            "component_type": "ControlFlowEdge",
            "name": "e",
            "from_node": {"$component_ref": "s"},
            "to_node": {"$component_ref": "n0"},
        }
    ]
    edges += [
        {
            "component_type": "ControlFlowEdge",
            "name": f"e{n}",
            "from_node": {"$component_ref": f"n{n}"},
            "to_node": {"$component_ref": f"n{n + 1}"},
        }
        for n in range(size - 1)
    ]
    flow = {
        "component_type": "Flow", "id": "a", "name": "a", "agentspec_version": "25.4.1", "start_node": {"$component_ref": "s"}, "nodes": nodes,
        "control_flow_connections": edges,
    }  # fmt: skip
    return json.dumps(flow)


def forks(size: int) -> str:
    """Branches side by side that meet, one pair behind another."""
    steps, links = [], [{"source": "s", "target": "a0"}]
    for place in range(size // 3):
        steps += [{"id": f"{word}{place}", "kind": "tool"} for word in "abc"]
        links += [{"source": f"a{place}", "target": f"{word}{place}"} for word in "bc"]
        links += [{"source": f"{word}{place}", "target": f"a{place + 1}"} for word in "bc"]
    steps.append({"id": f"a{size // 3}", "kind": "tool"})
    flow = {"id": "a", "triggers": [{"id": "s", "kind": "manual"}], "steps": steps, "links": links}
    return json.dumps({"zeitbuch": 1, "flows": [flow]})


def meeting(size: int) -> str:
    """Branches that begin with the trigger and all meet in one step, and so many cases of a decision behind it."""
    half = size // 2
    links = [{"source": "t", "target": f"a{n}"} for n in range(half)]
    links += [{"source": f"a{n}", "target": "z"} for n in range(half)]
    links += [{"source": "z", "target": f"b{n}", "role": "case", "label": f"case {n}"} for n in range(half)]
    links += [{"source": f"b{n}", "target": "y"} for n in range(half)]
    steps = [{"id": f"{word}{n}", "kind": "http"} for word in "ab" for n in range(half)]
    steps += [{"id": "z", "kind": "decide"}, {"id": "y", "kind": "http"}]
    flow = {"id": "a", "triggers": [{"id": "t", "kind": "manual"}], "steps": steps, "links": links}
    return json.dumps({"zeitbuch": 1, "flows": [flow]})


def failing(size: int) -> str:
    """A chain of which every step leads to one that takes failures."""
    links = [{"source": "t", "target": "a0"}]
    links += [{"source": f"a{n}", "target": f"a{n + 1}"} for n in range(size - 1)]
    links += [{"source": f"a{n}", "target": "z", "role": "error"} for n in range(size)]
    steps = [{"id": f"a{n}", "kind": "http"} for n in range(size)] + [{"id": "z", "kind": "http"}]
    flow = {"id": "a", "triggers": [{"id": "t", "kind": "manual"}], "steps": steps, "links": links}
    return json.dumps({"zeitbuch": 1, "flows": [flow]})


def states(size: int) -> str:
    listed = [
        {
            "name": f"s{n}",
            "type": "operation",
            "actions": [{"functionRef": "f"}],
            **({"transition": f"s{n + 1}"} if n + 1 < size else {"end": True}),
        }
        for n in range(size)
    ]
    functions = [{"name": "f", "operation": "x", "type": "custom"}]
    return json.dumps({"id": "a", "specVersion": "0.8", "functions": functions, "states": listed})


CASES: dict[str, tuple[Callable[[int], str], str, list[str]]] = {
    "read native": (native, "json", ["inventory", "{}"]),
    "read BPMN": (bpmn, "bpmn", ["inventory", "{}"]),
    "read Serverless": (serverless, "yaml", ["inventory", "{}"]),
    "read Serverless 0.8": (states, "json", ["inventory", "{}"]),
    "read Arazzo": (arazzo, "yaml", ["inventory", "{}"]),
    "read Agent Spec": (agents, "json", ["inventory", "{}"]),
    "secrets": (secrets, "json", ["convert", "{}"]),
    "explain": (native, "json", ["explain", "a", "--source", "{}"]),
    "estimate": (native, "json", ["estimate", "{}", "--steps"]),
    "estimate many that meet": (meeting, "json", ["estimate", "{}"]),
    "estimate failures that meet": (failing, "json", ["estimate", "{}"]),
    "check many that meet": (meeting, "json", ["check", "{}"]),
    "convert": (native, "json", ["convert", "{}"]),
    "convert to BPMN": (native, "json", ["convert", "{}", "-f", "bpmn"]),
    "convert to Serverless": (forks, "json", ["convert", "{}", "-f", "serverless"]),
    "convert to Agent Spec": (native, "json", ["convert", "{}", "-f", "agent-spec"]),
    "map": (native, "json", ["map", "{}", "-o", "m.svg"]),
    "map page": (native, "json", ["map", "{}", "-o", "m.html"]),
    "map as text": (native, "json", ["map", "{}", "-f", "text"]),
    "document": (native, "json", ["document", "{}", "-o", "d"]),
    "record": (native, "json", ["record", "{}", "--book", "{}.sqlite"]),
    "compare": (native, "json", ["diff", "{}", "{}.new.json", "--no-shares"]),
}


def count_lines(words: list[str]) -> int:
    """How many lines of our code run in a command."""
    return lines_run(lambda: main([*words, "--no-cache", "-q"]))


@pytest.mark.parametrize("case", list(CASES))
def test_twice_the_input_costs_about_twice(
    case: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capfd: pytest.CaptureFixture[str]
) -> None:
    made, suffix, words = CASES[case]
    monkeypatch.chdir(tmp_path)
    lines = []
    for size in SIZES:
        name = f"a{size}.{suffix}"
        (tmp_path / name).write_text(made(size))
        if case == "compare":
            (tmp_path / f"{name}.new.json").write_text(native(size, "!"))
        lines.append(count_lines([word.format(name) for word in words]))
        capfd.readouterr()
    one, two, four = lines
    assert four - two > 0 and two - one > 0
    assert (four - two) / (two - one) < MOST_OF.get(case, MOST), lines

"""The same flow in every format gives equal models; definitions within definitions; the model map; places of messages."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

from builders import ask, chain, step
from conftest import ESTATE, Run, draws
from zeitbuch.core.model.model_map import ModelRule
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.readers.config import workspace
from zeitbuch.readers.dialects.rules import load_dialect, parse_dialect
from zeitbuch.readers.input.positions import json_offset, locate_pointer, quick_offset
from zeitbuch.readers.reading.reader import Reader
from zeitbuch.writers.exchange.native import to_yaml

WORDS = "Answer the captain in one sentence."
HEAD = """dialect = 1
name = "probe"
[signature]
all = ["$.probe"]
[flow]
at = "$.probe"
[step]
at = "$.steps[*]"
id = "id"
name = "name"
operation = "op"
settings = "set"
model = "set.engine"
prompts = [{ path = "set.say" }]
[[kind]]
operation = "go"
trigger = "manual"
[[kind]]
operation = "get"
kind = "http"
[[kind]]
operation = "llm"
kind = "model"
"""
GO = {"id": "s0", "name": "Go", "op": "go"}
FETCH = {"id": "s1", "name": "Fetch", "op": "get", "set": {"url": "https://x.example"}}
ASK = {"id": "s2", "name": "Ask", "op": "llm", "set": {"engine": "fulmar-mini-2", "say": WORDS}}


def flat(**more: Any) -> str:
    return json.dumps({"probe": {"id": "f", "name": "F", "steps": [GO, FETCH, ASK], **more}})


def pointing(step_: dict[str, Any], to: Any) -> dict[str, Any]:
    return {**step_, "to": to}


SERVERLESS = {
    "document": {"dsl": "1.0.0", "namespace": "n", "name": "f", "title": "F", "version": "1"},
    "do": [
        {"Fetch": {"call": "http", "with": {"method": "get", "endpoint": "https://x.example"}}},
        {"Ask": {"call": "ask", "with": {"say": WORDS}}},
    ],
}
ARAZZO = {
    "arazzo": "1.0.1", "info": {"title": "t", "version": "1"}, "sourceDescriptions": [],
    "workflows": [{"workflowId": "f", "summary": "F", "steps": [
        {"stepId": "Fetch", "operationId": "get"},
        {"stepId": "Ask", "operationId": "ask", "parameters": [{"name": "say", "in": "query", "value": WORDS}]},
    ]}],
}  # fmt: skip
MODEL = {"component_type": "VllmConfig", "id": "m", "name": "m", "model_id": "fulmar-mini-2", "url": "http://x"}
NODES = [
    {"component_type": "StartNode", "id": "go", "name": "Go"},
    {"component_type": "ApiNode", "id": "fetch", "name": "Fetch", "url": "https://x.example", "http_method": "GET"},
    {"component_type": "LlmNode", "id": "ask", "name": "Ask", "llm_config": MODEL, "prompt_template": WORDS},
]
EDGES = [
    {
        "component_type": "ControlFlowEdge",
        "id": f"{a}{b}",
        "name": "e",
        "from_node": {"$component_ref": a},
        "to_node": {"$component_ref": b},
    }
    for a, b in (("go", "fetch"), ("fetch", "ask"))
]
AGENT = {
    "component_type": "Flow", "agentspec_version": "25.4.1", "id": "f", "name": "F", "start_node": {"$component_ref": "go"}, "nodes": NODES,
    "control_flow_connections": EDGES, "data_flow_connections": [],
}  # fmt: skip
BPMN = f"""<definitions xmlns="http://www.omg.org/spec/BPMN/20100524/MODEL" id="d" targetNamespace="u"><process id="f" name="F">
<startEvent id="go" name="Go"/><serviceTask id="fetch" name="Fetch"/><serviceTask id="ask" name="Ask"><extensionElements>
<say xmlns="urn:x">{WORDS}</say></extensionElements></serviceTask><sequenceFlow id="a" sourceRef="go" targetRef="fetch"/>
<sequenceFlow id="b" sourceRef="fetch" targetRef="ask"/></process></definitions>"""
NATIVE = to_yaml(
    Estate(
        flows=(chain(step("fetch", "http", name="Fetch"), ask("ask", WORDS, name="fulmar-mini-2"), id="f", name="F"),)
    )
)
OK = '[[outlet]]\nmatch = "ok"\nrole = "next"\nlabel = ""'
LISTED = [pointing(GO, [{"go": "s1"}]), pointing(FETCH, [{"go": "s2", "when": "ok"}]), ASK]
WRITTEN: dict[str, tuple[str, str, str]] = {
    "link records": ("x.json", flat(links=[{"a": "s0", "b": "s1"}, {"a": "s1", "b": "s2"}]), '[link]\nat = "$.links[*]"\nfrom = "a"\nto = "b"'),
    "adjacency": ("x.json", flat(ties={"s0": {"main": ["s1"]}, "Fetch": {"main": ["s2"]}}), '[adjacency]\nat = "$.ties"\n[[outlet]]\nmatch = "main"\nrole = "next"\nlabel = ""'),
    "tree": ("x.json", flat(), "[tree]"),
    "predecessors": (
        "x.json",
        json.dumps({"probe": {"id": "f", "name": "F", "steps": {
            "Ask": {"op": "llm", "set": ASK["set"], "after": {"Fetch": ["ok"]}}, "Fetch": {"op": "get", "set": {}, "after": {"Go": ["ok"]}}, "Go": {"op": "go"},
        }}}),
        '[predecessors]\nat = "after"\noutcomes = { ok = "success" }',
    ),
    "pointers": ("x.json", json.dumps({"probe": {"id": "f", "name": "F", "steps": [pointing(GO, "s1"), pointing(FETCH, {"ok": "s2"}), ASK]}}), '[[pointer]]\nat = "to"\n' + OK),
    "pointer records": ("x.yaml", yaml.safe_dump({"probe": {"id": "f", "name": "F", "steps": LISTED}}), '[[pointer]]\nat = "to"\ntarget = "go"\nvia = "when"\n' + OK),
    "native": ("x.yaml", NATIVE, ""),
    "bpmn": ("x.bpmn", BPMN, ""),
    "serverless": ("x.yaml", yaml.safe_dump(SERVERLESS), ""),
    "arazzo": ("x.json", json.dumps(ARAZZO), ""),
    "agent-spec": ("x.json", json.dumps(AGENT), ""),
}  # fmt: skip
MAP = [ModelRule(name="Ask", model="fulmar-mini-2", prompt=["say", "query.say", "extensionElements.say"])]


def common(flow: Flow) -> Any:
    """What every format can say of the flow."""
    names = {s.id: s.name.title() for s in flow.steps} | {t.id: "start" for t in flow.triggers}
    return (
        flow.id.rpartition("/")[2],
        flow.name,
        [t.kind for t in flow.triggers],
        sorted((s.name.title(), s.kind, s.model.name if s.model else None, [p.text for p in s.model.prompts] if s.model else []) for s in flow.steps),
        sorted((names[k.source], names[k.target], k.role, k.after) for k in flow.links),
    )  # fmt: skip


@pytest.mark.parametrize("way", list(WRITTEN))
def test_the_same_flow_in_every_format_is_equal(way: str, tmp_path: Path) -> None:
    name, text, tables = WRITTEN[way]
    (tmp_path / name).write_text(text)
    head = HEAD.replace('id = "id"\nname = "name"', 'id = "@key"\nname = "@key"') if way == "predecessors" else HEAD
    dialects = [parse_dialect(head.replace("[[kind]]", f"{tables}\n[[kind]]", 1), "probe.toml")] if tables else []
    reader = Reader(dialects, models=MAP)
    (flow,) = reader.read_sources([str(tmp_path / name)])
    assert reader.problems == []
    assert common(flow) == (
        "f", "F", ["manual"],
        [("Ask", "model", "fulmar-mini-2", [WORDS]), ("Fetch", "http", None, [])],
        [("Fetch", "Ask", "next", ()), ("start", "Fetch", "next", ())],
    )  # fmt: skip
    assert flow.content.unread == 0, flow.unread


# -- definitions within definitions -------------------------------------------------------------------------------------

DIALECTS = [load_dialect(str(p)) for p in sorted((ESTATE / "dialects").glob("*.toml"))]


def test_definitions_pasted_into_a_parameter_are_flows_too(tmp_path: Path) -> None:
    folder = ESTATE / "november"
    outer = json.loads((folder / "strandline/berth-delay.json").read_text())
    stations = outer["sheet"]["stations"]
    bare = json.loads((folder / "strandline/lost-property.json").read_text())["sheet"]
    stations[2]["with"]["copy"] = json.dumps(bare)
    stations[3]["with"]["copy"] = json.dumps(json.loads((folder / "kvarte/crew-swap.json").read_text()), indent=1)
    stations[4]["with"]["copy"] = json.dumps(
        {"just": ["some", "settings", "that", "are", "no", "flow", "of", "anybody", "at all"]}
    )
    (tmp_path / "x.json").write_text(json.dumps(outer))
    reader = Reader(DIALECTS)
    flows = {f.id: f for f in reader.read_sources([str(tmp_path / "x.json")])}
    assert set(flows) == {"SH-1052", "SH-1040", "crew-swap"}
    calls = {s.id: s.calls for s in flows["SH-1052"].steps if s.calls}
    assert calls[stations[2]["ref"]] == "SH-1040" and calls[stations[3]["ref"]] == "crew-swap"
    origin = flows["crew-swap"].origin
    assert origin is not None and origin.pointer.startswith("/sheet/stations/3/with/copy")
    assert len(flows["SH-1040"].steps) == 9
    # A definition is shown as the flow it is, and what it refers to is no reference of the outer flow.
    copies = [one for step in flows["SH-1052"].steps for one in step.inputs if one.name == "copy"]
    assert [one.value for one in copies[:2]] == [
        "the definition of ‘Lost property matching’, read as a flow", "the definition of ‘Crew swap approvals’, read as a flow",
    ]  # fmt: skip
    assert copies[0].refs == copies[1].refs == ()
    assert str(copies[2].value).startswith('{"just"')


# -- the model map ------------------------------------------------------------------------------------------------------


def test_model_map_is_a_table_of_the_workspace(demo: Path, run: Run) -> None:
    ran = run("explain", "Cabin damage claims", "Summarise the claim", "-f", "json", cwd=demo)
    assert ran.code == 0 and "fulmar-large-2" in ran.out and "what a repair may cost" in ran.out
    rules = workspace.load_workspace(str(demo / "zeitbuch.toml")).model
    assert len(rules) == 3
    (demo / "zeitbuch.toml").write_text('sources = ["november"]\n[[model]]\nnames = "x"')
    ran = run("inventory", cwd=demo)
    assert ran.code == 2 and "found `names`; known are" in ran.err


# -- places ---------------------------------------------------------------------------------------------------------------


def test_places_of_pointers() -> None:
    text = '{\n "a": [1,\n  {"b/c": "x"}],\n "é": {"k": 2}\n}'
    assert locate_pointer("x.json", text.encode(), "/a/1/b~1c") == (3, 4)
    assert locate_pointer("x.json", text.encode(), "/a/0") == (2, 8)
    assert locate_pointer("x.json", text.encode(), "/é/k") == (4, 8)
    assert locate_pointer("x.json", text.encode(), "/a/9/q") == (2, 2), "the deepest part that is there"
    assert locate_pointer("x.json", b"\xef\xbb\xbf" + text.encode(), "/a") == (2, 2)
    document = "a:\n- 1\n- b: {c: 2}\nd: e\n"
    assert locate_pointer("x.yaml", document.encode(), "/a/1/b/c") == (3, 7)
    assert locate_pointer("x.yaml", document.encode(), "/d") == (4, 1)


def test_messages_say_line_and_column(demo: Path, run: Run) -> None:
    path = demo / "november/strandline/berth-delay.json"
    document = json.loads(path.read_text())
    document["sheet"]["lines"].append({"out": "nowhere", "in": "s1"})
    path.write_text(json.dumps(document, indent=1))
    ran = run("inventory", cwd=demo)
    place = next(line for line in ran.err.splitlines() if "[link-end]" in line).split("#")[0]
    name, line, column = place.rsplit(":", 2)
    assert name == "november/strandline/berth-delay.json" and int(column) == 4
    assert path.read_text().splitlines()[int(line)].strip() == '"out": "nowhere",'
    packed = demo / "p.zip"
    import zipfile

    with zipfile.ZipFile(packed, "w") as package:
        package.write(path, "in/berth.json")
    assert f"p.zip!in/berth.json:{line}:{column}#/sheet/lines/" in run("inventory", "p.zip", cwd=demo).err
    (demo / "bad.bpmn").write_text(BPMN.replace("</process>", "</proces>"))
    assert "bad.bpmn:4:" in run("inventory", "bad.bpmn", cwd=demo).err


def test_keys_of_yaml_that_are_no_texts_are_read_as_texts(tmp_path: Path, run: Run) -> None:
    text = "document: {dsl: 1.0.0, namespace: a, name: b}\ndo:\n  - x: {set: {null: 1, true: 2, 1: 3, 2: {3: four}}}\n"
    (tmp_path / "x.yaml").write_text(text)
    ran = run("convert", "x.yaml", "-f", "json")
    inputs = {one["name"]: one["value"] for one in json.loads(ran.out)["flows"][0]["steps"][0]["inputs"]}
    assert ran.code == 0 and inputs == {"null": 1, "true": 2, "1": 3, "2": {"3": "four"}}


VALUES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False, allow_infinity=False) | st.text(max_size=6),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=3), inner, max_size=4),
    max_leaves=12,
)


def pointers_in(value: object, before: str = "") -> Iterator[str]:
    yield before
    parts = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, inner in parts:
        yield from pointers_in(inner, f"{before}/{str(key).replace('~', '~0').replace('/', '~1')}")


@settings(max_examples=draws(150), deadline=None)
@given(
    value=VALUES,
    indent=st.sampled_from([None, 0, 2]),
    as_ascii=st.booleans(),
    blanks=st.sampled_from(["", " ", "\n\t"]),
)
def test_the_quick_way_to_a_place_is_the_slow_one(
    value: object, indent: int | None, as_ascii: bool, blanks: str
) -> None:
    text = blanks + json.dumps(value, indent=indent, ensure_ascii=as_ascii) + blanks
    raw = text.encode()
    for pointer in pointers_in(value):
        quick = quick_offset(raw, pointer)
        assert quick is None or quick == len(text[: json_offset(text, pointer)].encode()), (text, pointer)
        assert quick is not None or "\\" in text, (text, pointer)  # only keys with escapes need the slow one


@pytest.mark.parametrize(
    ("text", "pointer", "place"),
    [
        ('{"a": 1, "a": 2}', "/a", (1, 2)),  # of a key that stands twice the first
        ('{"a": 1, "a": 1}', "/a", (1, 2)),
        ('{"x": {"a": 7}, "a": 7}', "/a", (1, 17)),  # not the same key within another value
        ('{"x": "\\"a\\": 7", "a": 7}', "/a", (1, 19)),
        ('{"b": "a", "a": [0, 1, 10, 1]}', "/a/3", (1, 28)),
        ('{"a": NaN, "b": 1}', "/b", (1, 12)),  # no strict JSON
        ('{"a": 1, "b": [1, 2', "/a", (1, 2)),  # broken off behind it
        ('{"\\u0061": 1}', "/a", (1, 2)),
    ],
)
def test_places_that_are_hard_to_find(text: str, pointer: str, place: tuple[int, int]) -> None:
    assert locate_pointer("x.json", text.encode(), pointer) == place

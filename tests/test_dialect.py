"""The dialect reader: both shapes, placeholders, unread parts, and wrong dialect files."""

from __future__ import annotations

import copy
import json
from pathlib import Path
from typing import Any

import pytest

from conftest import ESTATE
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.core.report.inventory import searchable_text
from zeitbuch.readers.dialects.paths import claim_paths, make_getter, path_keys, unclaimed_part
from zeitbuch.readers.dialects.query import Query
from zeitbuch.readers.dialects.rules import parse_dialect
from zeitbuch.readers.reading.reader import Reader

FLAT = """
dialect = 1
name = "probe"
[signature]
all = ["$.probe"]
[flow]
at = "$.sheets[*]"
id = "n"
name = "title"
state = "live"
states = { true = "on" }
[step]
at = "$.parts[?@.what]"
id = "n"
name = "title"
operation = "what"
settings = "set"
on_fault = "bad"
on_faults = { go = "continue" }
disabled = "muted"
model = "set.brain"
prompts = [{ role = "system", path = "set.order" }]
[link]
at = "$.joins[*]"
from = "a"
to = "b"
outlet = "door"
by = "name"
[[outlet]]
match = "no*"
role = "error"
after = ["failure"]
[placeholders]
open = "<%"
close = "%>"
variable = "var:"
trigger = "first"
model = "pick:"
[[kind]]
operation = "start"
trigger = "manual"
[[kind]]
operation = "brain*"
kind = "model"
[[kind]]
operation = "switch"
kind = "decide"
cases = { at = "set.doors", outlet = "id", label = "text", condition = "when" }
"""


def read(document: Any, dialect: str, tmp_path: Path) -> tuple[Flow, list[str]]:
    path = tmp_path / "x.json"
    path.write_text(json.dumps(document))
    reader = Reader([parse_dialect(dialect, "probe.toml")])
    (flow,) = reader.read_sources([str(path)])
    return flow, [p.code for p in reader.problems]


DOCUMENT = {
    "probe": 1,
    "sheets": [
        {
            "n": 7, "title": "T", "live": True, "extra": {"x": [1, 2]},
            "parts": [
                {"n": 1, "title": "Go", "what": "start"},
                {"n": 2, "title": "Think", "what": "brain.v1", "set": {"brain": "m-1", "order": "Say <% Go.text %> for <%var:who%>", "k": 5}, "bad": "go"},
                {"n": 3, "title": "Fork", "what": "switch", "set": {"doors": [{"id": "d1", "text": "left", "when": "x > 1"}]}},
                {"n": 4, "title": "Left", "what": "odd", "set": {"to": "<%pick: who | text | The person%>", "deep": {"a": "<%first.q%>", "b": True}}, "muted": True, "hue": "red"},
                {"note": "no operation here"},
            ],
            "joins": [{"a": "Go", "b": "Think"}, {"a": "Think", "b": "Fork"}, {"a": "Fork", "b": "Left", "door": "d1"}, {"a": "Think", "b": "Left", "door": "nope"}],
        }
    ],
}  # fmt: skip


def test_flat_shape(tmp_path: Path) -> None:
    flow, problems = read(DOCUMENT, FLAT, tmp_path)
    assert problems == []
    assert (flow.id, flow.name, flow.state) == ("7", "T", "on")
    assert [t.id for t in flow.triggers] == ["1"]
    think, fork, left = flow.steps
    assert think.kind == "model" and think.on_fault == "continue"
    assert think.model is not None and think.model.name == "m-1"
    (prompt,) = think.model.prompts
    assert [(r.step, r.variable, r.path) for r in prompt.refs] == [("1", None, "text"), (None, "who", "")]
    assert [(b.name, b.value, b.decided) for b in think.inputs] == [("k", 5, "fixed")]
    assert fork.kind == "decide"
    assert left.kind == "other" and left.operation == "odd" and not left.enabled
    by = {b.name: b for b in left.inputs}
    assert (by["to"].decided, by["to"].type, by["to"].description) == ("model", "text", "The person")
    assert by["deep.a"].refs[0].step == "1" and by["deep.b"].value is True
    assert left.unread == {"hue": "red"}
    links = {(k.source, k.target): k for k in flow.links}
    assert links["3", "4"].role == "case" and links["3", "4"].label == "left" and links["3", "4"].condition == "x > 1"
    assert links["2", "4"].role == "error" and links["2", "4"].after == ("failure",)
    assert links["2", "4"].origin is not None and links["2", "4"].origin.pointer == "/sheets/0/joins/3"
    unplaced = [{}, {}, {}, {}, {"note": "no operation here"}]  # the query for steps passes it over
    assert flow.unread == {"extra": {"x": [1, 2]}, "parts": unplaced}
    # Two values of `extra`, `hue`, the note that no query selects, and what stands around the flows.
    assert flow.content.unread == 5
    assert 0.8 < flow.content.read_share < 0.9


def test_tree_shape_of_the_demo(november: Estate) -> None:
    flow = november.flow("crew-swap")
    assert flow is not None
    links = {(k.source, k.target, k.role, k.label) for k in flow.links}
    assert ("form", "rota", "next", "") in links
    assert ("rota", "rota1", "case", "giver") in links
    assert ("verdict", "refuse", "case", "not allowed") in links
    assert ("verdict", "leader", "case", "allowed") in links
    assert ("book", "undo", "error", "on error") in links
    assert ("undo", "tell", "next", "") in links and ("book", "tell", "next", "") in links
    assert not any(k.source == "stop" for k in flow.links), "nothing follows an end"
    assert {s.id for s in flow.steps if s.scope == "rota"} == {"rota1", "rota2"}


def test_attached_steps_and_what_the_model_decides(november: Estate) -> None:
    flow = november.flow("letters")
    assert flow is not None
    assert [(k.source, k.target) for k in flow.links if k.role == "attach"] == [
        ("booking", "refunds"),
        ("pay", "refunds"),
        ("voyage", "complaints"),
    ]
    pay = flow.step("pay")
    assert pay is not None and pay.effect == "spend"
    assert [(b.name, b.decided) for b in pay.inputs] == [("amount", "model"), ("limit", "fixed")]


def test_demo_is_read_whole_but_for_what_its_dialect_does_not_know(november: Estate) -> None:
    assert len(november.flows) == 17
    left = {f.name: f.unread for f in november.flows if f.content.unread}
    assert left == {"Berth delay notices": {"alarm": {"after_minutes": 30, "tell": "duty officer"}}}
    assert all(f.content.values > 20 for f in november.flows)


def test_every_dialect_of_the_demo_says_its_name() -> None:
    for path in (ESTATE / "dialects").glob("*.toml"):
        assert parse_dialect(path.read_text(), str(path)).name == path.stem


@pytest.mark.parametrize(
    ("change", "expected"),
    [
        (("dialect = 1", "dialect = 2"), "dialect"),
        (('name = "probe"', 'name = "probe"\ncolour = 3'), "found `colour`; known are dialect, name"),
        (('kind = "model"', 'kind = "magic"'), "magic"),
        (('at = "$.joins[*]"', 'at = "joins[["'), "JSONPath query"),
        (('id = "n"', 'id = "a..b"'), "dotted path"),
        (("[signature]", "[signature"), "expected TOML"),
    ],
)
def test_wrong_dialects_are_said(change: tuple[str, str], expected: str) -> None:
    with pytest.raises(ZeitbuchError) as error:
        Reader([parse_dialect(FLAT.replace(*change), "probe.toml")])
    assert expected in str(error.value)


def test_dotted_paths() -> None:
    assert path_keys('a."b.c".d') == ("a", "b.c", "d")
    record = {"a": {"b": [{"n": 1}, {"n": 2}]}, "x": None}
    assert make_getter("a.b.*.n")(record) == [1, 2]
    assert make_getter("a.b.1.n")(record) == 2
    assert make_getter(["x", "a.b.0.n"])(record) == 1
    assert make_getter("a.q.z")(record) is None
    claims: dict[str, Any] = {}
    claim_paths(claims, ["a.b.*.n", "x"])
    assert unclaimed_part({"a": {"b": [{"n": 1, "m": 2}], "c": 3}, "x": 1, "y": 2}, claims) == {
        "a": {"b": [{"m": 2}], "c": 3},
        "y": 2,
    }


def test_queries_plain_and_general_agree() -> None:
    document = {"a": {"b": [{"c": 1}, {"c": 2}]}, "x/y": {"k": 3}}
    assert Query("$.a.b[*].c").find_all(document) == [("/a/b/0/c", 1), ("/a/b/1/c", 2)]
    assert Query("$['a']['b'][*]['c']").find_all(document) == Query("$.a.b[*].c").find_all(document)
    assert Query("$[*].k").find_all(document) == [("/x~1y/k", 3)]
    assert Query("$.a.b[?@.c > 1]").find_all(document) == [("/a/b/1", {"c": 2})]
    assert Query("$.a.q").selects_any(document) is False


HEAD = """
dialect = 1
name = "probe"
[signature]
all = ["$.probe"]
[flow]
at = "$.probe"
[step]
at = "$.parts[*]"
operation = "what"
settings = "set"
{step}
{tables}
[[outlet]]
match = "oops*"
role = "error"
label = "failed"
[[outlet]]
match = "tool*"
role = "attach"
label = ""
[[kind]]
operation = "go"
trigger = "manual"
[[kind]]
operation = "fork"
kind = "decide"
cases = {{ at = "set.ways", label = "says" }}
[[kind]]
operation = "brain"
kind = "agent"
"""
PARTS: list[dict[str, Any]] = [
    {"id": "g", "name": "Go", "what": "go"},
    {"id": "f", "name": "Fork", "what": "fork", "set": {"ways": [{"says": "left"}, {"says": "right"}]}},
    {"id": "a", "name": "Agent", "what": "brain"},
    {"id": "t", "name": "Tool", "what": "odd"},
    {"id": "e", "name": "End", "what": "odd"},
]
RECORDS = [("g", "f", ""), ("f", "a", "0"), ("f", "e", "1"), ("a", "e", ""), ("a", "e", "oops"), ("t", "a", "tool")]
WAYS: dict[str, tuple[str, str, dict[str, Any]]] = {
    "records": ("", '[link]\nat = "$.joins[*]"\nfrom = "from"\nto = "to"\noutlet = "door"', {"joins": [{"from": a, "to": b, "door": o} for a, b, o in RECORDS]}),
    "adjacency by name, lists of lists of objects": (
        "",
        '[adjacency]\nat = "$.ties"\ntarget = "to"',
        {"ties": {
            "Go": {"main": [[{"to": "Fork"}]]},
            "Fork": {"main": [[{"to": "Agent"}], [{"to": "End"}]]},
            "Agent": {"main": [[{"to": "End"}]], "oops": [{"to": "End"}]},
            "Tool": {"tool": [[{"to": "Agent"}]]},
        }},
    ),
    "adjacency by id, plain lists": (
        "",
        '[adjacency]\nat = "$.ties"',
        {"ties": {"g": ["f"], "f": {"0": "a", "1": ["e"]}, "a": {"": "e", "oops": ["e"]}, "t": {"tool": "a"}}},
    ),
    "pointers in the steps": (
        'next = "goes"',
        "",
        {"parts": [{**p, "goes": g} for p, g in zip(PARTS, ["f", ["a", "e"], {"": "e", "oops": "e"}, {"tool": ["a"]}, None], strict=True)]},
    ),
}  # fmt: skip


@pytest.mark.parametrize("way", list(WAYS))
def test_the_same_links_in_every_way_of_writing(way: str, tmp_path: Path) -> None:
    step, tables, more = WAYS[way]
    flow, problems = read(
        {"probe": {"id": "p", "parts": PARTS, **more}}, HEAD.format(step=step, tables=tables), tmp_path
    )
    unsaid = way == "pointers in the steps"  # a bare list has no outlets: which case it is stays unsaid
    labels = {"unread parts": [{"case of f": {"label": "left"}}, {"case of f": {"label": "right"}}]}
    assert problems == [] and flow.unread == (labels if unsaid else {})
    links = {(k.source, k.target, k.role, k.label) for k in flow.links if k.role != "case"}
    main = {(s, t, r, "" if label == "main" else label) for s, t, r, label in links}
    assert main == {
        ("g", "f", "next", ""),
        ("a", "e", "next", ""),
        ("a", "e", "error", "failed"),
        ("t", "a", "attach", ""),
    }
    cases = {(k.source, k.target): k.label for k in flow.links if k.role == "case"}
    assert set(cases) == {("f", "a"), ("f", "e")}
    if not unsaid:
        assert cases == {("f", "a"): "left", ("f", "e"): "right"}


def test_pointers_to_nowhere_are_said_and_kept(tmp_path: Path) -> None:
    step, tables, _ = WAYS["adjacency by id, plain lists"]
    flow, problems = read(
        {"probe": {"id": "p", "parts": PARTS, "ties": {"g": ["f", "nowhere"]}}},
        HEAD.format(step=step, tables=tables),
        tmp_path,
    )
    assert problems == ["link-end"]
    idle = [{"case of f": {"label": label}} for label in ("left", "right")]
    assert flow.unread == {"unread parts": [{"from": "g", "outlet": "", "to": "nowhere"}, *idle]}


def test_placeholder_in_a_secret_field_is_a_reference(tmp_path: Path) -> None:
    document = copy.deepcopy(DOCUMENT)
    document["sheets"][0]["parts"][3]["set"] = {"password": "<% Go.text %>", "api_key": "AKXX-5512-8841"}  # type: ignore[index]
    flow, _ = read(document, FLAT, tmp_path)
    by = {b.name: b for b in flow.steps[2].inputs}
    assert by["password"].decided == "data" and by["password"].refs[0].step == "1"
    assert by["api_key"].value == "secret A"


def test_outline_keeps_what_the_text_filter_looks_at(tmp_path: Path) -> None:
    document = copy.deepcopy(DOCUMENT)
    document["sheets"][0]["parts"][3]["memo"] = "Ask the pilot"  # type: ignore[index]
    path = tmp_path / "x.json"
    path.write_text(json.dumps(document))
    dialect = parse_dialect(FLAT.replace('disabled = "muted"', 'disabled = "muted"\nnote = "memo"'), "probe.toml")
    full, outline = (next(iter(Reader([dialect], outline=o).read_sources([str(path)]))) for o in (False, True))
    assert searchable_text(full) == searchable_text(outline) and "ask the pilot" in searchable_text(outline)

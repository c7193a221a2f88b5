"""Steps within steps and steps that name their predecessors: every way of writing them."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from conftest import ESTATE
from conftest import read as demo_read
from zeitbuch.core.model.records import Flow
from zeitbuch.readers.dialects.rules import parse_dialect
from zeitbuch.readers.reading.reader import Reader

HEAD = """dialect = 1
name = "probe"
[signature]
all = ["$.probe"]
[flow]
at = "$.probe"
[step]
at = "$.parts[*]"
id = {id}
name = {id}
operation = "op"
settings = "set"
{tables}
[[kind]]
operation = "go"
trigger = "manual"
[[kind]]
operation = "pick"
kind = "decide"
[[kind]]
operation = "each"
kind = "loop"
[[kind]]
operation = "both"
kind = "parallel"
[[kind]]
operation = "brain"
kind = "agent"
[[kind]]
operation = "send"
kind = "send"
"""


def read(parts: Any, tables: str, tmp_path: Path, key: str = '"id"', **more: Any) -> tuple[Flow, list[str]]:
    path = tmp_path / "x.json"
    path.write_text(json.dumps({"probe": {"id": "f", "name": "F", "parts": parts, **more}}))
    reader = Reader([parse_dialect(HEAD.format(id=key, tables=tables), "probe.toml")])
    (flow,) = reader.read_sources([str(path)])
    return flow, [p.code for p in reader.problems if p.severity in ("error", "finding")]


def arrows(flow: Flow) -> set[tuple[str, str, str, str]]:
    return {(k.source, k.target, k.role, k.label) for k in flow.links}


def part(key: str, op: str = "send", **more: Any) -> dict[str, Any]:
    return {"id": key, "op": op, **more}


BEFORE = {
    "a name": ("a", ""),
    "a list of names": (["a"], ""),
    "an object": ({"a": ["ok"]}, ""),
    "an object with one word": ({"a": "ok"}, ""),
    "records": ([{"who": "a", "when": "ok"}], 'source = "who"\noutcome = "when"'),
}


@pytest.mark.parametrize("way", list(BEFORE))
def test_predecessors_in_every_way_of_writing(way: str, tmp_path: Path) -> None:
    value, paths = BEFORE[way]
    tables = f'[predecessors]\nat = "after"\noutcomes = {{ ok = "success", bad = "failure" }}\n{paths}'
    flow, problems = read([part("b", after=value), part("a"), part("t", "go")], tables, tmp_path)
    assert problems == []
    assert arrows(flow) == {("t", "a", "next", ""), ("a", "b", "next", "")}


def test_outcomes_of_predecessors(tmp_path: Path) -> None:
    tables = (
        '[predecessors]\nat = "after"\noutcomes = { ok = "success", bad = "failure", late = "timeout", no = "skip" }'
    )
    parts = [
        part("t", "go"), part("a", after={"t": ["ok"]}), part("b", after={"a": ["bad"]}), part("c", after={"a": ["late"]}),
        part("d", after={"a": ["ok", "bad"]}), part("e", after={"a": ["no"], "d": ["ok"]}), part("x", after={"gone": ["ok"]}),
    ]  # fmt: skip
    flow, problems = read(parts, tables, tmp_path)
    links = {(k.source, k.target): (k.role, k.after) for k in flow.links}
    assert links["a", "b"] == ("error", ("failure",)) and links["a", "c"] == ("error", ("timeout",))
    assert links["a", "d"] == ("next", ("success", "failure")) and links["a", "e"] == ("error", ("skip",))
    assert links["d", "e"] == ("next", ())
    assert problems == ["link-end"] and flow.unread == {
        "unread parts": [{"before": "gone", "to": "x", "after": ["success"]}]
    }


def test_what_follows_a_container_follows_its_ends(tmp_path: Path) -> None:
    tables = """[predecessors]
at = "after"
outcomes = { ok = "success", bad = "failure" }
[[holds]]
at = "yes.parts"
role = "case"
named = "yes"
[[holds]]
at = "no.parts"
role = "case"
named = "no"
[[holds]]
at = "parts"
"""
    parts = {
        "T": {"op": "go"},
        "Pick": {
            "op": "pick", "after": {"T": ["ok"]},
            "yes": {"parts": {"A": {"op": "send"}, "B": {"op": "send", "after": {"A": ["ok"]}}, "Fix": {"op": "send", "after": {"A": ["bad"]}}}},
            "no": {"parts": {}},
        },
        "Loop": {"op": "each", "after": {"Pick": ["ok"]}, "parts": {"In": {"op": "send"}, "On": {"op": "send", "after": {"In": ["ok"]}}}},
        "Last": {"op": "send", "after": {"Loop": ["ok"]}},
    }  # fmt: skip
    flow, problems = read(parts, tables, tmp_path, '"@key"')
    assert problems == []
    assert arrows(flow) == {
        ("T", "Pick", "next", ""), ("Pick", "A", "case", "yes"), ("A", "B", "next", ""), ("A", "Fix", "error", "on failure"),
        ("Pick", "Loop", "case", "no"), ("B", "Loop", "next", ""), ("Fix", "Loop", "next", ""), ("In", "On", "next", ""),
        ("Loop", "Last", "next", ""),
    }  # fmt: skip
    assert {s.id for s in flow.steps if s.scope == "Loop"} == {"In", "On"}


HELD: dict[str, tuple[dict[str, Any], str]] = {
    "list of branches": ({"ways": [{"name": "l", "parts": [part("a")]}, {"name": "r", "parts": [part("b")], "rest": True}]}, 'steps = "parts"\nlabel = "name"\notherwise = "rest"'),
    "object of branches": ({"ways": {"l": {"parts": [part("a")]}, "r": {"parts": [part("b")]}}}, 'steps = "parts"\nlabel = "@key"'),
    "object of lists": ({"ways": {"l": [part("a")], "r": [part("b")]}}, 'steps = "."'),
}  # fmt: skip


@pytest.mark.parametrize("way", list(HELD))
def test_branches_in_every_way_of_writing(way: str, tmp_path: Path) -> None:
    more, paths = HELD[way]
    flow, problems = read(
        [part("t", "go"), part("p", "pick", **more), part("z")],
        f'[tree]\n[[holds]]\nat = "ways"\nrole = "case"\n{paths}',
        tmp_path,
    )
    assert problems == [] and flow.unread == {}
    assert arrows(flow) == {
        ("t", "p", "next", ""), ("p", "a", "case", "l"), ("p", "b", "case", "r"), ("a", "z", "next", ""), ("b", "z", "next", ""),
    }  # fmt: skip


def test_what_is_not_understood_of_a_branch_is_kept(tmp_path: Path) -> None:
    tables = '[tree]\n[[holds]]\nat = "ways"\nrole = "case"\nsteps = "parts"\nlabel = "name"'
    flow, _ = read([part("p", "pick", ways=[{"name": "l", "parts": [part("a")], "hue": "red"}])], tables, tmp_path)
    assert flow.unread == {"unread parts": [{"hue": "red"}]} and flow.content.unread == 1


def test_a_way_that_is_not_written_goes_on_behind(tmp_path: Path) -> None:
    tables = '[tree]\n[[holds]]\nat = "then"\nrole = "case"\nnamed = "then"\n[[holds]]\nat = "else"\nrole = "case"\nnamed = "else"'
    flow, _ = read([part("p", "pick", then=[part("a")]), part("z")], tables, tmp_path)
    assert arrows(flow) == {("p", "a", "case", "then"), ("a", "z", "next", ""), ("p", "z", "case", "else")}


def test_bodies_handlers_and_helpers(tmp_path: Path) -> None:
    tables = """[tree]
[[holds]]
at = "parts"
[[holds]]
at = "rescue"
role = "error"
resumes = false
[[holds]]
at = "crew"
role = "attach"
[[holds]]
at = "only"
operation = "each"
"""
    parts = [
        part("l", "each", only={"id": "one", "op": "send"}),
        part("x", parts=[part("in")], rescue=[part("fix")]),
        part("g", "brain", crew=[part("h", crew=[part("deep")])]),
        part("q", "both", parts=[part("b1"), part("b2")]),
    ]
    flow, problems = read([part("t", "go"), *parts], tables, tmp_path)
    assert problems == []
    found = arrows(flow)
    assert ("x", "fix", "error", "on error") in found and not any(s == "fix" for s, *_ in found), (
        "the run ends behind it"
    )
    assert ("h", "g", "attach", "") in found and ("deep", "h", "attach", "") in found
    scopes = {s.id: s.scope for s in flow.steps}
    assert scopes["one"] == "l" and scopes["in"] == "x" and scopes["b1"] == "q"


def test_links_written_apart_from_nested_steps(tmp_path: Path) -> None:
    tables = '[[holds]]\nat = "parts"\n[link]\nat = "$.joins[*]"\nfrom = "a"\nto = "b"'
    parts = [part("t", "go"), part("l", "each", parts=[part("i"), part("k")]), part("z")]
    joins = [{"a": "t", "b": "l"}, {"a": "i", "b": "k"}, {"a": "l", "b": "z"}]
    flow, problems = read(parts, tables, tmp_path, joins=joins)
    assert problems == []
    assert arrows(flow) == {("t", "l", "next", ""), ("i", "k", "next", ""), ("l", "z", "next", "")}
    assert {s.id: s.scope for s in flow.steps} == {"l": None, "i": "l", "k": "l", "z": None}


def test_separate_triggers_that_name_steps_or_none(tmp_path: Path) -> None:
    tables = '[[pointer]]\nat = "to"\n[trigger]\nat = "$.starts[*]"\nid = "@key"\noperation = "op"\nsettings = "."\nstarts = "to"'
    parts = [part("a", to=["c"]), part("b", to="c"), part("c")]
    flow, problems = read(
        parts, tables, tmp_path, starts={"one": {"op": "go", "to": ["a", "b"]}, "two": {"op": "go", "to": "b"}}
    )
    assert problems == [] and [t.id for t in flow.triggers] == ["one", "two"]
    assert {(s, t) for s, t, *_ in arrows(flow) if s in ("one", "two")} == {("one", "a"), ("one", "b"), ("two", "b")}
    flow, _ = read(parts, tables, tmp_path, starts={"one": {"op": "go"}})
    assert {(s, t) for s, t, *_ in arrows(flow) if s == "one"} == {("one", "a"), ("one", "b")}, "nothing leads to these"


BAD = '[[pointer]]\nat = "to"\n[[pointer]]\nat = "if_bad"\noutlet = "bad"\n[[outlet]]\nmatch = "bad"\nrole = "error"'


def test_pointers_turned_round(tmp_path: Path) -> None:
    tables = '[[pointer]]\nat = "tools"\nrole = "attach"\nreversed = true\n' + BAD
    parts = [
        part("t", "go", to="g"),
        part("g", "brain", tools=["h"], to="z", if_bad="y"),
        part("h"),
        part("z"),
        part("y"),
    ]
    flow, problems = read(parts, tables, tmp_path)
    assert problems == []
    assert arrows(flow) == {
        ("t", "g", "next", ""),
        ("h", "g", "attach", ""),
        ("g", "z", "next", ""),
        ("g", "y", "error", "bad"),
    }


@pytest.mark.parametrize("name", ["tidemark", "lockgate", "pilotline", "kvarte", "strandline"])
def test_each_shape_of_the_demo_is_read_whole(name: str) -> None:
    for flow in demo_read(ESTATE, f"november/{name}").flows:
        assert flow.format == name and flow.triggers and flow.links
        assert flow.content.read_share > 0.98
        reached = {k.target for k in flow.links} | {k.source for k in flow.links if k.role == "attach"}
        loose = [s.id for s in flow.steps if s.id not in reached and s.scope is None]
        assert loose == [], "every step is reached"

"""`map` from the installed program: parts of flows, figures, formats, folders, hostile names."""

from __future__ import annotations

import json
import shutil
import subprocess
import xml.etree.ElementTree as ET
from itertools import pairwise
from pathlib import Path
from typing import Any

import networkx
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from lxml import etree
from msgspec import structs

from builders import ask, drawn_flows, flow, link, step
from test_layout import alone, check
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.layout import views
from zeitbuch.core.layout.cards import PLAIN
from zeitbuch.core.layout.scene import draw_scene
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.writers.exchange import native
from zeitbuch.writers.map import graph_text
from zeitbuch.writers.map.graphml import to_graphml
from zeitbuch.writers.map.tree import to_tree
from zeitbuch.writers.theme.fonts import measure_text

HOSTILE = [
    "<script>alert(1)</script>", '"]; evil [label="x', "a & b < c > d", "it's 'quoted' \\N \\\\ back", "\u202eright to left\u2066", "😀 e\u0301 🏳️‍🌈",
    "x" * 10_000, "]] --> n0", "{{braces}} | pipe ` tick", "line\nbreak\ttab \x1b[31m red", "</title></svg>", "#quot; &amp;",
]  # fmt: skip


def hostile() -> Flow:
    steps = [structs.replace(ask(f's{i} "<>', n, n), name=n) for i, n in enumerate(HOSTILE)]
    steps.append(step("loop <", "loop", name=HOSTILE[0]))
    steps.append(step("in", "decide", name=HOSTILE[1], scope="loop <"))
    ids = ["start", *[s.id for s in steps if s.scope is None]]
    links = [link(a, b, "case", HOSTILE[i % len(HOSTILE)]) for i, (a, b) in enumerate(pairwise(ids))]
    return flow(steps, links, name=HOSTILE[0])


SCHEMAS = Path(__file__).parent / "schemas"


def valid_graphml(raw: bytes) -> None:
    """Against the structure of the standard: elements, their order, ids and references."""
    dtd = etree.DTD(str(SCHEMAS / "graphml.dtd"))
    assert dtd.validate(etree.fromstring(raw)), dtd.error_log


def test_graphml_of_every_demo_flow_is_valid(november: Estate) -> None:
    for made in november.flows:
        graph = Graph(made)
        raw = to_graphml(graph, draw_scene(graph, measure_text)).encode()
        valid_graphml(raw)
        nodes = etree.fromstring(raw).findall(".//{*}node")
        assert len(nodes) == len(made.steps) + len(made.triggers)


def test_parts_of_a_flow(demo: Path, run: Any) -> None:
    def tree(*words: str) -> str:
        ran = run("map", "november", "--format", "text", *words, cwd=demo)
        assert ran.code == 0, ran.err
        return str(ran.out)

    whole = tree("--flow", "Customer letters")
    assert (
        "├─ refund\n│  2.3 Refund agent" not in whole
        and "   ├─ refund" in whole
        and "└─ other → 2.5 Keep the draft" in whole
    )
    folded = tree("--flow", "Customer letters", "--depth", "0")
    assert "folded: 8 steps, 3 with AI" in folded and "Refund agent" not in folded
    assert folded.splitlines()[4:] == tree("--flow", "Customer letters", "--fold", "For each letter").splitlines()[4:]
    near = tree("--flow", "Berth delay notices", "--around", "By severity", "--after", "1", "--before", "0")
    assert "▶ 2 By severity" in near and "3 steps between → 8 Log only" in near
    assert "(web request to /berth-delay) → 2 (1 step between)" in near
    value = tree("--flow", "Lost property matching", "--lineage", "Describe the lost item:date")
    assert (
        "takes date of ‘Describe the lost item’" in value
        and "the value arises here" in value
        and "Tell the office" not in value
    )
    ai = tree("--flow", "Berth delay notices", "--ai")
    assert "steps with AI and what stands beside them; 2 steps not shown" in ai and "Put on the boards" not in ai
    assert "0.00083 EUR per run" in tree("--flow", "Berth delay notices", "--show", "cost")
    assert "| " in tree("--flow", "Berth delay notices", "--detail", "prompts")
    assert "fulmar" not in tree("--flow", "Berth delay notices", "--detail", "names")


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["--flow", "Berth delay notices", "--fold", "By severity"], "expected a step that holds others, found 'By severity'"),
        (["--flow", "Booking check", "--ai"], "expected steps that use AI in 'Booking check', found none"),
        (["--flow", "Berth delay notices", "--around", "Nothing"], "expected the id, number or name of a step"),
        (["--flow", "Berth delay notices", "--lineage", "Log only"], "expected steps that use what ‘Log only’ gives, found none"),
        (["--flow", "Berth delay notices", "--depth", "-1"], "argument --depth: expected a whole number from 0 to 100,000, found '-1'"),
        ([], "expected one flow to draw, found 17"),
        (["--estate", "--ai"], "expected no --ai beside --estate"),
        (["--estate", "--show", "calls"], "expected no --show calls beside --estate"),
        (["--stores"], "expected --estate beside --stores"),
        (["--flow", "Berth delay notices", "--direction", "right", "-f", "text"], "expected --direction down for text"),
    ],
)  # fmt: skip
def test_what_cannot_be_drawn_is_said(demo: Path, run: Any, words: list[str], said: str) -> None:
    ran = run("map", "november", *words, cwd=demo)
    assert ran.code == 2 and said in ran.err and not ran.out


def test_a_folder_of_maps_and_an_estate(demo: Path, run: Any, tmp_path: Path) -> None:
    ran = run("map", "november", "--ai", "-o", str(tmp_path / "maps"), cwd=demo)
    assert (
        ran.code == 2 and "expected steps that use AI in 'Booking check'" in ran.err
    )  # the rest is drawn all the same
    drawn = sorted(p.name for p in (tmp_path / "maps").iterdir())
    assert len(drawn) == 17 and "index.html" in drawn and "booking-check.svg" not in drawn
    index = (tmp_path / "maps" / "index.html").read_text()
    assert 'href="crew-swap-approvals.svg"' in index and "booking-check" not in index
    ran = run("map", "november", "--estate", "--show", "cost", "--format", "json", cwd=demo)
    found = json.loads(ran.out)
    frames = {c["lines"][0] for c in found["cards"] if c["frame"]}
    assert "Maren Dahl" in frames and found["name"] == "Estate of 17 flows"
    assert {(r["source"], r["target"]) for r in found["routes"]} >= {("flow weather", "flow SH-1052")} or len(
        found["routes"]
    ) >= 4
    logger = next(c for c in found["cards"] if c["lines"][0] == "Fault logger")
    assert "takes the faults of 4 flows" in logger["lines"]
    tree = run("map", "november", "--estate", "--by", "none", "--format", "text", cwd=demo).out
    assert "└─ → Fault logger" in tree


def test_what_is_switched_off_is_not_drawn_as_calling(tmp_path: Path, run: Any) -> None:
    def cards(enabled: bool) -> tuple[dict[str, Any], int]:
        steps = [
            {"id": "c", "kind": "subflow", "name": "Call", "calls": "b", "enabled": enabled},
            {"id": "d", "kind": "http", "name": "Drop", "effect": "delete", "enabled": enabled},
        ]
        links = [{"source": "t", "target": "c"}, {"source": "c", "target": "d"}]
        first = {
            "id": "a",
            "name": "First",
            "triggers": [{"id": "t", "kind": "manual"}],
            "steps": steps,
            "links": links,
        }
        second = {
            "id": "b",
            "name": "Second",
            "triggers": [{"id": "t", "kind": "call"}],
            "steps": [{"id": "s", "kind": "shape", "name": "S"}],
        }
        (tmp_path / "e.json").write_text(json.dumps({"zeitbuch": 1, "flows": [first, second]}))
        ran = run("map", "e.json", "--estate", "--by", "none", "--format", "json")
        assert ran.code == 0, ran.err
        found = json.loads(ran.out)
        return next(card for card in found["cards"] if card["lines"][0] == "First"), len(found["routes"])

    on, routes = cards(True)
    off, fewer = cards(False)
    assert (on["effect"], routes, off["effect"], fewer) == ("delete", 1, "none", 0)
    assert "calls ‘Second’: not as it stands" in off["lines"] and not any(
        "as it stands" in line for line in on["lines"]
    )


def test_flows_of_one_id_are_all_drawn(demo: Path, run: Any) -> None:
    ran = run("map", "october", "november", "--estate", "--show", "cost", "--format", "json", cwd=demo)
    found = json.loads(ran.out)
    cards = [c for c in found["cards"] if not c["frame"]]
    count = int(found["name"].split()[2])
    assert count > 17 and len(cards) == len({c["id"] for c in cards}) == count
    assert (
        run("map", "october", "november", "--estate", "--format", "html", "-o", "both.html", cwd=demo).code == ran.code
    )


def test_json_has_places_and_shape(demo: Path, run: Any) -> None:
    found = json.loads(run("map", "november", "--flow", "Monthly punctuality report", "--format", "json", cwd=demo).out)
    assert found["zeitbuch"] == "map" and found["back"] == [["again", "write"]]
    assert all(c["x"] >= 0 and c["width"] > 0 for c in found["cards"]) and len(found["longest"]) == 6
    assert found["reads"] and {"reader", "source", "path", "where", "trust"} == set(found["reads"][0])


def test_views_are_drawn_clean(november: Estate) -> None:
    for made in november.flows:
        graph = Graph(made)
        for at in list(graph.steps)[::3]:
            view = views.around_step(views.whole_flow(graph), at, 1, 1)
            check(draw_scene(view.graph, measure_text), view.graph.flow)
            assert {s.id for s in view.graph.flow.steps} >= {graph.host.get(at, at)}
        view = views.fold_scopes(views.whole_flow(graph), views.scopes_below(graph, 0))
        drawn = draw_scene(view.graph, measure_text)
        check(drawn, view.graph.flow)
        alone(drawn)
        assert not drawn.frames


@settings(max_examples=60, deadline=None)
@given(drawn_flows(), st.data())
def test_parts_of_random_flows(made: Flow, data: st.DataObject) -> None:
    graph = Graph(made)
    keep = data.draw(st.sets(st.sampled_from(sorted(graph.steps)), min_size=1))
    view = views.only_steps(views.whole_flow(graph), keep, "")
    ids = {s.id for s in view.graph.flow.steps}
    assert {graph.host.get(k, k) for k in keep} <= ids
    assert all(k.target in ids and (k.source in ids or k.source in graph.triggers) for k in view.graph.flow.links)
    check(draw_scene(view.graph, measure_text), view.graph.flow)
    for line in to_tree(view, 60, PLAIN).splitlines():
        assert len(line) <= 60 or not line.isascii()


def test_hostile_names_stay_text(tmp_path: Path, run: Any) -> None:
    file = tmp_path / "hostile.yaml"
    file.write_text(native.to_yaml(Estate(flows=(hostile(),))))
    for form in ("svg", "html", "text", "json", "dot", "graphml", "mermaid", "bpmn", "png"):
        ran = run("map", str(file), "--format", form, "-o", str(tmp_path / f"out.{form}"))
        assert ran.code == 0, (form, ran.err)
    svg = (tmp_path / "out.svg").read_text()
    assert not list(ET.fromstring(svg).iter("{http://www.w3.org/2000/svg}script"))
    page = (tmp_path / "out.html").read_text()
    assert "alert(1)</script>" not in page and page.count("</script>") == 2
    text = (tmp_path / "out.text").read_text()
    assert "\x1b" not in text and "\u202e" not in text and "<U+202E>" in text
    graph = networkx.read_graphml(tmp_path / "out.graphml")
    names = {d.get("name") for _, d in graph.nodes(data=True)}
    assert HOSTILE[0] in names and HOSTILE[1] in names and graph.number_of_edges() == len(hostile().links)
    valid_graphml((tmp_path / "out.graphml").read_bytes())
    bpmn = etree.XMLSchema(etree.parse(str(SCHEMAS / "BPMN20.xsd")))
    bpmn.assertValid(etree.parse(str(tmp_path / "out.bpmn")))
    mermaid = (tmp_path / "out.mermaid").read_text()
    assert "<script" not in mermaid and "]] -->" not in mermaid


@pytest.mark.skipif(shutil.which("dot") is None, reason="the dot program is not installed (.ci/run installs it)")
def test_dot_reads_what_we_write(november: Estate) -> None:
    for made in [*november.flows, hostile()]:
        graph = Graph(made)
        text = graph_text.to_dot(graph, PLAIN)
        done = subprocess.run(["dot", "-Tjson0"], input=text.encode(), capture_output=True, check=True)
        assert not done.stderr, done.stderr.decode()
        found = json.loads(done.stdout)
        inside = {s for s in graph.levels if s is not None}
        boxes = sum(not o["name"].startswith("cluster") for o in found["objects"])
        assert boxes == len(graph.triggers) + sum(
            s.id not in graph.host and s.kind != "note" and s.id not in inside for s in made.steps
        )
        if made.name == HOSTILE[0]:
            labels = " ".join(o.get("label", "") for o in found["objects"])
            assert "<script>alert(1)</script>" in labels and "evil [label=" in labels


def test_ways_that_only_some_outcomes_take_say_so(tmp_path: Path, run: Any) -> None:
    """A way for what was skipped was drawn as if it were taken after success, one for failures as no error way."""
    steps = [{"id": name, "kind": "http"} for name in "abcd"]
    links: list[dict[str, object]] = [
        {"source": "t", "target": "a"},
        {"source": "a", "target": "b", "after": ["skip"]},
        {"source": "a", "target": "c", "after": ["failure"]},
        {"source": "a", "target": "d", "role": "error", "after": ["timeout"]},
    ]
    made = {"id": "f", "name": "F", "triggers": [{"id": "t", "kind": "manual"}], "steps": steps, "links": links}
    (tmp_path / "f.json").write_text(json.dumps({"zeitbuch": 1, "flows": [made]}))
    for form in ("svg", "text", "dot", "mermaid"):
        drawn = run("map", "f.json", "-f", form).out
        assert all(words in drawn for words in ("skipped", "on error", "not done in time")), form
        assert form != "mermaid" or drawn.count("-.->") == 2

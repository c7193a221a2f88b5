"""Frames drawn around steps, over whose border links go: steps run as their links say. Blocks keep theirs, and what is odd is told."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec import structs

from any_shape import Drawn, any_flows
from builders import flow, link, step
from conftest import Run, draws
from test_sampled import both
from zeitbuch.core.assumptions.rules import Rule
from zeitbuch.core.graph.open_frames import crossed_frames, open_frames
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Estate, Flow, Step, StepKind
from zeitbuch.writers.exchange.native import to_json

INSIDE = (step("d", "decide", scope="g"), step("b", "http", scope="g"))
OUTSIDE = (step("z", "http"), step("h", "http"), step("e", "http"))
LINKS = (link("d", "b", "case", "x"), link("d", "z", "case", "y"), link("b", "h"), link("b", "e", "error"))
RULES = [Rule(step="d", case="x", share=0.3), Rule(step="b", failure=0.5)]


def _framed(kind: StepKind = "group", *first: object, entry: str = "d") -> Flow:
    return flow([structs.replace(step("g", kind)), *INSIDE, *OUTSIDE], [link("start", entry), *LINKS])


def test_steps_in_a_frame_run_as_their_links_say() -> None:
    framed = _framed()
    bare = flow([structs.replace(one, scope=None) for one in (*INSIDE, *OUTSIDE)], framed.links)
    (exact, sample), (plain, _) = both(framed, RULES), both(bare, RULES)
    assert exact.exact and exact.notes == []
    assert {key: exact.of[key].runs for key in plain.of} == {key: done.runs for key, done in plain.of.items()}
    assert exact.of["z"].runs == pytest.approx(0.7) and exact.of["h"].runs == exact.of["e"].runs == pytest.approx(0.15)
    assert exact.of["g"].runs == 1 and sample.of["g"].runs.mean() == 1


@pytest.mark.parametrize("kind", ["loop", "parallel", "guard"])
def test_ways_out_of_a_block_from_within_are_told(kind: StepKind) -> None:
    exact, _ = both(_framed(kind, entry="g"), RULES, 1)
    ends = "'D' to 'Z', 'B' to 'H', 'B' to 'E'"
    told = f"ways lead out of 'G' from within ({ends}); they are counted as taken where 'G' has ended"
    silent = ["whether an item that fails ends 'G' the export does not say; it is counted as if it went on"]
    assert exact.notes == [*(silent if kind == "loop" else []), told]


def test_one_way_out_of_the_last_step_of_a_block_is_nothing_odd() -> None:
    f = flow([step("g", "loop"), step("a", "http", scope="g"), step("z", "http")], [link("start", "g"), link("a", "z")])
    assert both(f, [], 1)[0].notes == []


@pytest.mark.parametrize(
    "more",
    [
        {"enabled": False},
        {"per_item": True},
        {"yields": "many"},
        {"on_fault": "continue"},
        {"timeout": 9.0},
        {"join": "all"},
    ],
)
def test_a_group_of_which_more_is_said_is_no_frame(more: dict[str, object]) -> None:
    f = _framed()
    assert crossed_frames(Graph(f)) == {"g"}
    assert crossed_frames(Graph(structs.replace(f, steps=(step("g", "group", **more), *f.steps[1:])))) == frozenset()


def test_a_group_at_which_links_begin_or_end_is_a_block() -> None:
    f = _framed()
    assert open_frames(Graph(structs.replace(f, links=(*f.links, link("g", "z"))))).flow.steps == f.steps


@settings(max_examples=draws(60), deadline=None)
@given(any_flows(), st.data())
def test_a_frame_around_any_steps_changes_nothing(drawn: Drawn, data: st.DataObject) -> None:
    """Any steps of the top level that are drawn into a frame, with a frame in it, run as before."""
    top = [one.id for one in drawn.flow.steps if one.scope is None]
    framed = data.draw(st.sets(st.sampled_from(top), min_size=1))
    deeper = data.draw(st.sets(st.sampled_from(sorted(framed))))

    def within(one: Step) -> Step:
        scope = "inner" if one.id in deeper else "outer" if one.id in framed else one.scope
        return structs.replace(one, scope=scope)

    frames = [Step(id="outer", kind="group"), Step(id="inner", kind="group", scope="outer")]
    f = structs.replace(drawn.flow, steps=(*frames, *map(within, drawn.flow.steps)))
    crossed = crossed_frames(Graph(f))
    if "outer" not in crossed or (deeper and "inner" not in crossed):
        return
    (exact, _), (plain, _) = both(f, drawn.rules, 1), both(drawn.flow, drawn.rules, 1)
    assert exact.exact == plain.exact
    for key, done in plain.of.items():
        assert exact.of[key].runs == pytest.approx(done.runs, rel=1e-9, abs=1e-12)


def test_the_program_counts_and_explains_alike(run: Run, tmp_path: Path) -> None:
    (tmp_path / "desk.json").write_text(to_json(Estate(flows=(structs.replace(_framed(), name="Desk"),))))
    (tmp_path / "a.toml").write_text('assumptions = 1\n[[assume]]\nstep = "d"\ncase = "x"\nshare = 0.3\n')
    counted = run(
        "estimate", "desk.json", "--flow", "Desk", "--steps", "--assumptions", "a.toml", "-f", "csv", "-q"
    ).out
    rows = [line.split(",") for line in counted.splitlines()]
    passes = {row[rows[0].index("step")]: float(row[rows[0].index("passes")]) for row in rows[1:] if row[0]}
    assert passes["Z"] == 0.7 and passes["H"] == 0.3 and passes["G"] == 1
    story = run("explain", "Desk", "--source", "desk.json", "--case", "y", "-q").out
    assert "Not run: 1.2 B, 3 H, 4 E." in story.replace("\n", " ")


def test_maps_say_which_step_a_way_leaves(run: Run, tmp_path: Path) -> None:
    (tmp_path / "desk.json").write_text(to_json(Estate(flows=(structs.replace(_framed(), name="Desk"),))))
    drawn = run("map", "desk.json", "--flow", "Desk", "--format", "text", "-q").out
    for words in (
        "├─ y (from 1.1)\n│  2 Z",
        "├─ then (from 1.2)\n│  3 H",
        "└─ ! on error (from 1.2)\n   4 E",
        "└─ x\n│     1.2 B",
    ):
        assert words in drawn
    svg = run("map", "desk.json", "--flow", "Desk", "--format", "svg", "-q").out
    assert all(words in svg for words in ("y (from 1.1)", "then (from 1.2)", "on error (from 1.2)"))
    alone = flow(
        [step("g", "loop"), step("a", "http", scope="g"), step("z", "http")], [link("start", "a"), link("a", "z")]
    )
    (tmp_path / "alone.json").write_text(to_json(Estate(flows=(structs.replace(alone, name="Alone"),))))
    assert "from 1" not in run("map", "alone.json", "--flow", "Alone", "--format", "text", "-q").out

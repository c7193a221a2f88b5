"""The condition that ends a loop is asked after each round: steps of the loop have run by then, and their empty results keep it from nothing."""

from __future__ import annotations

from typing import Any

import pytest

from scores import read_with
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Flow, Repeat
from zeitbuch.core.model.references import refs_of_end, refs_of_items
from zeitbuch.core.passes.reachability import Reachability
from zeitbuch.core.report.possible_runs import Given, PossibleRuns
from zeitbuch.readers.dialects.rules import parse_dialect

DIALECT = """
dialect = 1
name = "jetty"
signature = { all = ["$.steps"] }
flow = { id = "id" }
step = { at = "$.steps[*]", id = "id", operation = "does" }
tree = { body = "inside", branches = "ways", branch_steps = "steps" }
placeholders = { open = "<<", close = ">>" }
kind = [
  { operation = "each", kind = "loop", items = "over", until = "until" },
  { operation = "pick", kind = "decide" },
  { operation = "look", kind = "read" },
]
"""


def read(*steps: dict[str, Any]) -> Flow:
    (flow,) = read_with(parse_dialect(DIALECT, "jetty.toml"), [{"id": "f", "steps": list(steps)}])
    return flow


def step(key: str, does: str = "look", **more: Any) -> dict[str, Any]:
    return {"id": key, "does": does, **more}


def taken(flow: Flow) -> dict[tuple[str, str], tuple[str, str]]:
    return {(one.reader, one.source): (one.where, one.trust) for one in Reachability(Graph(flow)).reads}


def test_a_step_of_the_loop_has_run_when_its_end_is_asked() -> None:
    ways = [{"steps": [step("b")]}, {"steps": [step("c")]}]
    inside = [step("a"), step("p", "pick", ways=ways), step("d")]
    flow = read(
        step("s"),
        step("l", "each", until="<<a.x>> > 1 and <<b.x>> > 1 and <<d.x>> > <<s.x>> and <<e.x>>", inside=inside),
        step("e"),
    )
    end = "the end of the loop"
    assert taken(flow) == {
        ("l", "a"): (end, "always"), ("l", "b"): (end, "sometimes"), ("l", "d"): (end, "always"), ("l", "s"): (end, "always"),
        ("l", "e"): (end, "never"),
    }  # fmt: skip


def test_what_a_loop_goes_over_is_there_before_its_first_round() -> None:
    flow = read(step("s"), step("l", "each", over="<<a.list>>", until="<<a.done>>", inside=[step("a")]))
    assert sorted((one.where, one.trust) for one in Reachability(Graph(flow)).reads) == [
        ("the end of the loop", "always"),
        ("the loop", "never"),
    ]
    repeat = flow.steps[1].repeat
    assert repeat is not None and [ref.path for ref in refs_of_items(repeat)] == ["list"]
    assert [ref.path for ref in refs_of_end(repeat)] == ["done"] and refs_of_end(Repeat(items="x")) == ()


@pytest.mark.parametrize(
    ("said", "empty", "idle"),
    [({"until": "<<a.done>>"}, "a", False), ({"over": "<<s.list>>"}, "s", True), ({"until": "<<s.done>>"}, "s", False)],
)
def test_what_is_empty_keeps_a_loop_from_its_rounds_only_where_it_goes_over_it(
    said: dict[str, str], empty: str, idle: bool
) -> None:
    flow = read(step("s"), step("l", "each", inside=[step("a")], **said))
    runs = PossibleRuns(Graph(flow), Given(empty=frozenset({empty})))
    loop = next(node for node in runs.plan.top.nodes if node.step.id == "l")
    assert runs.is_idle(loop) == idle

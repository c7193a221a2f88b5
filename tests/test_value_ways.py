"""Where values come from and go: over steps, calls and stores, each place once, and the same read from either end."""

from __future__ import annotations

import json
from pathlib import Path

import msgspec
import yaml
from hypothesis import given, settings

from conftest import Run, draws
from test_model import flows
from zeitbuch.core.graph.step_lookup import pick_step
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Estate, Flow, NativeFile
from zeitbuch.core.report.value_ways import MOST_LINES, Place, ValueWays

FLOWS = """
zeitbuch: 1
flows:
  - id: intake
    name: Intake
    triggers: [{id: form, kind: form, name: Request form}]
    connections: [{id: c, name: Register}]
    steps:
      - {id: look, kind: read, effect: read, connection: c, name: Look up, inputs: [{name: number, value: "{n}", decided: data, refs: [{step: form, path: number, text: "{n}"}]}]}
      - {id: judge, kind: agent, name: Judge, model: {name: m, prompts: [{text: "{r}", refs: [{step: look, path: rows, text: "{r}"}]}]}}
      - {id: tool, kind: read, effect: read, name: Prices}
      - {id: hand, kind: subflow, name: Hand over, calls: DESK, inputs: [{name: case, value: "{j}", decided: data, refs: [{step: judge, text: "{j}"}]}]}
      - {id: tell, kind: send, effect: send, name: Tell,
         inputs: [{name: text, value: "{a}{b}", decided: data, refs: [{step: hand, text: "{a}"}, {step: gone, path: x, text: "{b}"}]}]}
    links:
      - {source: form, target: look}
      - {source: look, target: judge}
      - {source: tool, target: judge, role: attach}
      - {source: judge, target: hand}
      - {source: hand, target: tell}
  - id: desk
    name: Desk
    triggers: [{id: called, kind: call, name: Called}]
    steps:
      - {id: answer, kind: model, name: Answer, model: {name: m, prompts: [{text: "{c}", refs: [{step: called, path: case, text: "{c}"}]}]}}
    links: [{source: called, target: answer}]
  - id: keeper
    name: Keeper
    triggers: [{id: clock, kind: schedule, schedule: {every: 3600}}]
    connections: [{id: k, name: register}]
    steps:
      - {id: fetch, kind: http, effect: read, name: Fetch}
      - {id: keep, kind: write, effect: write, connection: k, name: Keep, inputs: [{name: row, value: "{f}", decided: data, refs: [{step: fetch, text: "{f}"}]}]}
    links: [{source: clock, target: fetch}, {source: fetch, target: keep}]
"""
ESTATE = Estate(msgspec.convert(yaml.safe_load(FLOWS), NativeFile).flows)


def told(flow: str, step: str, direction: str) -> list[str]:
    one = ESTATE.flow(flow)
    assert one is not None
    page = ValueWays(ESTATE).page(one, pick_step(Graph(one), step), [direction])  # type: ignore[list-item]
    return ["  " * depth + text for depth, text in page.blocks[2].lines]  # type: ignore[union-attr]


def test_upstream_over_calls_and_stores() -> None:
    assert told("intake", "Tell", "upstream") == [
        "the input ‘text’ takes 3 ‘Hand over’",
        "  the input ‘case’ takes 2 ‘Judge’",
        "    the prompt takes rows of 1 ‘Look up’",
        "      the input ‘number’ takes number of ‘Request form’",
        "        from outside: when a form is sent",
        "      it reads from ‘Register’",
        "      perhaps written there by 2 ‘Keep’ of the flow ‘Keeper’",
        "        the input ‘row’ takes 1 ‘Fetch’",
        "    it may use 2.a ‘Prices’",
        "    a model words it",
        "  perhaps given back by 1 ‘Answer’ of the flow ‘Desk’",
        "    the prompt takes case of ‘Called’",
        "      handed over by 3 ‘Hand over’ of the flow ‘Intake’ (told above)",
        "    a model words it",
        "the input ‘text’ takes x of ‘gone’, which is no step of the flow",
    ]


def test_downstream_over_calls_and_stores() -> None:
    assert told("keeper", "Fetch", "downstream") == [
        "2 ‘Keep’ takes it: the input ‘row’",
        "  is written to ‘register’",
        "  perhaps read there by 1 ‘Look up’ of the flow ‘Intake’",
        "    2 ‘Judge’ takes it: the prompt (rows)",
        "      3 ‘Hand over’ takes it: the input ‘case’",
        "        4 ‘Tell’ takes it: the input ‘text’",
        "          leaves the flow at 4 ‘Tell’",
        "        is handed to ‘Called’ of the flow ‘Desk’",
        "          1 ‘Answer’ takes it: the prompt (case)",
        "            perhaps given back to 3 ‘Hand over’ of the flow ‘Intake’ (told above)",
    ]


def test_what_is_switched_off_is_said_to_do_nothing_as_it_stands() -> None:
    off = FLOWS.replace("{id: keep,", "{id: keep, enabled: false,").replace("{id: look,", "{id: look, enabled: false,")
    estate = Estate(
        msgspec.convert(yaml.safe_load(off.replace("{id: judge,", "{id: judge, enabled: false,")), NativeFile).flows
    )
    ways = ValueWays(estate)
    assert [words for _, words in ways.lines(Place("keeper", "keep"), "downstream")][:1] == [
        "is written to ‘register’, but not as it stands"
    ]
    told_before = [words for _, words in ways.lines(Place("intake", "judge"), "upstream")]
    assert "it reads from ‘Register’, but not as it stands" in told_before and "a model words it" not in told_before


@settings(max_examples=draws(60), deadline=None)
@given(flows())
def test_what_one_end_says_the_other_says(drawn: Flow) -> None:
    """A step that is told to take something of another is told where that one goes, and nothing goes round for ever."""
    ways = ValueWays(Estate((drawn,)))
    graph = Graph(drawn)
    for step in drawn.steps[:8]:
        page = ways.page(drawn, step, ["upstream", "downstream"])
        assert sum(len(block.lines) for block in page.blocks if hasattr(block, "lines")) <= 2 * MOST_LINES
    for read in ways.flows[drawn.id].reads[:20]:
        if read.source not in graph.steps or read.trust == "missing":
            continue
        behind = [text for depth, text in ways.lines(Place(drawn.id, read.source), "downstream") if depth == 0]
        assert any(graph.names[read.reader] in text and read.where in text for text in behind), read


def test_the_command(tmp_path: Path, run: Run) -> None:
    (tmp_path / "a.yaml").write_text(FLOWS)
    ran = run("explain", "Intake", "Tell", "--source", "a.yaml", "--upstream", "--downstream", "--format", "json")
    found = json.loads(ran.out)
    assert ran.code == 0 and [one["text"] for one in found["blocks"] if one["type"] == "Heading"][1:] == [
        "Where what it takes comes from", "Where what it makes goes",
    ]  # fmt: skip
    assert "Nothing takes what it makes" not in ran.out and "leaves the flow" in ran.out
    assert "‘Desk’" in run("explain", "Intake", "Hand over", "--source", "a.yaml").out  # by its title, not its id
    for words in (["Intake"], ["Intake", "Tell", "--fails", "Tell"]):
        ran = run("explain", *words, "--upstream", "--source", "a.yaml")
        assert ran.code == 2 and "beside --upstream, found" in ran.err


def test_of_two_flows_with_one_id_the_one_that_was_asked_for() -> None:
    (intake, *_) = ESTATE.flows
    other = msgspec.structs.replace(intake, name="Other", steps=intake.steps[:1], links=intake.links[:1])
    page = ValueWays(Estate((intake, other))).page(other, other.steps[0], ["downstream"])
    assert "Nothing takes what it makes" in str(page.blocks)

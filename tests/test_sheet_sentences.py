"""What sheets and summaries say of who decides, what is reached and who is asked: of every step that some run comes to, and of no other."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from msgspec import structs

from any_shape import Drawn, any_flows
from builders import START, chain, flow, link, step
from conftest import Run, draws
from test_sampled import both
from zeitbuch.app.document import DocumentFacts, DocumentMaker
from zeitbuch.core.assumptions.rules import Rule
from zeitbuch.core.graph.pattern_class import pattern_reason
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Binding, Connection, Estate, Flow, ModelUse, Ref, Retry, Step
from zeitbuch.core.passes.steps_that_run import steps_that_may_run
from zeitbuch.core.report.blocks import Table
from zeitbuch.core.report.document import flow_page
from zeitbuch.core.report.first_sheet.deciding import deciding_lines
from zeitbuch.core.report.first_sheet.failing import failing_lines
from zeitbuch.core.report.first_sheet.reaching import reaching_lines
from zeitbuch.core.report.sentences import step_sentence, summary_sentences
from zeitbuch.core.report.step_phrases import step_phrase

_NOBODY = "Nobody approves anything."


def _deciding(f: Flow) -> list[str]:
    graph = Graph(f)
    return deciding_lines(graph, steps_that_may_run(graph))


def _reaching(f: Flow) -> list[str]:
    graph = Graph(f)
    return reaching_lines(graph, steps_that_may_run(graph))


def _failing(f: Flow) -> list[str]:
    graph = Graph(f)
    return failing_lines(graph, steps_that_may_run(graph))


def _with(f: Flow, *steps: Step, links: tuple[Any, ...] = ()) -> Flow:
    return structs.replace(f, steps=(*f.steps, *steps), links=(*f.links, *links))


def _decision(*between: Step, reads: str = "", **more: Any) -> Flow:
    """A model, what stands between, and a decision that reads the last of them."""
    read = step("d", "decide", refs=(Ref(step=reads or (between[-1].id if between else "m")),), **more)
    ends = (link("d", "x", "case", "yes"), link("d", "y", "case", "no"))
    return _with(chain(step("m", "model"), *between, read), step("x"), step("y"), links=ends)


def _agent(*tools: Step, **more: Any) -> Flow:
    return _with(chain(step("a", "agent", **more)), *tools, links=tuple(link(one.id, "a", "attach") for one in tools))


_PICKS = (Binding(name="amount", decided="model"),)
_BY_M = "A model alone decides which way ‘D’ goes (by what ‘M’ answers)."
DECIDED = {
    "a decision by what a model answers": (_decision(), [_BY_M, _NOBODY]),
    "by an answer that was reshaped": (_decision(step("s", inputs=(Binding(name="in", refs=(Ref(step="m"),)),))), [_BY_M, "A model words what ‘M’ gives.", _NOBODY]),
    "by an answer that code worked on": (_decision(step("s", "code", refs=(Ref(step="m"),))), [_BY_M, "A model words what ‘M’ gives.", _NOBODY]),
    "by what a service says": (_decision(step("h", "http", refs=(Ref(step="m"),))), ["A model words what ‘M’ gives.", _NOBODY]),
    "a decision that is switched off": (_decision(enabled=False), ["A model words what ‘M’ gives.", _NOBODY]),
    "a model with cases of its own": (
        _with(chain(step("m", "model")), step("x"), step("y"), links=(link("m", "x", "case", "yes"), link("m", "y", "case", "no"))),
        ["A model alone decides which way ‘M’ goes (by what ‘M’ answers).", "A model words what ‘M’ gives.", _NOBODY],
    ),
    "a person who is asked": (chain(step("m", "model"), step("p", "approve")), ["A model words what ‘M’ gives.", "A person decides at ‘P’."]),
    "a person who is not": (
        chain(step("m", "model"), step("p", "approve", enabled=False)),
        ["A model words what ‘M’ gives.", _NOBODY, "‘P’ asks nobody as it stands: switched off, or no run comes there."],
    ),
    "persons to whom nothing leads": (
        _with(chain(step("s")), step("p", "approve"), step("q", "approve")),
        ["‘P’ and ‘Q’ ask nobody as it stands: switched off, or no run comes there."],
    ),
    "a model that is switched off": (chain(step("m", "model", enabled=False), step("s")), ["Everything follows from data and fixed values."]),
    "a flow that is called": (chain(step("c", "subflow", calls="g")), ["Everything in this flow itself follows from data and fixed values."]),
    "code": (chain(step("c", "code"), step("d", "code")), ["Everything follows from data, fixed values and what the code of ‘C’ and ‘D’ does."]),
    "an operation that no rule classifies": (
        chain(step("o", "other"), step("c", "subflow", calls="g")),
        ["No model and no person decides in this flow itself; whether ‘O’ does is not known, for no rule classifies it."],
    ),
    "tools of an agent": (
        _agent(step("t", "tool"), step("u", "send", enabled=False), step("v", "memory")),
        ["‘A’ itself decides whether and how often ‘T’ is used.", "A model words what ‘A’ gives.", _NOBODY],
    ),
    "an input that a model chooses": (
        _agent(step("t", "tool", inputs=_PICKS), step("u", "send", inputs=_PICKS, enabled=False)),
        ["A model alone decides the amount of ‘T’.", "‘A’ itself decides whether and how often ‘T’ is used.", "A model words what ‘A’ gives.", _NOBODY],
    ),
    "tools of an agent that is switched off": (_agent(step("t", "tool", inputs=_PICKS), enabled=False), ["Everything follows from data and fixed values."]),
    "a picture": (chain(step("m", "model", model=ModelUse(modality="image"))), ["A model makes what ‘M’ gives.", _NOBODY]),
}  # fmt: skip


_PACKED = (Binding(name="label", refs=(Ref(step="m"),)), Binding(name="sum", refs=(Ref(step="start"),)))


@pytest.mark.parametrize(("path", "by"), [("label", True), ("label.text", True), ("sum", False), ("", True)])
def test_of_what_was_put_together_the_part_that_is_read_counts(path: str, by: bool) -> None:
    f = _decision(step("s", inputs=_PACKED))
    reads = structs.replace(f.steps[2], refs=(Ref(step="s", path=path),))
    lines = _deciding(structs.replace(f, steps=(*f.steps[:2], reads, *f.steps[3:])))
    assert (_BY_M in lines) == by


def test_the_reason_of_a_pattern_says_who_chooses_and_what_is_not_known() -> None:
    told = {
        "1 model call at fixed places and no agent: nothing chooses its own steps": chain(step("m", "model")),
        "1 model call at fixed places and no agent: an answer decides which way ‘D’ goes, and nothing else chooses its own steps": _decision(),
        "no step but ‘P’ (reading documents) uses a model": chain(step("p", "parse", model=ModelUse(name="x"))),
        "no step that a rule classifies uses a model; whether ‘O’ does is not known": chain(step("o", "other")),
        "one agent with 1 tool and no memory: a dispatcher is not needed": _agent(step("t", "tool"), step("u", "tool", enabled=False)),
    }  # fmt: skip
    assert {pattern_reason(Graph(f)): f for f in told.values()} == told


@pytest.mark.parametrize("name", DECIDED)
def test_who_decides_what(name: str) -> None:
    f, lines = DECIDED[name]
    assert _deciding(f) == lines


def _sends(name: str, **more: Any) -> Step:
    return step(name, "send", effect="send", **more)


REACHED = {
    "what is sent": (chain(_sends("s")), ["Send: ‘S’."]),
    "what is switched off": (chain(_sends("s", enabled=False)), "‘S’"),
    "what stands in a block that is switched off": (_with(chain(step("g", "group", enabled=False)), _sends("s", scope="g")), "‘S’"),
    "what nothing leads to": (_with(chain(step("a")), _sends("s")), "‘S’"),
    "the tool of an agent that is switched off": (_agent(_sends("s"), enabled=False), "‘S’"),
    "a loop that goes over nothing": (_with(chain(step("l", "loop", repeat=None)), _sends("s", scope="l")), ["Send: ‘S’."]),
    "code": (chain(step("c", "code"), step("o", "other")), ["It reaches nothing outside, as far as the export says.", "What ‘C’ and ‘O’ may do outside the export does not say."]),
    "code of which the export says it": (chain(step("c", "code", effect="write")), ["Write: ‘C’."]),
}  # fmt: skip


@pytest.mark.parametrize("name", REACHED)
def test_what_is_reached(name: str) -> None:
    f, lines = REACHED[name]
    if isinstance(lines, str):
        idle = f"Not as it stands: {lines}, switched off or where no run comes."
        lines = ["It reaches nothing outside, as far as the export says.", idle]
    assert _reaching(f) == lines


def test_the_summary_says_what_runs() -> None:
    f = chain(
        _sends("s", enabled=False), step("p", "approve", enabled=False), step("c", "subflow", calls="g", enabled=False)
    )
    said = summary_sentences(Graph(f))
    assert (
        said
        == "When someone starts it by hand, the flow starts; it has 3 steps. It changes nothing outside, as far as the export says."
    )
    models = chain(step("m", "model", model=ModelUse(name="x")), step("n", "model", enabled=False), step("s"))
    assert "; it has 3 steps, 2 of them with AI (x): ‘M’ and ‘N’ (does not run). It" in summary_sentences(Graph(models))
    off = structs.replace(START, enabled=False)
    said = summary_sentences(Graph(structs.replace(f, triggers=(off,))))
    assert said.startswith("Its triggers are switched off, so that by itself the flow does not start; it has 3 steps.")
    on = structs.replace(START, id="on", kind="form")
    said = summary_sentences(Graph(structs.replace(f, triggers=(off, on))))
    assert said.startswith("When a form is sent, the flow starts; ")


def test_connections_of_steps_that_do_not_run_do_nothing() -> None:
    used = {
        "a": _sends("s", connection="a"),
        "b": _sends("t", connection="b", enabled=False),
        "c": step("u", connection="c"),
    }
    at = tuple(Connection(id=name) for name in "abcd")
    page = flow_page(Graph(chain(*used.values(), connections=at)), "page", None)
    (table,) = [one for one in page.blocks if isinstance(one, Table) and one.sheet.columns[0].key == "name"]
    told = {row[0]: (row[3], row[4]) for row in table.sheet.rows}
    assert told == {
        "a": ("sends", 1),
        "b": ("nothing as it stands", 1),
        "c": ("nothing known", 1),
        "d": ("not used", 0),
    }


def test_a_flow_whose_call_is_switched_off_is_not_called() -> None:
    caller = chain(step("c", "subflow", calls="g", enabled=False), step("h", "subflow", calls="h"), id="f", name="F")
    flows = [caller, *[chain(step("s"), id=name, name=name.upper()) for name in "gh"]]
    maker = DocumentMaker(flows, None, DocumentFacts(Estate(flows=tuple(flows))))
    assert [maker.sheet_facts(one).callers for one in flows] == [(), (), ("‘F’",)]
    assert maker.sheet_facts(caller).called == ("‘H’",)


def test_a_tool_that_is_switched_off_is_not_offered() -> None:
    graph = Graph(_agent(step("t", "tool"), step("u", "tool", enabled=False)))
    assert "may use ‘T’" in step_sentence(graph, graph.steps["a"]) and "‘U’" not in step_sentence(
        graph, graph.steps["a"]
    )
    assert step_phrase(graph, graph.steps["a"]).endswith("may use ‘T’")
    bare = Graph(_agent(step("u", "tool", enabled=False)))
    assert "without tools" in step_sentence(bare, bare.steps["a"])


def test_a_guard_that_nothing_follows_catches_nothing() -> None:
    bare = _with(
        chain(step("g", "guard"), step("z")), step("a", "http", scope="g"), step("b", "http", scope="g", enabled=False)
    )
    assert (
        step_sentence(Graph(bare), bare.steps[0])
        == "Runs 1 step; what follows when something in it fails the export does not say."
    )
    caught = _with(bare, step("x"), links=(link("g", "x", "error"),))
    assert step_sentence(Graph(caught), caught.steps[0]).startswith(
        "Runs 1 step and catches what fails in them. If it fails,"
    )


_ASKS = step("p", "approve")
SILENT = {
    "nothing said": (chain(_ASKS), "not stated in the export"),
    "an error way takes it": (_with(chain(_ASKS), step("x", "shape"), links=(link("p", "x", "error"),)), "‘X’ reshapes the data"),
    "it goes on": (chain(structs.replace(_ASKS, on_fault="continue")), "the run goes on as if nothing had happened"),
    "a guard that nothing follows": (_with(chain(step("g", "guard")), structs.replace(_ASKS, scope="g")), "not stated in the export"),
    "a block that is tried again": (
        _with(chain(step("g", "group", retry=Retry(attempts=1))), structs.replace(_ASKS, scope="g")),
        "‘G’ around it is tried again once; what follows then is not stated in the export",
    ),
    "a guard with a way": (
        _with(chain(step("g", "guard")), structs.replace(_ASKS, scope="g"), step("x"), links=(link("g", "x", "error"),)),
        "‘G’ around it takes the fault, and the run goes on at 2 ‘X’",
    ),
    "a loop": (_with(chain(step("l", "loop")), structs.replace(_ASKS, scope="l")), "not stated in the export"),
}  # fmt: skip


@pytest.mark.parametrize("name", SILENT)
def test_what_follows_when_nobody_answers(name: str) -> None:
    f, words = SILENT[name]
    assert f"When whoever is asked does not answer ‘P’: {words}." in _failing(f)


def test_failures_of_tools_that_are_tried_again() -> None:
    lines = _failing(_agent(step("t", "tool", retry=Retry(attempts=1))))
    assert lines == [
        "When ‘T’ fails: it is tried again once; what ‘A’ then does the export does not say.",
        "Any other failure ends its branch, and nobody is told.",
    ]
    off = _with(chain(step("a", "http")), step("x", "http", retry=Retry(attempts=1)))
    assert _failing(off) == ["No failure has a route and nothing is tried again: the branch ends, and nobody is told."]


def test_what_may_run_where_passes_are_no_exact_numbers() -> None:
    """A step that is passed by and skipped at once brings two passes, of which one is skipped further on."""
    steps = [step(f"s{number}", enabled=number > 3) for number in range(6)]
    pairs = [("start", "s0", ()), ("s0", "s1", ()), ("s0", "s2", ("skip",)), ("s1", "s2", ()), ("s0", "s3", ())]
    links = [link(a, b, after=after) for a, b, after in pairs]
    links += [link("s2", "s4", "error"), link("s3", "s4"), link("s4", "s5", after=("skip",))]
    off = [step("g", "group", enabled=False), step("in", scope="g"), step("lost")]
    graph = Graph(flow([*steps, *off], [*links, link("s4", "g")]))
    assert steps_that_may_run(graph) == {"s4", "s5"}


_RETURNS = """zeitbuch: 1
flows:
  - id: returns
    name: Crate returns
    state: "on"
    triggers: [{id: t, kind: manual}]
    steps:
      - {id: g, kind: guard, name: Ask, retry: {attempts: 1}}
      - {id: m, kind: model, name: Judge, scope: g, model: {name: fulmar-mini-2, prompts: [{text: Is it broken?}]}}
      - {id: p, kind: approve, name: Treasurer agrees, enabled: false}
      - {id: s, kind: send, effect: send, name: Tell the yard, connection: mail}
      - {id: x, kind: send, effect: send, name: Tell nobody, connection: mail, enabled: false}
    links: [{source: t, target: g}, {source: g, target: p}, {source: p, target: s}, {source: s, target: x}]
    connections: [{id: mail, name: Yard mail}]
"""


def test_the_commands_say_what_runs_and_count_blocks_that_are_tried_again(tmp_path: Path, run: Run) -> None:
    (tmp_path / "returns.yaml").write_text(_RETURNS)
    (tmp_path / "assumptions.toml").write_text('[[assume]]\nstep = "Judge"\nfailure = 0.3\n')
    told = run("explain", "--source", "returns.yaml", "Crate returns").out
    assert "sends through ‘Yard mail’." in told and "a person decides" not in told
    assert run("document", "returns.yaml", "-o", "docs", "-f", "markdown").code == 0
    sheet = (tmp_path / "docs" / "returns.md").read_text()
    assert "‘Treasurer agrees’ asks nobody as it stands" in sheet and "Not as it stands: ‘Tell nobody’" in sheet
    assert "‘Ask’ around it is tried again once, and then nothing takes the fault" in sheet
    options = ("--assumptions", "assumptions.toml", "-f", "json")
    (flow_,) = json.loads(run("estimate", "returns.yaml", *options).out)["flows"]
    assert flow_["calls"] == pytest.approx(1.3)


@settings(max_examples=draws(80), deadline=None)
@given(any_flows())
def test_what_may_run_is_what_ever_runs(drawn: Drawn) -> None:
    """Held against samples in which every step fails and runs out of time often."""
    f = structs.replace(drawn.flow, steps=tuple(structs.replace(one, retry=None) for one in drawn.flow.steps))
    running = steps_that_may_run(Graph(f))
    exact, sample = both(f, [Rule(failure=0.3, timeout=0.2), *[Rule(step=one.id, items=2.0) for one in f.steps]], 4000)
    for name, counted in sample.of.items():
        if counted.runs.any():
            assert name in running, name
        elif exact.exact and float(exact.of[name].runs) > 0.01:
            assert name not in running, name

"""Typed facts of steps, triggers and flows: known to words, comparisons, documents, maps, and to both forms of exchange."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import msgspec
import pytest
from msgspec import structs

from builders import ask, chain, step
from conftest import Run
from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.diff.change_types import CHANGE_KINDS
from zeitbuch.core.diff.estate_changes import flow_changes
from zeitbuch.core.diff.losses import find_losses
from zeitbuch.core.graph.flow_calls import calls_of
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.facts import FLOW_FACTS, STEP_FACTS, TRIGGER_FACTS, facts_of
from zeitbuch.core.model.records import (
    Approval,
    Binding,
    Estate,
    Flow,
    Link,
    Pause,
    Pieces,
    Ref,
    Repeat,
    Step,
    Trigger,
)
from zeitbuch.core.report.blocks import Facts
from zeitbuch.core.report.document import flow_page
from zeitbuch.core.report.possible_runs import Given
from zeitbuch.core.report.step_sections import step_blocks
from zeitbuch.core.report.what_if import WhatIfSimulation

ASKED = Approval(
    approvers=("Harbour master", "{look}"), needed=2, silence="rejects", refs=(Ref(step="look", text="{look}"),)
)
STATED: list[tuple[str, dict[str, Any], str]] = [
    ("approve", {"approval": ASKED}, "asks Harbour master or ‘Look’; 2 must agree; no answer counts as no"),
    ("approve", {"approval": Approval()}, "asks a person"),
    ("wait", {"pause": Pause(seconds=7200.0)}, "for 2 hours"),
    ("wait", {"pause": Pause(until="the tide turns")}, "until the tide turns"),
    ("http", {"timeout": 90.0}, "90 seconds"),
    ("embed", {"pieces": Pieces(size=800, overlap=50, unit="tokens", batch=20, store="handbook")},
     "pieces of 800 tokens, 50 tokens shared by neighbours, 20 embedded with one call, in handbook"),
    ("retrieve", {"pieces": Pieces(size=800, count=5)}, "pieces of 800 units not stated, the 5 nearest found"),
    ("loop", {"repeat": Repeat(items="letters", on_item_fault="stop")}, "an item that fails ends the loop"),
    ("loop", {"concurrency": 4}, "at most 4"),
    ("parallel", {"ordered": True}, "its ways run one after the other, in this order"),
    ("subflow", {"awaits": False}, "it does not wait for its end"),
    ("note", {"about": ("look",)}, "Look"),
]  # fmt: skip


@pytest.mark.parametrize(("kind", "more", "words"), STATED)
def test_a_fact_is_said_in_words_compared_and_counted_as_lost(kind: str, more: dict[str, Any], words: str) -> None:
    bare, stated = (chain(step("look", "read"), step("it", kind, **given)) for given in ({}, more))
    graph = Graph(stated)
    assert words in [said for _, said in facts_of(stated.steps[1], STEP_FACTS, graph.names)]
    shown = [block for block in step_blocks(graph, stated.steps[1]) if isinstance(block, Facts)]
    assert any(words == said for block in shown for _, said in block.pairs)
    found = flow_changes(bare, stated)
    assert found is not None and len(found.changes) == 1 and found.changes[0].type in CHANGE_KINDS
    assert words in str(found.changes[0].new)
    assert len(find_losses(stated, bare, {"look": "look", "it": "it"})) == 1


def test_what_no_answer_means_is_called_not_stated_only_where_nothing_says_it() -> None:
    def told(made: Flow) -> bool:
        (asked,) = [one for one in made.steps if one.kind == "approve"]
        return "Without an answer" in str(step_blocks(Graph(made), asked))

    bare = chain(step("ask", "approve"), step("tell", "send"))
    assert told(bare) and not told(chain(step("it", "approve", approval=Approval(silence="rejects"))))
    assert not told(structs.replace(bare, links=(*bare.links, Link("ask", "tell", after=("timeout",)))))
    assert not told(structs.replace(bare, links=(*bare.links, Link("ask", "tell", "error"))))
    assert not told(chain(step("ask", "approve", on_fault="continue")))
    guard = step("guard", "guard")
    within = structs.replace(chain(guard), steps=(guard, step("ask", "approve", scope="guard"), step("tell", "send")))
    assert told(within)  # nothing follows the guard: it takes nothing
    assert not told(structs.replace(within, links=(*within.links, Link("guard", "tell", "error"))))


def test_facts_of_triggers_and_flows() -> None:
    hook = Trigger("start", "webhook", event="/post")
    bare = chain(step("look", "read"), triggers=(hook,))
    stated = structs.replace(
        bare,
        triggers=(structs.replace(hook, authentication="signed header"),),
        fault_handlers=("Faults",),
        concurrency=3,
    )
    found = flow_changes(bare, stated)
    assert found is not None
    assert {change.type: str(change.new) for change in found.changes} == {
        "authentication": "signed header", "fault handler": "starts Faults", "concurrency": "at most 3",
    }  # fmt: skip
    text = str(flow_page(Graph(stated), "f", None).blocks)
    assert "callers: signed header" in text and "starts Faults" in text and "at most 3" in text


def test_roles_of_inputs_are_shown_and_compared() -> None:
    plain = Binding(name="to", value="desk@halvorsund.example")
    old, new = (
        chain(step("it", "send", inputs=(one,)))
        for one in (plain, structs.replace(plain, role="recipient", secured=True))
    )
    found = flow_changes(old, new)
    assert found is not None and [change.type for change in found.changes] == ["input role"]
    assert "recipient, kept out of logs" in str(step_blocks(Graph(new), new.steps[0]))


def test_the_tables_name_fields_of_the_records() -> None:
    for rows, record in ((STEP_FACTS, Step), (TRIGGER_FACTS, Trigger), (FLOW_FACTS, Flow)):
        assert {row.field for row in rows} <= set(record.__struct_fields__)
        assert {row.change for row in rows} <= set(CHANGE_KINDS)


def test_both_forms_of_exchange_keep_all_facts(run: Run, tmp_path: Path) -> None:
    steps = [step(f"s{place}", kind, **more) for place, (kind, more, _) in enumerate(STATED) if kind != "note"]
    made = structs.replace(
        chain(step("look", "read"), *steps, step("tell", "note", note="Mind the tide", about=("look",))),
        fault_handlers=("Faults",), concurrency=2,
    )  # fmt: skip
    whole = {"zeitbuch": 1, "flows": [msgspec.to_builtins(made)]}
    (tmp_path / "flow.json").write_text(json.dumps(whole))
    for form in ("yaml", "bpmn"):
        assert run("convert", "flow.json", "-f", form, "-o", f"back.{form}", "--no-cache", cwd=tmp_path).code == 0
        done = run("diff", "flow.json", f"back.{form}", "--no-cache", cwd=tmp_path)
        assert done.code == 0, done.out
        assert run("convert", f"back.{form}", "-f", "json", "-o", "again.json", "--no-cache", cwd=tmp_path).code == 0
        again = json.loads((tmp_path / "again.json").read_text())["flows"][0]
        assert {one["id"]: one.get("approval") for one in again["steps"]}["s0"] == json.loads(
            msgspec.json.encode(ASKED)
        )


@pytest.mark.parametrize(
    ("said", "after", "words"),
    [("stop", "not", "ends."), ("continue", "certain", "goes on"), (None, "perhaps", "does not say")],
)
def test_what_follows_a_failing_item_is_what_the_export_says(said: Any, after: str, words: str) -> None:
    each = step("each", "loop", repeat=Repeat(items="letters", on_item_fault=said))
    made = chain(each, step("file", "write"))
    inner = step("reach", "http", scope="each")
    made = structs.replace(made, steps=(*made.steps, inner))
    story = WhatIfSimulation(Graph(made), Given(fails=frozenset({"reach"}))).tell_story()
    told = {event.id: event for event in story.events}
    assert told["file"].odds == after and words in told["reach"].words


def test_faults_go_to_the_flows_that_are_named() -> None:
    def made(key: str, **more: Any) -> Flow:
        return chain(step("look", "read"), id=key, name=key.upper(), **more)

    fault = Trigger("start", "fault")
    named = structs.replace(fault, event="b*")
    estate = Estate(
        (
            made("a", fault_handlers=("H", "gone")),
            made("b1"),
            made("c"),
            made("h", triggers=(fault,)),
            made("n", triggers=(named,)),
        )
    )
    assert {(call.source, call.target, call.name) for call in calls_of(estate)} == {
        ("a", "h", "H"), ("a", "", "gone"), ("b1", "n", "N"),
    }  # fmt: skip


def test_pieces_of_the_export_are_counted(tmp_path: Path, run: Run) -> None:
    assert Assumptions  # the defaults hold where nothing is stated
    cut = Pieces(size=1000, overlap=100, unit="tokens", batch=4)
    made = chain(step("get", "read"), ask("index", "{get}", kind="embed", pieces=cut))
    given = {"zeitbuch": 1, "flows": [msgspec.to_builtins(made)]}
    given["flows"][0]["steps"][1]["model"]["prompts"][0]["refs"] = [{"step": "get", "text": "{get}"}]
    (tmp_path / "flow.json").write_text(json.dumps(given))
    (tmp_path / "sizes.toml").write_text('[[assume]]\nstep = "get"\nsize = 10000\n')
    done = run(
        "estimate", "flow.json", "--assumptions", "sizes.toml", "--steps", "-f", "json", "--no-cache", cwd=tmp_path
    )
    text = done.out + done.err
    assert "overlap of 11 pieces: 100 tokens each (100 tokens from the export)" in text, text


def test_a_search_hands_on_as_many_pieces_as_the_export_says(tmp_path: Path, run: Run) -> None:
    """Five pieces of 800 letters, the size with which the same store was filled, in the prompt of the step behind."""
    fill = ask("index", "{get}", kind="embed", pieces=Pieces(size=800, unit="letters", store="rules"))
    find = step("find", "retrieve", pieces=Pieces(count=5, store="rules"))
    made = chain(step("get", "read"), fill, find, ask("say", "{find}"))
    given = {"zeitbuch": 1, "flows": [msgspec.to_builtins(made)]}
    given["flows"][0]["steps"][3]["model"]["prompts"][0]["refs"] = [{"step": "find", "text": "{find}"}]
    (tmp_path / "flow.json").write_text(json.dumps(given))
    done = run("estimate", "flow.json", "--steps", "-f", "json", "--no-cache", cwd=tmp_path)
    text = done.out + done.err
    assert (
        "5 pieces (the step's own number) of 200 tokens (800 letters from the export, at 4 letters per token)" in text
    ), text


@pytest.mark.parametrize(
    ("fault", "beside", "passes", "after"),
    [
        (None, None, 10.0, 1.0),
        ("continue", None, 10.0, 1.0),
        ("stop", None, (1 - 0.9**10) / 0.1, 0.9**10),
        ("stop", 3, 3 + (0.9 - 0.9**8) / 0.1, 0.9**10),
        ("stop", 20, 10.0, 0.9**10),
    ],
)
def test_a_loop_that_ends_at_an_item_that_fails_is_counted_so(
    tmp_path: Path, run: Run, fault: Any, beside: int | None, passes: float, after: float
) -> None:
    """Of ten items of which each fails in a tenth: what runs in the loop, and in how many runs what follows it does. Rounds that run beside the
    one that fails have begun."""
    each = step("each", "loop", repeat=Repeat(items="letters", on_item_fault=fault), concurrency=beside)
    f = chain(each, ask("file"))
    made = structs.replace(f, steps=(*f.steps, ask("say", scope="each")))
    (tmp_path / "flow.json").write_text(json.dumps({"zeitbuch": 1, "flows": [msgspec.to_builtins(made)]}))
    (tmp_path / "faults.toml").write_text(
        '[[assume]]\nstep = "say"\nfailure = 0.1\n[[assume]]\nstep = "each"\nitems = 10\n'
    )
    asked = (
        "estimate",
        "flow.json",
        "--flow",
        "Flow",
        "--assumptions",
        "faults.toml",
        "--no-cache",
        "--steps",
        "-f",
        "json",
    )
    for samples in (("--runs", "0"), ()):
        done = run(*asked, *samples, cwd=tmp_path)
        rows = {row["id"]: row for row in json.loads(done.out)["flows"][0]["steps"]}
        assert rows["say"]["calls"] == pytest.approx(passes, rel=1e-9)
        assert rows["file"]["calls"] == pytest.approx(after, rel=1e-9)

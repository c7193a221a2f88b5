"""Proposals for structures that are told by how records stand: lanes, single keys, two files, operations in two fields."""

from __future__ import annotations

import json
import zipfile
from pathlib import Path
from typing import Any

import msgspec
import pytest

from conftest import Run
from scores import read_with
from zeitbuch.core.model.records import Origin
from zeitbuch.readers.dialects.flow_rules import FlowRule, Signature
from zeitbuch.readers.dialects.reshape import Reshaper
from zeitbuch.readers.dialects.reshape_rules import GroupRule
from zeitbuch.readers.dialects.rules import Dialect, StepRule, load_dialect
from zeitbuch.readers.infer.propose import propose_from_documents
from zeitbuch.readers.infer.single_keys import open_single_keys, single_key_list
from zeitbuch.readers.infer.suggest import suggest_dialect
from zeitbuch.readers.infer.survey import is_map, without_path
from zeitbuch.readers.reading.reader import Reader

WORDS = "You sort letters of passengers into groups. Answer with the name of one group only."


def steps_of(at: int) -> list[dict[str, Any]]:
    """Five steps of a flow, each with the next."""
    return [
        {"id": f"t{at}", "name": f"Morning {at}", "does": "cron.trigger", "given": {"cron": "0 7 * * *"}, "then": f"a{at}"},
        {"id": f"a{at}", "name": f"Read the letters {at}", "does": "table.find", "given": {"table": "letters"}, "then": f"b{at}"},
        {"id": f"b{at}", "name": f"Sort the letters {at}", "does": "llm.ask", "given": {"model": "tern-3-small", "system": WORDS}, "then": f"c{at}"},
        {"id": f"c{at}", "name": f"Keep the list {at}", "does": "row.insert", "given": {"table": "groups"}, "then": f"d{at}"},
        {"id": f"d{at}", "name": f"Tell the purser {at}", "does": "mail.send", "given": {"to": "purser@ferry.example", "text": "New letters"}},
    ]  # fmt: skip


def arrows_of(at: int) -> list[dict[str, str]]:
    return [{"from": step["id"], "to": step["then"]} for step in steps_of(at) if "then" in step]


def lanes(at: int) -> dict[str, Any]:
    steps = {step.pop("id"): step for step in steps_of(at)}
    both = [dict(list(steps.items())[:2]), dict(list(steps.items())[2:])]
    return {
        "id": f"f{at}",
        "title": f"Letters {at}",
        "lanes": {"front": {"who": "desk", "tasks": both[0]}, "back": {"who": "mate", "tasks": both[1]}},
    }


def single_keys(at: int) -> dict[str, Any]:
    return {
        "id": f"f{at}",
        "title": f"Letters {at}",
        "steps": [{step.pop("does"): {**step.pop("given"), **step}} for step in steps_of(at)],
    }


def two_fields(at: int) -> dict[str, Any]:
    steps = []
    for step in steps_of(at):
        step["family"], step["verb"] = step.pop("does").split(".")
        steps.append(step)
    return {"id": f"f{at}", "title": f"Letters {at}", "steps": steps}


STRUCTURES = {"lanes": lanes, "single keys": single_keys, "two fields": two_fields}


def write(folder: Path, documents: dict[str, Any]) -> list[str]:
    folder.mkdir(parents=True, exist_ok=True)
    for name, value in documents.items():
        (folder / name).write_text(json.dumps(value))
    return sorted(str(path) for path in folder.iterdir())


def check(tmp_path: Path, run: Run, sources: list[str]) -> None:
    """Propose for sources with the installed program, read them with the proposal, and hold the flows against what stands in them."""
    dialect = tmp_path / "made.toml"
    done = run("dialect", "suggest", *sources, "-o", str(dialect))
    assert done.code == 0, done.err
    shown = run("inventory", *sources, "--dialect", str(dialect), "-f", "json")
    assert shown.code == 0, shown.err
    rows = json.loads(shown.out)["flows"]
    assert [(row["steps"], row["ai_steps"]) for row in rows] == [(4, 1)] * 3
    for at, flow in enumerate(
        sorted(Reader([load_dialect(str(dialect))]).read_sources(sources), key=lambda one: one.id)
    ):
        assert [(link.source, link.target) for link in flow.links] == [(a["from"], a["to"]) for a in arrows_of(at)]
        assert [trigger.kind for trigger in flow.triggers] == ["schedule"]
        assert [step.kind for step in flow.steps] == ["read", "model", "write", "send"]


@pytest.mark.parametrize("structure", STRUCTURES)
def test_structures_are_proposed_and_read(structure: str, tmp_path: Path, run: Run) -> None:
    files = write(tmp_path / "exports", {f"f{at}.json": STRUCTURES[structure](at) for at in range(3)})
    check(tmp_path, run, files)


def halves(at: int) -> dict[str, Any]:
    steps = [{key: value for key, value in step.items() if key != "then"} for step in steps_of(at)]
    return {
        f"f{at}.steps.json": {"id": f"f{at}", "title": f"Letters {at}", "steps": steps},
        f"f{at}.arrows.json": {"of": f"f{at}", "arrows": arrows_of(at)},
    }


def test_flows_in_two_files_are_put_together(tmp_path: Path, run: Run) -> None:
    made = {name: value for at in range(3) for name, value in halves(at).items()}
    files = write(tmp_path / "exports", made)
    check(tmp_path, run, files)
    package = tmp_path / "all.zip"
    with zipfile.ZipFile(package, "w") as held:
        for name, value in made.items():
            held.writestr(f"deep/{name}", json.dumps(value))
    check(tmp_path, run, [str(package)])


def test_files_whose_names_do_not_go_together_stay_apart() -> None:
    made = [(f"f{at}.steps.json", halves(at)[f"f{at}.steps.json"]) for at in range(3)]
    made += [(f"other{at}.arrows.json", halves(at)[f"f{at}.arrows.json"]) for at in range(3)]
    found = propose_from_documents(made, "probe")
    assert not found.made.dialect.beside


def test_lists_of_single_keys() -> None:
    documents = [single_keys(at) for at in range(2)]
    assert single_key_list(documents) == ("steps",)
    (first, *_) = open_single_keys(documents[0], ("steps",))["steps"]
    assert first["@key"] == "cron.trigger"
    assert single_key_list([{"steps": steps_of(0)}]) == ()
    assert single_key_list([{"parts": [{"text": "a"}, {"text": "b"}, {"image": "c"}]}]) == ()  # texts, no records


def test_lanes_are_entries_and_ends_of_links_are_not() -> None:
    both = {"front": {"tasks": [{"id": "a"}]}, "back": {"tasks": [{"id": "b"}]}}
    assert is_map([both, both])
    assert not is_map([{"from": {"id": "a", "port": 1}, "to": {"id": "b", "port": 2}}] * 2)


def test_a_document_without_what_stands_at_a_path() -> None:
    lanes_of = {"lanes": {"a": {"tasks": [1], "who": 2}, "b": {"tasks": [3]}}, "id": 4}
    assert without_path(lanes_of, ("lanes", "*", "tasks")) == {
        "lanes": {"a": {"tasks": None, "who": 2}, "b": {"tasks": None}},
        "id": 4,
    }


def test_rows_that_say_something_of_their_flow(tmp_path: Path, run: Run) -> None:
    """A table whose rows carry the name and the state of the flow: they are the flow's, not the steps'."""
    rows = ["flow,title,live,no,does,label,set,then"]
    for at in range(3):
        for number, step in enumerate(steps_of(at)):
            given = json.dumps(step["given"]).replace('"', '""')
            rows.append(
                f'f{at},Letters {at},{int(at < 2)},{number},{step["does"]},{step["name"]},"{given}",{number + 1 if "then" in step else ""}'
            )
    table = tmp_path / "flows.csv"
    table.write_text("\n".join(rows) + "\n")
    dialect = tmp_path / "made.toml"
    assert run("dialect", "suggest", str(table), "-o", str(dialect)).code == 0
    made = load_dialect(str(dialect))
    assert made.group[0].head == ["title", "live"]
    assert not made.step.enabled and not made.step.disabled
    flows = list(Reader([made]).read_sources([str(table)]))
    assert [(flow.name, flow.state) for flow in flows] == [
        ("Letters 0", "on"),
        ("Letters 1", "on"),
        ("Letters 2", "off"),
    ]
    assert all(flow.content.unread == 0 for flow in flows)


def test_what_differs_within_a_group_stays_in_its_rows() -> None:
    rule = {"at": "$[*]", "by": "flow", "head": ["title", "mode"]}
    rows = [
        {"flow": "a", "title": "One", "mode": 1, "id": "x"},
        {"flow": "a", "title": "One", "mode": True, "id": "y"},
        {"flow": "b", "title": "Two", "mode": 0, "id": "z"},
    ]
    dialect = Dialect(
        dialect=1, name="rows", signature=Signature(all=["$"]), flow=FlowRule(at="$.flows[*]"), step=StepRule(at="$.steps[*]"),
        group=[msgspec.convert(rule, GroupRule)],
    )  # fmt: skip
    first, second = Reshaper(dialect).reshape(rows, Origin("")).value["flows"]
    assert first == {"flow": "a", "title": "One", "steps": [{"mode": 1, "id": "x"}, {"mode": True, "id": "y"}]}
    assert second == {"flow": "b", "title": "Two", "mode": 0, "steps": [{"id": "z"}]}


def after(at: int) -> dict[str, Any]:
    """Steps that name those before them, with the way of a decision and the outcome of a call in the same text."""
    names = [["letter-read", []], ["letter-ask", ["letter-read"]], ["letter-send", ["letter-ask:yes"]], ["letter-keep", ["letter-ask:no", "letter-send"]],
             ["letter-ring", ["letter-send:failed"]]]  # fmt: skip
    does = ["table.find", "branch", "http.call", "row.insert", "sms.send"]
    tasks = {
        name: {"title": f"{does[place]} {at}", "does": does[place], "with": {"table": "letters"} if place else {"rows": 3}, "after": before}
        for place, (name, before) in enumerate(names)
    }  # fmt: skip
    return {"id": f"f{at}", "title": f"Letters {at}", "begins": {"kind": "webhook", "path": "/letters"}, "tasks": tasks}


def test_steps_before_are_named_with_ways_and_outcomes() -> None:
    made = propose_from_documents([(f"{at}.json", after(at)) for at in range(3)], "probe").made.dialect
    assert [(rule.at, rule.target, rule.via, rule.reversed) for rule in made.pointer] == [
        ("after", "step", "outlet", True)
    ]
    (flow,) = read_with(made, [after(0)])
    found = {
        (link.source, link.target, link.role, link.label) for link in flow.links if link.source.startswith("letter")
    }
    assert found == {
        ("letter-read", "letter-ask", "next", ""), ("letter-ask", "letter-send", "case", "yes"), ("letter-ask", "letter-keep", "case", "no"),
        ("letter-send", "letter-keep", "next", ""), ("letter-send", "letter-ring", "error", "failed"),
    }  # fmt: skip


def test_what_may_switch_steps_off_is_asked_when_little_speaks_for_it() -> None:
    """One flow whose steps have a flag that is mostly on: it may say anything."""
    flow = {
        "id": "f",
        "title": "Letters",
        "steps": [{**step, "flag": place != 2} for place, step in enumerate(steps_of(0))],
    }
    made = suggest_dialect([flow], "probe")
    assert made is not None
    claim = next(claim for claim in made.claims if claim.part == "switched off")
    asked = [question for question in made.questions if question.id == "switch"]
    assert bool(asked) == claim.is_asked == (not made.dialect.step.enabled)
    told = suggest_dialect([flow], "probe", {"switch": "yes"})
    assert told is not None
    assert told.dialect.step.enabled == "flag"

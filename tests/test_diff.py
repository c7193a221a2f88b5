"""Changes of meaning: the demo's two months, every type of change, and noise that is none."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec import structs

from builders import ask, chain, flow, link, step
from conftest import Run, read
from zeitbuch.core.changes import WEIGHTS, changes, flow_changes
from zeitbuch.core.match import match_steps
from zeitbuch.core.model import (
    Binding,
    Connection,
    Estate,
    Flow,
    ModelUse,
    Prompt,
    Ref,
    Repeat,
    Retry,
    Schedule,
    Trigger,
    Variable,
)
from zeitbuch.core.word_diff import word_changes


def types(old: Flow, new: Flow) -> list[tuple[str, str, str]]:
    found = flow_changes(old, new)
    return [(c.type, c.old, c.new) for c in found.changes] if found else []


def test_demo_months_differ_as_they_were_made_to(october: Estate, november: Estate) -> None:
    found = changes(october, november)
    by = {f.name: [(c.type, c.where) for c in f.changes] for f in found.flows}
    assert by == {
        "Lost property matching": [("prompt", "‘Describe the lost item’ (system prompt)")],
        "Passenger announcements": [("model", "‘Translate’")],
        "Customer letters": [("schedule", "the trigger")],
        "Berth delay notices": [
            ("connection", "the flow"),
            ("step added", "‘Put on the boards’ after ‘Send to passengers’"),
            ("link removed", "‘Send to passengers’ to ‘Log only’"),
        ],
        "Cabin damage claims": [("model", "‘Summarise the claim’")],
        "Invoice intake": [("model", "‘Choose the account’")],
        "Timetable questions": [("prompt", "‘Timetable assistant’ (system prompt)")],
        "Cargo papers screening": [("error route removed", "‘Read the pages’ to ‘Log the fault’")],
    }
    assert found.unchanged == 9, "the moved boxes of the handbook assistant are no change"


BASE = flow(
    [
        ask("a", "Say hello to the passenger.", task="label", max_output=10),
        step("d", "decide", condition="x"),
        step("l", "loop", repeat=Repeat(items="rows")),
        step("h", "http", inputs=(Binding(name="to", value="desk"),), connection="c1", retry=Retry(attempts=1)),
        step("s", "subflow", calls="other"),
    ],
    [
        link("start", "a"),
        link("a", "d"),
        link("d", "l", "case", "yes"),
        link("d", "h", "case", "no"),
        link("h", "s", "error", "on error"),
    ],
    connections=(Connection(id="c1", name="Desk"),),
    variables=(Variable(name="v", value=1),),
)


def changed(step_id: str, **more: Any) -> Flow:
    return structs.replace(BASE, steps=tuple(structs.replace(s, **more) if s.id == step_id else s for s in BASE.steps))


def use(**more: Any) -> ModelUse:
    found = BASE.steps[0].model
    assert found is not None
    return structs.replace(found, **more)


CASES: list[tuple[Flow, str, str, str]] = [
    (structs.replace(BASE, name="New"), "flow renamed", "Flow", "New"),
    (structs.replace(BASE, state="off"), "state", "unknown", "off"),
    (structs.replace(BASE, owners=("Ola",)), "owner", "", "Ola"),
    (structs.replace(BASE, description="d"), "description", "", "d"),
    (structs.replace(BASE, unread={"x": 1}), "unread content", "{}", '{"x":1}'),
    (structs.replace(BASE, variables=(Variable(name="v", value=2),)), "variable", "1", "2"),
    (structs.replace(BASE, connections=()), "connection", "Desk", "none"),
    (structs.replace(BASE, triggers=(Trigger(id="start", kind="chat"),)), "trigger", "started by hand", "chat message"),
    (changed("a", name="Greet"), "step renamed", "A", "Greet"),
    (changed("a", kind="agent"), "kind", "model call", "agent"),
    (changed("a", enabled=False), "enabled", "on", "off"),
    (changed("a", model=use(name="fulmar-large-2")), "model", "fulmar-mini-2", "fulmar-large-2"),
    (changed("a", model=use(temperature=0.5)), "model setting", "none", "0.5"),
    (changed("a", model=use(max_output=99)), "model setting", "10", "99"),
    (changed("a", model=use(prompts=(Prompt(text="Say hello."),))), "prompt", "Say hello to the passenger.", "Say hello."),
    (changed("d", condition="y"), "condition", "x", "y"),
    (changed("d", inclusive=True), "condition", "one", "any"),
    (changed("l", repeat=Repeat(items="all")), "loop", "over rows", "over all"),
    (changed("h", effect="delete"), "effect", "none", "delete"),
    (changed("h", connection="c2"), "connection", "c1", "c2"),
    (changed("h", retry=None), "retry", "tried again 1x", "never tried again"),
    (changed("h", timeout=60.0), "retry", "none", "1 minute"),
    (changed("h", on_fault="continue"), "on error", "stop", "continue"),
    (changed("h", inputs=(Binding(name="to", value="all"),)), "input", "desk", "all"),
    (changed("h", inputs=(Binding(name="to", value="?", decided="model"),)), "input decider", "fixed: desk", "the model: ?"),
    (changed("h", inputs=(Binding(name="to", value="%x", decided="data", refs=(Ref(step="a", text="%x"),)),)), "input decider", "fixed: desk", "data: ‘A’: ‘A’"),
    (changed("h", scope="l"), "scope", "no scope", "L"),
    (changed("h", note="n"), "note", "none", "n"),
    (changed("h", operation="o"), "other setting", "none", "o"),
    (changed("h", unread={"q": 1}), "unread content", "{}", '{"q":1}'),
    (changed("s", calls="third"), "called flow", "other", "third"),
    (structs.replace(BASE, links=BASE.links[:-1]), "error route removed", "on error", ""),
    (structs.replace(BASE, links=(*BASE.links, link("l", "s", "error"))), "error route added", "", "link"),
    (structs.replace(BASE, links=(*BASE.links, link("l", "s"))), "link added", "", "link"),
    (structs.replace(BASE, links=(*BASE.links[:2], link("d", "l", "case", "maybe"), *BASE.links[3:])), "case", "yes", "maybe"),
]  # fmt: skip


@pytest.mark.parametrize("case", CASES, ids=lambda c: c[1])
def test_each_change_is_one_change(case: tuple[Flow, str, str, str]) -> None:
    new, kind, before, after = case
    assert types(BASE, new) == [(kind, before, after)]
    ((_, back_before, back_after),) = types(new, BASE)
    assert (back_after, back_before) == (before, after) or kind.startswith(("error", "link"))


def test_added_and_removed_steps_and_schedules() -> None:
    old, new = chain(step("a"), step("b")), chain(step("a"), step("x", "send", effect="send"), step("b"))
    assert [c[0] for c in types(old, new)] == ["step added", "link removed"]
    assert [c[0] for c in types(new, old)] == ["step removed", "link added"]
    at = [
        chain(
            step("a"), triggers=(Trigger(id="start", kind="schedule", schedule=Schedule(cron=c, zone="Europe/Oslo")),)
        )
        for c in ("0 10 * * 1-5", "*/5 * * * *")
    ]
    assert types(*at) == [("schedule", "on weekdays at 10:00 (Europe/Oslo)", "every 5 minutes (Europe/Oslo)")]


def test_every_type_has_a_case() -> None:
    tried = {c[1] for c in CASES} | {
        "step added",
        "step removed",
        "schedule",
        "flow added",
        "flow removed",
        "link removed",
    }
    assert tried == set(WEIGHTS)


def test_flows_that_came_and_went() -> None:
    found = changes(
        Estate(flows=(chain(step("a"), id="x", name="X"),)), Estate(flows=(chain(step("a"), id="y", name="Y"),))
    )
    assert [(f.status, f.name) for f in found.flows] == [("removed", "X"), ("added", "Y")]


def test_renewed_ids_are_matched_by_name_and_kind() -> None:
    old = flow([step("a", "http", name="Fetch"), step("b", "send", name="Tell")], [link("a", "b")])
    new = flow([step("n1", "http", name="Fetch"), step("n2", "send", name="Tell")], [link("n1", "n2")])
    pairs, removed, added = match_steps(old, new)
    assert [(a.id, b.id) for a, b in pairs] == [("a", "n1"), ("b", "n2")] and not removed and not added


def test_reexport_without_change_is_no_change(demo: Path, run: Run) -> None:
    def shuffled(value: Any) -> Any:
        if isinstance(value, dict):
            return {k: shuffled(v) for k, v in reversed(value.items())}
        return [shuffled(v) for v in value] if isinstance(value, list) else value

    for path in (demo / "november").rglob("*.json"):
        copy = demo / "again" / path.relative_to(demo / "november")
        copy.parent.mkdir(parents=True, exist_ok=True)
        document = shuffled(json.loads(path.read_text()))
        if "sheet" in document:
            document["sheet"]["touched"] = "2027-01-01"
            for station in document["sheet"]["stations"]:
                station["spot"] = {"x": 0, "y": 0}
        copy.write_text(json.dumps(document))
    for path in [*(demo / "november").rglob("*.yaml"), *(demo / "november").rglob("*.bpmn")]:
        copy = demo / "again" / path.relative_to(demo / "november")
        copy.parent.mkdir(parents=True, exist_ok=True)
        copy.write_text(path.read_text())
    status, out, _ = run("diff", "november", "again", cwd=demo)
    assert (status, out) == (0, "No change of meaning; 17 flows compared.\n")


def test_diff_of_the_program(demo: Path, run: Run) -> None:
    status, out, err = run("diff", "october", "november", cwd=demo)
    assert status == 1 and err == ""
    assert "describe the «+one» item" in out.replace("\n      | ", " ")
    assert "every hour → every 15 minutes" in out and "2.69 → 10.75 EUR a month" in out
    status, out, _ = run("diff", "october", "november", "-f", "json", cwd=demo)
    assert status == 1 and json.loads(out)["changed"] is True
    assert run("diff", "october", "nowhere", cwd=demo).code == 2
    markdown = run("diff", "october", "november", "-f", "markdown", cwd=demo).out
    assert "describe the **one** item" in markdown
    assert run("diff", "october", "november", "-o", "x.odt", cwd=demo).code == 2


WORDS = st.lists(
    st.sampled_from(["the", "a", "ship,", "berth.", "Now\n", "late", "of", "ist", "été", "12", ""]), max_size=30
).map(" ".join)


@settings(max_examples=200, deadline=None)
@given(WORDS, WORDS)
def test_word_changes_hold_both_texts(old: str, new: str) -> None:
    pieces = word_changes(old, new)
    assert "".join(p.text for p in pieces if p.mark != "new") == old
    assert "".join(p.text for p in pieces if p.mark != "old") == new


def test_word_changes_are_readable() -> None:
    pieces = word_changes("Write a short answer to the passenger now.", "Write a long reply to the passenger now.")
    assert [(p.mark, p.text) for p in pieces] == [
        ("same", "Write a "), ("old", "short answer"), ("new", "long reply"), ("same", " to the passenger now."),
    ]  # fmt: skip


def test_two_reads_of_the_same_files_are_equal(demo: Path) -> None:
    assert read(demo, "november") == read(demo, "november")


def test_how_items_go_and_what_an_end_ends_are_changes_of_meaning() -> None:
    from builders import chain, step
    from zeitbuch.core.changes import changes
    from zeitbuch.core.model import Estate

    old = chain(step("r", "read"), step("p", "http"), step("x", "end"))
    new = chain(step("r", "read", yields="many"), step("p", "http", per_item=True), step("x", "end", ends="run"))
    (found,) = changes(Estate((old,)), Estate((new,))).flows
    said = {(c.where, c.old, c.new) for c in found.changes}
    assert {(o, n) for _, o, n in said} == {
        ("as they come", "each made into several"),
        ("once a pass", "once an item"),
        ("its branch", "the run"),
    }

"""What each edit of a flow is called, and how it is worded: one edit in, one change out."""

from __future__ import annotations

import itertools
from typing import Any

import pytest
from msgspec import structs

from builders import START, ask, chain, flow, link, step
from zeitbuch.core.diff.change_types import CHANGE_KINDS
from zeitbuch.core.diff.estate_changes import flow_changes
from zeitbuch.core.diff.policy import Limit, parse_limit, parse_topics
from zeitbuch.core.diff.word_diff import word_changes
from zeitbuch.core.graph import phrases
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Binding, Connection, Flow, Link, Ref, Repeat, Retry, Schedule, Trigger, Variable

BASE = chain(step("look", "read"), ask("say"), step("file", "write"))


def changed(old: Flow, new: Flow) -> list[tuple[str, str, str]]:
    found = flow_changes(old, new)
    return [(c.type, str(c.old), str(c.new)) for c in found.changes] if found is not None else []


def with_step(place: int, **more: Any) -> Flow:
    steps = list(BASE.steps)
    steps[place] = structs.replace(steps[place], **more)
    return structs.replace(BASE, steps=tuple(steps))


@pytest.mark.parametrize(
    ("place", "more", "wanted"),
    [
        (0, {"name": "Look up"}, ("step renamed", "Look", "Look up")),
        (0, {"timeout": 30.0}, ("timeout", "none", "30")),
        (0, {"retry": Retry(attempts=2)}, ("retry", "never tried again", "tried again 2x")),
        (0, {"on_fault": "continue"}, ("on error", "stop", "continue")),
        (0, {"enabled": False}, ("enabled", "on", "off")),
        (0, {"kind": "http"}, ("kind", "reading", "call to a service")),
        (2, {"note": "by hand"}, ("note", "none", "by hand")),
        (2, {"unread": {"x": 1}}, ("unread content", "{}", '{"x":1}')),
    ],
)
def test_an_edit_of_a_step_is_one_change(place: int, more: dict[str, Any], wanted: tuple[str, str, str]) -> None:
    (found,) = changed(BASE, with_step(place, **more))
    assert found[0] == wanted[0] and found[0] in CHANGE_KINDS
    assert (wanted[1] in found[1], wanted[2] in found[2]) == (True, True), found


LOOK, FRAME, OFF = step("l", "read", effect="read"), step("g", "group"), step("g", "group", enabled=False)
DELETES, WITHIN = step("d", "http", effect="delete"), step("d", "http", effect="delete", scope="g")
ASKED, ASKED_WITHIN = step("a", "approve"), step("a", "approve", scope="g")
ROBOT, TOOL = step("x", "agent"), step("d", "tool", effect="delete")
WIDER = ("rights widened", "reads", "reads and deletes", ("now deletes",))
MAY = ("‘D’ (deletes) may run now",)
FREED = ("nobody approves ‘D’ any more",)


def way(*ids: str) -> list[Link]:
    return [link(first, second) for first, second in itertools.pairwise(("start", *ids))]


def test_an_act_that_may_run_now_is_told_with_what_brings_it_or_for_itself() -> None:
    """Of several changes only one that leads there is named as its cause."""
    other = Trigger(id="o", kind="form", enabled=False)
    old = flow([LOOK, DELETES], [*way("l"), link("o", "d")], triggers=(START, other))
    on = structs.replace(old, triggers=(START, structs.replace(other, enabled=True)))
    timed = structs.replace(on, steps=(structs.replace(LOOK, timeout=30.0), DELETES))
    for new, alone in ((on, True), (timed, False)):
        found = flow_changes(old, new)
        assert found is not None
        told = {c.type: c.remarks for c in found.changes}
        assert told["trigger"] == (MAY if alone else ()) and told["rights widened"] == (
            *WIDER[3],
            *(() if alone else MAY),
        )
    # Where the flow deletes already, that is all there is to be said.
    also = [step("e", "http", effect="delete"), *old.steps]
    before, after = (
        structs.replace(one, steps=(*also[:1], *one.steps), links=(*one.links, link("l", "e"))) for one in (old, timed)
    )
    found = flow_changes(before, after)
    assert found is not None and [c.remarks for c in found.changes if c.type == "rights widened"] == [MAY]


@pytest.mark.parametrize(("old", "new", "wanted"), [
    (flow([LOOK, OFF, WITHIN], way("l", "g")), flow([LOOK, FRAME, WITHIN], way("l", "g")), [("enabled", "off", "on", MAY), WIDER]),
    (flow([LOOK, FRAME, WITHIN], way("l", "g")), flow([LOOK, OFF, WITHIN], way("l", "g")),
     [("enabled", "on", "off", ()), ("rights narrowed", "reads and deletes", "reads", ("no longer deletes",))]),
    (flow([LOOK, DELETES], way("l")), flow([LOOK, DELETES], way("l", "d")), [("link added", "", "link", MAY), WIDER]),
    (flow([LOOK, FRAME, WITHIN], way("l")), flow([LOOK, FRAME, WITHIN], way("l", "g")), [("link added", "", "link", MAY), WIDER]),
    (flow([LOOK, structs.replace(ROBOT, enabled=False), TOOL], [*way("l", "x"), link("d", "x", "attach")]), flow([LOOK, ROBOT, TOOL], [*way("l", "x"), link("d", "x", "attach")]),
     [("enabled", "off", "on", MAY), WIDER]),
    (flow([LOOK, OFF], way("l", "g")), flow([LOOK, OFF, WITHIN], way("l", "g")), [("step added", "", "call to a service, deletes", ())]),
    (flow([LOOK, FRAME, ASKED_WITHIN, DELETES], way("l", "g", "d")), flow([LOOK, OFF, ASKED_WITHIN, DELETES], way("l", "g", "d")),
     [("enabled", "on", "off", ()), ("approval bypassed", "asked", "‘G’ around it is switched off", ("‘D’ without it",))]),
    (flow([LOOK, ASKED, FRAME, WITHIN], way("l", "a", "g")), flow([LOOK, OFF, WITHIN], way("l", "g")),
     [("approval removed", "approval by a person", "", ()), ("enabled", "on", "off", ()), ("rights narrowed", "reads and deletes", "reads", ("no longer deletes",))]),
    (flow([LOOK, OFF, ASKED_WITHIN, DELETES], way("l", "g", "d")), flow([LOOK, OFF, DELETES], way("l", "g", "d")), [("approval removed", "approval by a person", "", ())]),
    (flow([LOOK, ASKED, DELETES], way("l", "a", "d")), flow([LOOK, OFF, step("b", "approve", scope="g"), DELETES], way("l", "g", "d")),
     [("approval removed", "approval by a person", "", FREED), ("step added", "", "group, switched off", ()), ("step added", "", "approval by a person", ())]),
])  # fmt: skip
def test_rights_are_those_of_what_may_run(
    old: Flow, new: Flow, wanted: list[tuple[str, str, str, tuple[str, ...]]]
) -> None:
    found = flow_changes(old, new)
    assert found is not None and [(c.type, c.old, c.new, c.remarks) for c in found.changes] == wanted
    assert all(c.weight == "risk" for c in found.changes if c.remarks == MAY)


@pytest.mark.parametrize(
    ("old", "new", "wanted"),
    [
        ({"temperature": 0.1}, {"temperature": 0.7}, ("model setting", "0.1", "0.7")),
        ({"name": "fulmar-mini-2"}, {"name": "petrel-3"}, ("model", "fulmar-mini-2", "petrel-3")),
        ({"max_output": 100}, {"max_output": None}, ("model setting", "100", "none")),
        ({"task": "label"}, {"task": "write"}, ("model setting", "label", "write")),
    ],
)
def test_an_edit_of_a_model_is_one_change(
    old: dict[str, Any], new: dict[str, Any], wanted: tuple[str, str, str]
) -> None:
    first, second = (
        with_step(1, model=structs.replace(BASE.steps[1].model, **parts))  # type: ignore[type-var]
        for parts in (old, new)
    )
    assert changed(first, second) == [wanted]


TRIGGER = Trigger("start", kind="schedule", schedule=Schedule(cron="0 6 * * *"), name="Morning")


@pytest.mark.parametrize(
    ("more", "kind"),
    [
        ({"schedule": Schedule(cron="0 7 * * *")}, "schedule"),
        ({"kind": "polling"}, "trigger"),
        ({"condition": "rows > 3"}, "trigger condition"),
        ({"batch": 20}, "batch"),
        ({"name": "Dawn"}, "trigger renamed"),
        ({"connection": "mail"}, "connection"),
        ({"operation": "clock"}, "other setting"),
        ({"unread": {"x": 1}}, "unread content"),
        ({"inputs": (Binding(name="zone", value="Oslo"),)}, "input"),
    ],
)
def test_an_edit_of_a_trigger_is_one_change(more: dict[str, Any], kind: str) -> None:
    old = structs.replace(BASE, triggers=(TRIGGER,))
    new = structs.replace(BASE, triggers=(structs.replace(TRIGGER, **more),))
    assert [c[0] for c in changed(old, new)] == [kind]


@pytest.mark.parametrize(
    ("more", "kind"),
    [
        ({"owners": ("Crew",)}, "owner"),
        ({"state": "off"}, "state"),
        ({"description": "Reads letters."}, "description"),
        ({"environment": "test"}, "environment"),
        ({"variables": (Variable(name="limit", value=3),)}, "variable"),
        ({"connections": (Connection(id="mail", name="Mail"),)}, "connection"),
        ({"triggers": ()}, "trigger removed"),
        ({"triggers": (*BASE.triggers, TRIGGER.__class__("second", kind="form"))}, "trigger added"),
    ],
)
def test_an_edit_of_a_flow_is_one_change(more: dict[str, Any], kind: str) -> None:
    assert [c[0] for c in changed(BASE, structs.replace(BASE, **more))] == [kind]


@pytest.mark.parametrize(
    ("old", "new", "kind"),
    [
        (Binding(name="to", value="a@x"), Binding(name="to", value="b@x"), "input"),
        (Binding(name="to", value="a"), Binding(name="to", value="a", decided="model"), "input decider"),
        (
            Binding(name="url", value="https://a.example/x"),
            Binding(name="url", value="https://b.example/x"),
            "endpoint",
        ),
    ],
)
def test_an_edit_of_an_input_is_one_change(old: Binding, new: Binding, kind: str) -> None:
    assert [c[0] for c in changed(with_step(0, inputs=(old,)), with_step(0, inputs=(new,)))] == [kind]


def test_links_are_added_removed_and_rewired() -> None:
    extra = link("look", "file", "case", "skip")
    more = structs.replace(BASE, links=(*BASE.links, extra))
    assert [c[0] for c in changed(BASE, more)] == ["link added"]
    assert [c[0] for c in changed(more, BASE)] == ["link removed"]
    moved = structs.replace(BASE, links=(*BASE.links, link("look", "say", "case", "skip")))
    assert [c[0] for c in changed(more, moved)] == ["link rewired"]


def test_a_wider_effect_is_told_of_the_step_and_of_the_flow() -> None:
    assert changed(BASE, with_step(0, effect="delete")) == [
        ("effect widened", "none", "delete"),
        ("rights widened", "nothing", "deletes"),
    ]


def test_loops_say_what_they_go_over() -> None:
    old, new = (with_step(0, kind="loop", repeat=Repeat(items=items)) for items in ("rows", "lines"))
    assert changed(old, new) == [("loop", "over rows", "over lines")]


@pytest.mark.parametrize(
    ("old", "new", "marks"),
    [
        ("Answer in two lines.", "Answer in three lines.", [("same", "Answer in "), ("old", "two"), ("new", "three"), ("same", " lines.")]),
        ("", "New text.", [("new", "New text.")]),
        ("same", "same", [("same", "same")]),
    ],
)  # fmt: skip
def test_texts_are_told_by_words(old: str, new: str, marks: list[tuple[str, str]]) -> None:
    assert [(w.mark, w.text) for w in word_changes(old, new)] == marks


@pytest.mark.parametrize(
    ("text", "limit"),
    [("10%", Limit(share=0.1)), (" 7.5 % ", Limit(share=0.075)), ("25", Limit(amount=25))],  # type: ignore[arg-type]
)
def test_limits_are_shares_or_amounts(text: str, limit: Limit) -> None:
    assert parse_limit(text) == limit


@pytest.mark.parametrize("text", ["", "ten", "-3", "5%%", "1e9"])
def test_what_is_no_limit_is_refused(text: str) -> None:
    with pytest.raises(ZeitbuchError, match="--max-increase"):
        parse_limit(text)


def test_topics_are_parted_by_commas() -> None:
    assert parse_topics(["trigger, prompt", "model"]) == ["trigger", "prompt", "model"]
    with pytest.raises(ZeitbuchError, match="found 'colour'"):
        parse_topics(["colour"])


@pytest.mark.parametrize(
    ("binding", "words"),
    [
        (Binding(name="to", value="a"), "fixed"),
        (Binding(name="to", decided="model", type="text", description="who"), "the model (text, who)"),
        (Binding(name="to", decided="data", refs=(Ref(step="look", path="mail"),)), "data: mail of ‘Look’"),
    ],
)
def test_who_decides_an_input(binding: Binding, words: str) -> None:
    assert words in phrases.decider_words(binding, {"look": "Look"})

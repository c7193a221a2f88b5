"""Steps that hang together by topics: read as a dialect says, proposed and asked about where nothing else links them."""

from __future__ import annotations

import random
from typing import Any

import pytest

from scores import read_with
from zeitbuch.core.model.records import Flow
from zeitbuch.readers.dialects.rules import parse_dialect
from zeitbuch.readers.infer.suggest import Suggestion, suggest_dialect

ROOMS = "ledger quay ballast cabin winch galley mast deck".split()
PROMPT = "Read the letter about the {0} and answer in two short sentences, kindly and in plain words, please."
DIALECT = """
dialect = 1
name = "topics"
signature = { all = ["$.steps"] }
flow = { id = "id" }
step = { at = "$.steps[*]", id = "id", operation = "does" }
trigger = { at = "$.starts[*]", id = "id", operation = "kind", starts = "gives" }
pointer = [{ at = "gives", meets = "hears" }, { at = "fails", meets = "catches", role = "error" }]
[[kind]]
operation = "hook"
trigger = "webhook"
"""


def read(steps: list[dict[str, Any]], starts: tuple[dict[str, Any], ...] = ()) -> Flow:
    (flow,) = read_with(parse_dialect(DIALECT, "topics.toml"), [{"id": "f", "steps": steps, "starts": list(starts)}])
    return flow


def ways(flow: Flow) -> set[tuple[str, str, str]]:
    return {(link.source, link.target, link.role) for link in flow.links}


def test_a_topic_leads_to_all_who_listen() -> None:
    flow = read(
        [
            {"id": "c", "does": "x", "hears": ["two", "three"]},
            {"id": "a", "does": "x", "hears": "one", "gives": ["two", "nobody"], "fails": "alarm"},
            {"id": "b", "does": "x", "hears": ["one"], "gives": "three"},
            {"id": "d", "does": "x", "hears": "two", "catches": ["alarm"], "gives": "alarm"},
        ],
        ({"id": "t", "kind": "hook", "gives": "one"},),
    )
    assert ways(flow) == {
        ("t", "a", "next"), ("t", "b", "next"), ("a", "c", "next"), ("b", "c", "next"), ("a", "d", "next"), ("a", "d", "error"),
    }  # fmt: skip
    # What nobody in the flow listens to is no broken link; it stays unread. Each rule has its own listeners: d's own alarm leads nowhere.
    assert sorted(map(str, flow.unread["unread parts"])) == ["{'gives': 'alarm'}", "{'gives': 'nobody'}"]


def test_a_trigger_without_a_topic_starts_what_nothing_leads_to() -> None:
    steps = [{"id": "a", "does": "x", "gives": "two"}, {"id": "b", "does": "x", "name": "", "hears": "two"}]
    assert ways(read(steps, ({"id": "t", "kind": "hook"},))) == {("t", "a", "next"), ("a", "b", "next")}


def made(at: int, gives: str = "emits", takes: str = "listens", told: str = "emits") -> dict[str, Any]:
    rng = random.Random(f"topics {at}")
    count = 4 + at % 3
    topics = [f"{rng.choice(ROOMS)}.{place}" for place in range(count + 1)]
    steps: list[dict[str, Any]] = []
    for place in range(count):
        uses = ("fetch", "llm", "mail", "llm")[place % 4]
        given: dict[str, Any] = {
            "fetch": {"url": f"https://{topics[place].split('.')[0]}.example/v1"}, "llm": {"model": "skua-lite-1", "prompt": PROMPT.format(topics[place])},
            "mail": {"to": "desk@ferry.example", "subject": "Answer", "body": "See below"},
        }[uses]  # fmt: skip
        steps.append({"name": f"Step {place} of {at}", "use": uses, "params": given, takes: [topics[place]], gives: [topics[place + 1]]})  # fmt: skip
    rng.shuffle(steps)
    return {"flow": {"code": f"q{at}", "title": f"The {ROOMS[at % 8]} {at}", "trigger": {"path": f"/in/{at}", told: topics[0]}, "handlers": steps}}  # fmt: skip


def suggested(documents: list[Any], **answers: str) -> Suggestion:
    found = suggest_dialect(documents, "b", answers)
    assert found is not None
    return found


def in_order(flow: Flow) -> bool:
    """Whether every step leads to the one with the next number."""
    places = {step.id: int(step.title.split()[1]) for step in flow.steps}
    led = {(places[link.source], places[link.target]) for link in flow.links if link.source in places}
    return led == {(place, place + 1) for place in range(len(places) - 1)}


@pytest.mark.parametrize(
    ("gives", "takes", "told"),
    [("emits", "listens", "emits"), ("zu", "ab", "wo"), ("ab", "zu", "wo"), ("listens", "emits", "wo")],
    ids=["words", "a trigger", "a trigger, the other way", "a trigger against words"],
)  # fmt: skip
def test_topics_are_proposed_and_asked_about(gives: str, takes: str, told: str) -> None:
    documents = [made(at, gives, takes, told) for at in range(10)]
    found = suggested(documents)
    (pointer,) = found.dialect.pointer
    assert (pointer.at, pointer.meets, found.dialect.order) == (gives, takes, None)
    assert found.dialect.trigger is not None and found.dialect.trigger.starts == told
    asked = next(question for question in found.questions if question.id == "links")
    assert [answer.word for answer in asked.answers] == ["topics", "back", "order", "none"]
    assert (
        next(claim.percent for claim in found.claims if claim.part == "links") < 50
    )  # a likeness of fields is no certainty
    flows = read_with(found.dialect, documents)
    assert all(map(in_order, flows)) and len(flows) == 10
    firsts = [link.target for flow in flows for link in flow.links if link.source in {one.id for one in flow.triggers}]
    assert len(firsts) == 10 and all(" 0 " in f" {first} " for first in firsts)


def test_keys_with_braces_are_shown_as_they_are() -> None:
    found = suggested([made(at, "{out}", "{in}", "wo") for at in range(10)])
    assert any("'{out}' others take at '{in}'" in claim.words for claim in found.claims)
    assert found.dialect.pointer[0].meets == "{in}"


def test_answers_about_topics_are_taken() -> None:
    documents = [made(at) for at in range(10)]
    back = suggested(documents, links="back").dialect
    assert [(rule.at, rule.meets) for rule in back.pointer] == [("listens", "emits")]
    order, none = suggested(documents, links="order").dialect, suggested(documents, links="none").dialect
    assert order.pointer == none.pointer == [] and order.order is not None and none.order is None
    assert order.trigger is not None and order.trigger.starts == ""


def test_words_of_a_list_are_no_topics() -> None:
    """Languages from and to come again in every flow."""
    documents = [made(at) for at in range(10)]
    for document in documents:
        for place, step in enumerate(document["flow"]["handlers"]):
            step["emits"], step["listens"] = ("en", "no") if place % 2 else ("no", "en")
        document["flow"]["trigger"].pop("emits")
    found = suggested(documents)
    assert not found.dialect.pointer and found.dialect.order is not None

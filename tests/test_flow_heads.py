"""What stands around the steps: a switch that says off, one that says neither, a name beside a title, people in records, a flow whose
steps stand deeper than its name; and steps that are numbered, prompts in lines, loops that go on as long as something holds."""

from __future__ import annotations

import random
from typing import Any

import pytest

from scores import proposed, read_with
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.report.sentences import step_sentence
from zeitbuch.readers.dialects.rules import parse_dialect
from zeitbuch.readers.infer.questions import apply_answers
from zeitbuch.readers.infer.state_words import is_off_key
from zeitbuch.readers.infer.vocabulary import words_of

SAY = "Say in one line whether ship {} may leave with this tide, and give the hour by which it has to be gone."


def acts(at: int) -> list[dict[str, Any]]:
    return [
        {"id": f"look-{at}", "type": "http", "with": {"url": "https://tide.example"}, "next": f"say-{at}"},
        {"id": f"say-{at}", "type": "llm", "with": {"model": "turnix-2-small", "prompt": SAY.format(at)}, "next": f"post-{at}"},
        {"id": f"post-{at}", "type": "mail", "with": {"to": "quay@ferry.example"}},
    ]  # fmt: skip


def estate(head: Any, steps: Any = acts) -> list[Any]:
    return [{**head(at), "steps": steps(at)} for at in range(8)]


# -- states ---------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("key", ["suspend", "paused", "isDisabled", "angehalten", "pausiert", "desactivado"])
def test_a_switch_that_is_called_off_is_true_of_what_is_off(key: str) -> None:
    """Of 'suspend' true was on, and that 99 % sure."""
    made, flows = proposed(estate(lambda at: {"name": f"Tide desk {at}", key: at % 4 == 0}))
    said = [flow.state for flow in flows[:2]]
    asked = any(question.id == "state" for question in made.questions)
    assert said == ["off", "on"] or (asked and said == ["unknown", "unknown"])
    assert asked == (key == "angehalten")  # a word that is not known is asked about


@pytest.mark.parametrize(
    ("key", "off"), [("suspend", True), ("is_paused", True), ("pauseBetweenSteps", False), ("enabled", False), ("debug", False), ("stop", False)]
)  # fmt: skip
def test_keys_that_say_off(key: str, off: bool) -> None:
    assert is_off_key(words_of(key)) is off


def test_a_switch_that_says_neither_is_asked_about() -> None:
    """'debug' of all flows switched nearly all of them off."""
    made, flows = proposed(estate(lambda at: {"name": f"Tide desk {at}", "debug": at == 3}))
    assert {flow.state for flow in flows} == {"unknown"}
    (asked,) = [question for question in made.questions if question.id == "state"]
    assert asked.text == "Is it 'debug' that says whether a flow is on?"
    assert [answer.word for answer in asked.answers] == ["true is on", "false is on", "no"]


# -- names and people -----------------------------------------------------------------------------------------------------


def test_of_a_name_and_a_title_people_read_the_title() -> None:
    made, flows = proposed(estate(lambda at: {"meta": {"name": f"tide-{at}", "title": f"Tide desk {at}"}}))
    assert (made.dialect.flow.id, made.dialect.flow.name) == ("meta.name", "meta.title")
    assert (flows[3].id, flows[3].title) == ("tide-3", "Tide desk 3")


@pytest.mark.parametrize(
    ("owner", "path"),
    [
        ({"owner": {"name": "Ase Lund", "email": "ase@ferry.example"}}, "owner.name"),
        ({"owners": [{"name": "Ase Lund"}, {"name": "Tor Vik"}]}, "owners.*.name"),
        ({"contact": {"email": "ase@ferry.example"}}, "contact.email"),
    ],
)  # fmt: skip
def test_owners_stand_in_records(owner: Any, path: str) -> None:
    made, flows = proposed(estate(lambda at: {"name": f"Tide desk {at}", **owner}))
    assert made.dialect.flow.owners == path
    assert flows[0].owners
    assert flows[0].content.unread == (1 if path == "owner.name" else 0)


def test_a_flow_is_where_its_name_is_and_not_only_its_steps() -> None:
    """With a clock beside the steps these were the flow: it had neither name nor owner."""
    documents = [
        {"name": f"Tide desk {at}", "owner": "Ase Lund", "rest": {"when": f"{at} 6 * * 1-5", "zone": "Europe/Oslo", "suspend": at == 2, "steps": acts(at)}}
        for at in range(8)
    ]  # fmt: skip
    made, flows = proposed(documents)
    assert made.dialect.flow.at == "$"
    assert [(flow.title, flow.owners, flow.state) for flow in flows[2:4]] == [
        ("Tide desk 2", ("Ase Lund",), "off"), ("Tide desk 3", ("Ase Lund",), "on"),
    ]  # fmt: skip
    assert {flow.content.unread for flow in flows} == {0}


# -- numbered steps -------------------------------------------------------------------------------------------------------

HEAD = """
dialect = 1
name = "turns"
signature = { all = ["$.acts"] }
flow = { id = "key" }
step = { at = "$.acts[*]", operation = "does", id = "key" }
"""
NUMBERED = f'{HEAD}order = {{ by = "turn" }}\n'


@pytest.mark.parametrize(
    ("turns", "wanted", "unread"),
    [
        ([2, 1, 3], {("b", "a"), ("a", "c")}, 0),
        (["10", "9", "100"], {("b", "a"), ("a", "c")}, 0),
        ([1, 2, 2], {("a", "b"), ("a", "c")}, 0),
        ([1, None, 2], {("a", "c")}, 0),
        ([1, "soon", 2], {("a", "c")}, 1),
    ],
)  # fmt: skip
def test_steps_run_in_the_order_of_their_numbers(turns: list[Any], wanted: set[tuple[str, str]], unread: int) -> None:
    given = [{"key": key, "does": "look", "turn": turn} for key, turn in zip("abc", turns, strict=True)]
    (flow,) = read_with(parse_dialect(NUMBERED, "turns.toml"), [{"key": "f", "acts": given}])
    assert {(link.source, link.target) for link in flow.links} == wanted
    assert flow.content.unread == unread


@pytest.mark.parametrize(("key", "gap"), [("zq", 1), ("zq", 10), ("seq", 3)])
def test_numbers_of_steps_are_found(key: str, gap: int) -> None:
    def shuffled(at: int) -> list[dict[str, Any]]:
        steps = [
            {**{name: value for name, value in one.items() if name != "next"}, key: gap * (place + 1)}
            for place, one in enumerate(acts(at))
        ]
        random.Random(at).shuffle(steps)
        return steps

    made, flows = proposed(estate(lambda at: {"name": f"Tide desk {at}"}, shuffled))
    assert made.dialect.order is not None
    assert made.dialect.order.by == key
    assert [[(link.source, link.target) for link in flow.links] for flow in flows] == [
        [(f"look-{at}", f"say-{at}"), (f"say-{at}", f"post-{at}")] for at in range(8)
    ]
    assert not any(question.id == "links" for question in made.questions)


def test_numbers_that_say_no_order_are_none() -> None:
    def sized(at: int) -> list[dict[str, Any]]:
        return [
            {**{name: value for name, value in one.items() if name != "next"}, "size": 40 + at + 7 * place}
            for place, one in enumerate(acts(at))
        ]

    made, _ = proposed(estate(lambda at: {"name": f"Tide desk {at}"}, sized))
    assert made.dialect.order is not None
    assert made.dialect.order.by == ""


# -- prompts and loops ----------------------------------------------------------------------------------------------------


def test_a_prompt_in_lines_is_one_prompt() -> None:
    def lined(at: int) -> list[dict[str, Any]]:
        steps = acts(at)
        steps[1]["with"]["prompt"] = ["You watch the tides and the ships.", SAY.format(at), "Answer in Norwegian."]
        return steps

    made, flows = proposed(estate(lambda at: {"name": f"Tide desk {at}"}, lined))
    assert [prompt.path for prompt in made.dialect.step.prompts] == ["with.prompt"]
    (use,) = [step.model for step in flows[3].steps if step.model is not None]
    assert [prompt.text for prompt in use.prompts] == [
        f"You watch the tides and the ships.\n{SAY.format(3)}\nAnswer in Norwegian."
    ]


LOOP = (
    HEAD
    + """tree = { body = "inside" }
kind = [{ operation = "again", kind = "loop", until = "stop", as_long_as = "go_on", cap = "most" }]
"""
)


@pytest.mark.parametrize(
    ("said", "words"),
    [({"go_on": "x > 1", "most": 5}, "until not (x > 1), at most 5 times"), ({"stop": "x > 1"}, "until x > 1"), ({"stop": "a", "go_on": "b"}, "until a or not (b)")],
)  # fmt: skip
def test_a_loop_goes_on_as_long_as_something_holds(said: dict[str, Any], words: str) -> None:
    document = {"key": "f", "acts": [{"key": "a", "does": "again", **said, "inside": [{"key": "b", "does": "look"}]}]}
    (flow,) = read_with(parse_dialect(LOOP, "rounds.toml"), [document])
    graph = Graph(flow)
    assert words in step_sentence(graph, graph.steps["a"])


@pytest.mark.parametrize(
    ("kind", "key", "field"),
    [
        ("while", "condition", "as_long_as"),
        ("while", "test", "as_long_as"),
        ("repeat", "until", "until"),
        ("loop", "while", "as_long_as"),
    ],
)
def test_what_a_loop_ends_by_is_found_beside_its_settings(kind: str, key: str, field: str) -> None:
    """'while x' was read as 'until x', or not at all."""

    def looped(at: int) -> list[dict[str, Any]]:
        one, two, three = [{name: value for name, value in step.items() if name != "next"} for step in acts(at)]
        return [
            one,
            {"id": f"again-{at}", "type": kind, key: "{{say.more}} == true", "max_iterations": 5, "steps": [two]},
            three,
        ]

    made, flows = proposed(estate(lambda at: {"name": f"Tide desk {at}"}, looped))
    (rule,) = [rule for rule in made.dialect.kind if rule.kind == "loop"]
    assert (getattr(rule, field), rule.cap) == (key, "max_iterations")
    assert flows[0].content.unread == 0


# -- flows and their parts ------------------------------------------------------------------------------------------------


def staged(at: int) -> dict[str, Any]:
    return {"line": {"title": f"Tide desk {at}", "stages": [
        {"stage": "look", "tasks": [{"task": "http", "args": {"url": "https://tide.example"}}, {"task": "http", "args": {"url": "https://ships.example"}}]},
        {"stage": "say", "tasks": [{"task": "llm", "args": {"model": "turnix-2-small", "prompt": SAY.format(at)}}]},
        {"stage": "tell", "tasks": [{"task": "mail", "args": {"to": "quay@ferry.example"}}]},
    ]}}  # fmt: skip


def test_stages_that_are_called_the_same_in_every_file_are_no_flows() -> None:
    """Each stage was a flow: 36 flows of 12."""
    made, flows = proposed([staged(at) for at in range(8)])
    assert made.dialect.flow.at == "$.line"
    assert [(flow.title, len(flow.steps)) for flow in flows] == [(f"Tide desk {at}", 4) for at in range(8)]
    assert made.dialect.order is not None
    assert made.dialect.order.groups == "$.stages[*]"
    (asked,) = [question for question in made.questions if question.id == "links"]
    assert [answer.word for answer in asked.answers] == ["order", "turns", "none"]
    in_turn = apply_answers(made.dialect, made.questions, {"links": "turns"})
    (flow,) = read_with(in_turn, [staged(3)])
    assert len(flow.links) == 3  # 'yes, one after the other' left those of a stage side by side


def test_flows_that_are_called_the_same_in_every_file_stay_flows() -> None:
    """The same flows in files for several environments, which have no name of their own."""
    documents = [
        {"environment": place, "flows": [{"name": name, "steps": acts(at)} for at, name in enumerate(("look", "say", "tell"))]}
        for place in ("dev", "test", "stage", "prod")
    ]  # fmt: skip
    made, flows = proposed(documents)
    assert made.dialect.flow.at == "$.flows[*]"
    assert len(flows) == 12


def test_lists_under_names_hold_the_steps_together() -> None:
    """Of two lists only the one that all files write alike was read; a step without a word for what it does was a trigger."""
    documents = [
        {"name": f"Tide desk {at}", "wakes": {"clock": {"cron": f"{at} 6 * * *"}}, "lanes": {
            "look": {"steps": [{"name": "Fetch", "act": "http.get", "given": {"url": "https://tide.example"}}, {"name": "Clean", "script": "trim.py"}]},
            "say": {"behind": "look", "steps": [{"name": "Ask", "act": "model.ask", "given": {"model": "turnix-2-small", "prompt": SAY.format(at)}},
                                               {"name": "Post", "act": "mail.send", "given": {"to": "quay@ferry.example"}}]},
        }}
        for at in range(8)
    ]  # fmt: skip
    made, flows = proposed(documents)
    assert made.dialect.step.at == "$.lanes[*].steps[*]"
    assert [step.name for step in flows[3].steps] == ["Fetch", "Clean", "Ask", "Post"]
    assert [trigger.schedule.cron for trigger in flows[3].triggers if trigger.schedule] == ["3 6 * * *"]


def test_a_rule_for_triggers_without_a_word_is_none_for_steps() -> None:
    rules = (
        NUMBERED
        + '[trigger]\nat = "$.bell"\noperation = ""\n[[kind]]\noperation = ""\ntrigger = "schedule"\ncron = "at"\n'
    )
    document = {
        "key": "f",
        "bell": {"at": "0 6 * * *"},
        "acts": [{"key": "a", "turn": 1}, {"key": "b", "does": "look", "turn": 2}],
    }
    (flow,) = read_with(parse_dialect(rules, "turns.toml"), [document])
    assert ([step.id for step in flow.steps], len(flow.triggers)) == (["a", "b"], 1)


def test_where_a_flow_ends_is_no_switch() -> None:
    def ending(at: int) -> list[dict[str, Any]]:
        steps = acts(at)
        return [
            {**step, **({} if "next" in step else {"end": True})}
            for step in [*steps, {"id": f"keep-{at}", "type": "store"}]
        ]

    made, _ = proposed(estate(lambda at: {"name": f"Tide desk {at}"}, ending))
    assert (made.dialect.step.disabled, made.dialect.step.enabled) == ("", "")
    assert not any(question.id == "switch" for question in made.questions)


def test_one_flow_tells_its_clock() -> None:
    _, flows = proposed([{"name": "Tide desk", "bell": "5 6 * * 1-5", "steps": acts(1)}])
    assert [trigger.schedule.cron for trigger in flows[0].triggers if trigger.schedule] == ["5 6 * * 1-5"]


def test_what_is_another_for_nearly_each_step_is_doubted() -> None:
    """Where no field says what steps do their ids did, 83 % sure."""

    def untyped(at: int) -> list[dict[str, Any]]:
        return [
            {**{key: value for key, value in step.items() if key not in ("type", "with")}, **step["with"]}
            for step in acts(at)
        ]

    made, _ = proposed(estate(lambda at: {"name": f"Tide desk {at}"}, untyped))
    (claim,) = [claim for claim in made.claims if claim.part == "operation"]
    assert claim.sure_words == "in doubt"
    assert claim.words.endswith("nearly each step another: it may be no more than a name")

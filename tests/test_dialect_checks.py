"""Mistakes in dialect files are refused with file, line and what is allowed."""

from __future__ import annotations

import json
import tomllib
import typing
from pathlib import Path
from typing import Any

import msgspec
import pytest
from msgspec import inspect

from conftest import Run
from zeitbuch.app.schemas import schema_of
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Approval, Flow, Pause, Pieces, Repeat, Schedule
from zeitbuch.readers.dialects.reference import REFERENCE, keys_of
from zeitbuch.readers.dialects.reference_page import reference_page
from zeitbuch.readers.dialects.rules import Dialect, parse_dialect
from zeitbuch.readers.input.sources import Held
from zeitbuch.readers.reading.reader import Reader

ROOT = Path(__file__).parent.parent
GOOD = """\
dialect = 1
name = "harbour"
[signature]
all = ["$.harbour"]
[flow]
[step]
at = "$.tasks[*]"
"""

MISTAKES = [
    ('[[kind]]\noperation = "ask"\nkind = "modell"\n', 10, "expected at `kind[0].kind` one of agent, approve, code", "did you mean `model`?"),
    ('[[kind]]\noperation = "ask"\nkinds = "model"\n', 10, "expected in `kind[0]` a key that is known, found `kinds`", "did you mean `kind`?"),
    ('[[outlet]]\nmatch = "x"\nrole = "errors"\n', 10, "one of attach, body, case, error, next; found 'errors'", "did you mean `error`?"),
    ('[[link]]\nat = "$.ropes[*]"\nfrom = "a"\n', 8, "expected the key `to` in `link[0]`, found none", ""),
    ('[placeholders]\nopen = ""\nclose = "}}"\n', 9, "the letters that begin a placeholder, found an empty text", ""),
    ('[[link]]\nat = "$.ropes[?"\nfrom = "a"\nto = "b"\n', 9, "`link.0.at`: expected a JSONPath query (RFC 9535), found '$.ropes[?'", "$.steps[*]"),
    ('[[link]]\nat = "$.ropes[*]"\nfrom = "a..b"\nto = "b"\n', 10, "`link.0.from`: expected a dotted path, found 'a..b'", "with.engine"),
    ('[[split]]\nat = "$.ropes[*]"\npattern = "{a}{b}"\n', 10, "`split.0.pattern`: expected names in braces", "{from}"),
    ('[[kind]]\noperation = "ask*"\nkind = "model"\n[[kind]]\noperation = "ask.tide"\nkind = "http"\n', 12,
     "found 'ask.tide' behind 'ask*', which takes all of it", "put the narrower one first"),
    ('[[kind]]\noperation = "tide"\nkind = "model"\ntrigger = "schedule"\n', 11, "found both: model and schedule", "leave one of them out"),
    ('[[beside]]\nfile = "../other.json"\ninto = "other"\n', 9, "the name of a file in the same folder, found '../other.json'", "not read"),
    ('[[beside]]\nfile = "/etc/hosts"\ninto = "other"\n', 9, "the name of a file in the same folder, found '/etc/hosts'", "not read"),
    ('[[group]]\nat = "$.rows[*]"\nby = "plan.steps"\n', 8, "to name another key than `by`, found 'steps' for both", "another name"),
    ('[[pointer]]\nat = 3\n', 9, "expected a text at `pointer[0].at`, found a whole number", ""),
    ('[[kind]]\noperation = "w"\nkind = "wait"\nsilences = { no = "refuses" }\n', 11, "one of approves, escalates, rejects, waits; found 'refuses'", ""),
]  # fmt: skip


@pytest.mark.parametrize(("text", "line", "words", "hint"), MISTAKES)
def test_a_mistake_is_refused_with_its_line_and_what_is_allowed(text: str, line: int, words: str, hint: str) -> None:
    with pytest.raises(ZeitbuchError) as caught:
        parse_dialect(GOOD + text, "harbour.toml")
    problem = caught.value.problem
    assert words in problem.message and hint in problem.hint, problem
    assert problem.origin is not None and (problem.origin.source, problem.origin.line) == ("harbour.toml", line)


@pytest.mark.parametrize(
    ("first", "second"), [("ask.*", "ask"), ("a?k", "a*k"), ("tide.*", "*"), ("ask.tide", "ask.*"), ("[ab]*", "[ab]sk")]
)
def test_rules_that_can_be_used_are_not_refused(first: str, second: str) -> None:
    rules = "".join(f'[[kind]]\noperation = "{one}"\nkind = "http"\n' for one in (first, second))
    assert len(parse_dialect(GOOD + rules, "harbour.toml").kind) == 2


def test_the_command_names_file_line_and_remedy(tmp_path: Path, run: Run) -> None:
    (tmp_path / "harbour.toml").write_text(GOOD + MISTAKES[0][0])
    done = run("inventory", ".", "--dialect", "harbour.toml", cwd=tmp_path)
    assert done.code == 2 and "harbour.toml:10: error:" in done.err and "did you mean `model`?" in done.err


FACTS = """\
dialect = 1
name = "facts"
[signature]
all = ["$.tasks"]
[flow]
fault_handlers = "on_trouble"
concurrency = "at_once"
[step]
at = "$.tasks[*]"
operation = "does"
settings = "given"
[[link]]
at = "$.ropes[*]"
from = "0"
to = "1"
[placeholders]
open = "(("
close = "))"
[[kind]]
operation = "ask"
kind = "approve"
approvers = "who"
approvals_needed = "votes"
silence = "silent"
silences = { no = "rejects" }
[[kind]]
operation = "rest"
kind = "wait"
wait = "span"
wait_until = "event"
[[kind]]
operation = "cut"
kind = "embed"
piece_size = "size"
piece_overlap = "shared"
piece_unit = "letters"
piece_batch = "together"
store = "into"
[[kind]]
operation = "each"
kind = "loop"
items = "over"
concurrency = "side"
on_item_fault = "broken"
on_item_faults = { halt = "stop" }
[[kind]]
operation = "meet"
kind = "join"
join = "mode"
joins = { everybody = "all" }
[[kind]]
operation = "call"
kind = "subflow"
calls = "plan"
awaits = "stays"
[[kind]]
operation = "all"
kind = "parallel"
ordered = "in_turn"
[[kind]]
operation = "slip"
kind = "note"
about = "of"
[[kind]]
operation = "mail"
kind = "send"
roles = { to = "recipient", "text" = "content" }
secured = ["text"]
[[kind]]
operation = "hook"
trigger = "webhook"
authentication = "proof"
[[kind]]
operation = "bell"
trigger = "schedule"
every = "count"
unit = "of_what"
units = { Stunden = "hours" }
days = "days"
weekdays = { man = "mon", fre = "fri" }
time = "at"
zone = "zone"
"""


def read_facts(*tasks: dict[str, object], **more: object) -> tuple[Flow, list[str]]:
    made = {
        "id": "f",
        "tasks": [{"id": f"t{place}", "name": f"Task {place}", **task} for place, task in enumerate(tasks)],
        **more,
    }
    reader = Reader([parse_dialect(FACTS, "facts.toml")])
    (flow,) = reader.flows_of([Held("f.json", json.dumps(made).encode())])
    return flow, [problem.message for problem in reader.problems if problem.code == "value-unusable"]


STATED = [
    ({"does": "ask", "who": ["Ann", "Ben"], "votes": 2, "silent": "no"}, {"approval": Approval(("Ann", "Ben"), 2, "rejects")}),
    ({"does": "rest", "span": "2 h"}, {"pause": Pause(seconds=7200)}),
    ({"does": "rest", "event": "high tide"}, {"pause": Pause(until="high tide")}),
    ({"does": "cut", "size": 4000, "shared": 300, "together": 16, "into": "log"}, {"pieces": Pieces(4000, 300, "letters", 16, None, "log")}),
    ({"does": "each", "over": "letters", "side": 3, "broken": "halt"}, {"concurrency": 3, "repeat": Repeat(items="letters", on_item_fault="stop")}),
    ({"does": "meet", "mode": "everybody"}, {"join": "all"}),
    ({"does": "call", "plan": "other", "stays": "no"}, {"awaits": False, "calls": "other"}),
    ({"does": "all", "in_turn": True}, {"ordered": True}),
    ({"does": "slip", "of": "Task 0"}, {"about": ("t0",)}),
]  # fmt: skip


@pytest.mark.parametrize(("task", "wanted"), STATED)
def test_typed_facts_are_read_by_their_paths(task: dict[str, object], wanted: dict[str, object]) -> None:
    flow, problems = read_facts(task)
    (step,) = flow.steps
    assert problems == [] and {name: getattr(step, name) for name in wanted} == wanted and step.unread == {}


@pytest.mark.parametrize(
    ("task", "words"),
    [
        ({"does": "each", "over": "letters", "side": 0}, "expected a whole number from 1 on at `side`"),
        ({"does": "ask", "who": "Ann", "silent": "perhaps"}, "expected one of no at `silent`"),
        ({"does": "rest", "span": "a while"}, "at `span`"),
        ({"does": "cut", "size": "big"}, "expected a whole number from 0 on at `size`"),
        ({"does": "meet", "mode": "nobody"}, "expected one of everybody at `mode`"),
        ({"does": "call", "stays": "maybe"}, "expected true or false at `stays`"),
    ],
)
def test_facts_that_cannot_be_used_stay_unread_and_are_told(task: dict[str, object], words: str) -> None:
    flow, problems = read_facts(task)
    assert any(words in problem for problem in problems), problems
    assert flow.steps[0].unread and flow.content.unread == 1


@pytest.mark.parametrize(
    ("task", "wanted"),
    [
        ({"count": 6, "of_what": "Stunden"}, Schedule(every=21600.0)),
        ({"count": 6, "of_what": "hours"}, None),
        (
            {"days": ["fre", "man"], "at": "08:30", "zone": "Europe/Oslo"},
            Schedule(cron="30 8 * * 1,5", zone="Europe/Oslo"),
        ),
        ({"at": "7.15 pm"}, Schedule(cron="15 19 * * *")),
        ({"at": ["06:00", "18:00"]}, Schedule(cron="0 6,18 * * *")),
        ({"at": ["06:00", "18:30"]}, None),
        ({"days": ["søn"], "at": "08:30"}, None),
    ],
)
def test_schedules_of_several_fields(task: dict[str, object], wanted: Schedule | None) -> None:
    flow, _ = read_facts({"does": "bell", **task})
    (trigger,) = flow.triggers
    assert trigger.schedule == wanted and (wanted is not None or flow.content.unread >= 1)


@pytest.mark.parametrize(
    ("task", "unread"),
    [
        ({"count": 1, "of_what": "Stunden", "days": ["man"], "at": "08:00"}, {"days": ["man"], "at": "08:00"}),
        ({"of_what": "Stunden", "days": ["man"], "at": "08:00"}, {"of_what": "Stunden"}),
        ({"count": 6, "of_what": "moons"}, {"count": 6, "of_what": "moons"}),
    ],
)
def test_what_a_schedule_is_not_made_of_stays_unread(task: dict[str, object], unread: dict[str, object]) -> None:
    flow, _ = read_facts({"does": "bell", **task})
    assert flow.triggers[0].unread == unread


@pytest.mark.parametrize(("word", "wanted", "unread"), [("rejects", "rejects", 0), ("maybe", None, 1)])
def test_words_of_the_model_are_known_without_a_table(word: str, wanted: str | None, unread: int) -> None:
    text = (
        GOOD.replace("[flow]", '[flow]\nnoise = ["harbour"]')
        + '[[kind]]\noperation = "ask"\nkind = "approve"\nsilence = "silent"\n'
    )
    made = {"harbour": 1, "id": "f", "tasks": [{"id": "a", "type": "ask", "silent": word}]}
    reader = Reader([parse_dialect(text, "harbour.toml")])
    (flow,) = reader.flows_of([Held("f.json", json.dumps(made).encode())])
    said = flow.steps[0].approval
    assert (said.silence if said is not None else None, flow.content.unread) == (wanted, unread)


def test_triggers_flows_and_inputs() -> None:
    mail = {"does": "mail", "given": {"to": "desk@halvorsund.example", "text": "Hello"}}
    flow, _ = read_facts({"does": "hook", "proof": "signed header"}, mail, on_trouble=["Faults", "Log"], at_once=4)
    assert flow.triggers[0].authentication == "signed header"
    assert (flow.fault_handlers, flow.concurrency) == (("Faults", "Log"), 4)
    assert [(one.name, one.role, one.secured) for one in flow.steps[0].inputs] == [
        ("to", "recipient", False),
        ("text", "content", True),
    ]


@pytest.mark.parametrize(
    ("text", "wanted"),
    [
        ("Dear ((t0.name))", [("t0", "name", "((t0.name))")]),
        ("((upper(t0.name) + ' t1.x ' + t1.word))", [("t0", "name", "t0.name"), ("t1", "word", "t1.word")]),
        ("((task-1.word))", [("t1", "word", "task-1.word")]),
        ("((trim(task_1.word)))", [("t1", "word", "task_1.word")]),
        ("((gone.word))", [("gone", "word", "((gone.word))")]),
    ],
)
def test_references_within_functions_and_by_slug(text: str, wanted: list[tuple[str, str, str]]) -> None:
    flow, _ = read_facts({"does": "x"}, {"does": "x"}, {"does": "mail", "given": {"text": text}})
    (binding,) = flow.steps[2].inputs
    assert [(ref.step, ref.path, ref.text) for ref in binding.refs] == wanted


def tables_of_dialects() -> dict[str, Any]:
    """Every type of table that a dialect file may hold, by name."""
    found: dict[str, Any] = {}

    def walk(one: Any) -> None:
        if isinstance(one, inspect.StructType) and one.cls.__name__ not in found:
            found[one.cls.__name__] = one
            for field in one.fields:
                walk(field.type)
        for inner in (*getattr(one, "types", ()), getattr(one, "item_type", None), getattr(one, "value_type", None)):
            if inner is not None:
                walk(inner)

    walk(inspect.type_info(Dialect))
    return found


def test_every_key_of_the_language_is_described_with_an_example_that_is_one() -> None:
    tables = tables_of_dialects()
    assert {table.kind for table in REFERENCE} - {"Fields"} == set(tables)
    for name, kind in tables.items():
        keys = keys_of(name)
        assert set(keys) == {field.encode_name for field in kind.fields}, name
        hints = typing.get_type_hints(kind.cls)
        for field in kind.fields:
            key = keys[field.encode_name]
            (value,) = tomllib.loads(key.example).values()
            msgspec.convert(value, hints[field.name])
            assert key.words.endswith(".") and list(tomllib.loads(key.example)) == [key.name]


def test_the_schema_carries_the_descriptions() -> None:
    made = schema_of("dialect")
    for part in (made, *made["$defs"].values()):
        assert all(said["description"] and said["examples"] for said in part["properties"].values())


def test_the_pages_of_keys_and_messages_are_as_written() -> None:
    assert (ROOT / "docs" / "dialect-keys.md").read_text() == reference_page()

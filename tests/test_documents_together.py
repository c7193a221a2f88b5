"""Lines and documents of one file that belong together: read as rows of one document, told with their lines, and proposed."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from conftest import Run
from zeitbuch.core.model.records import Flow
from zeitbuch.readers.dialects.rules import parse_dialect
from zeitbuch.readers.infer.propose import Proposal, propose_from_documents, read_documents
from zeitbuch.readers.input.joined_documents import document_of_row, joined_documents
from zeitbuch.readers.input.limits import Limits
from zeitbuch.readers.input.sources import Held
from zeitbuch.readers.reading.reader import Reader

TOGETHER = """
dialect = 1
name = "sorts"
signature = { all = ["$.rows[?@.sort == 'plan']"], together = true, suffixes = [".jsonl"] }
flow = { at = "$.rows.plan[*]", id = "key", name = "title" }
step = { at = "$.act[*]", operation = "does", id = "key", settings = "with" }
divide = [{ at = "$.rows", by = "sort" }]
gather = [
  { at = "$.rows.act[*]", to = "$.rows.plan[*]", by = "plan", into = "act", equals = "key" },
  { at = "$.rows.rope[*]", to = "$.rows.plan[*]", by = "plan", into = "rope", equals = "key" },
]
link = [{ at = "$.rope[*]", from = "a", to = "b" }]
kind = [{ operation = "look", kind = "read" }, { operation = "ask", kind = "model", model = "with.mind" }]
"""
APART = """
dialect = 1
name = "apart"
signature = { all = ["$.acts"], suffixes = [".jsonl"] }
flow = { id = "key" }
step = { at = "$.acts[*]", operation = "does", id = "key" }
"""


def lines_of(flow: str, mind: str = "turnix-2-small") -> list[dict[str, Any]]:
    return [
        {"sort": "plan", "key": flow, "title": f"Desk {flow}"},
        {"sort": "act", "plan": flow, "key": "a", "does": "look", "with": {"url": "https://tide.example"}},
        {"sort": "act", "plan": flow, "key": "b", "does": "ask", "with": {"mind": mind}},
        {"sort": "rope", "plan": flow, "a": "a", "b": "b"},
    ]


def read(name: str, text: str, *dialects: str) -> tuple[list[Flow], Reader]:
    reader = Reader([parse_dialect(one, "one.toml") for one in dialects])
    return list(reader.flows_of([Held(name, text.encode())])), reader


def as_lines(records: list[dict[str, Any]]) -> str:
    return "".join(json.dumps(record) + "\n" for record in records)


@pytest.mark.parametrize("name", ["dump.jsonl", "dump.yaml"])
def test_lines_and_documents_of_a_file_are_flows_together(name: str) -> None:
    records = [*lines_of("f"), *lines_of("g", "turnix-2-large")]
    text = as_lines(records) if name.endswith("jsonl") else "\n---\n".join(map(json.dumps, records))
    flows, reader = read(name, text, TOGETHER)
    assert [(flow.id, flow.name, len(flow.steps), flow.content.unread) for flow in flows] == [
        ("f", "Desk f", 2, 0), ("g", "Desk g", 2, 0),
    ]  # fmt: skip
    assert [(link.source, link.target) for link in flows[1].links] == [("a", "b")]
    assert [step.model.name for flow in flows for step in flow.steps if step.model] == [
        "turnix-2-small",
        "turnix-2-large",
    ]
    assert reader.problems == []


def test_files_are_read_apart_where_no_dialect_knows_them_together() -> None:
    text = as_lines([{"key": "f", "acts": [{"key": "a", "does": "look"}]}, {"key": "g", "acts": []}])
    flows, _ = read("dump.jsonl", text, TOGETHER, APART)
    assert [(flow.id, flow.origin.member if flow.origin else "") for flow in flows] == [
        ("f", "line-1.json"),
        ("g", "line-2.json"),
    ]


def test_of_a_file_with_a_broken_line_nothing_is_said() -> None:
    lines = as_lines(lines_of("f")).splitlines()
    lines[2] = '{"sort": "act", "plan": "f"'
    flows, reader = read("dump.jsonl", "\n".join(lines), TOGETHER)
    assert flows == []
    (error,) = [problem for problem in reader.problems if problem.severity == "error"]
    assert error.code == "json-syntax"
    assert error.origin is not None
    assert error.origin.file == "dump.jsonl!line-3.json"


def test_all_lines_together_are_held_against_the_limit() -> None:
    reader = Reader([parse_dialect(TOGETHER, "one.toml")], Limits(values=8))
    assert list(reader.flows_of([Held("dump.jsonl", as_lines(lines_of("f")).encode())])) == []
    assert [problem.code for problem in reader.problems] == ["limit"]


@pytest.mark.parametrize(
    ("name", "text", "pointer", "found"),
    [
        ("x.jsonl", '{"a": 1}\n\n{"b": 2}\n', "/rows/1/b", (b'\n\n{"b": 2}', "/b")),
        ("x.jsonl", '{"a": 1}\n', "/rows/0", (b'{"a": 1}', "")),
        ("x.jsonl", '{"a": 1}\n', "/rows/7", None),
        ("x.yaml", "a: 1\n---\nb: 2\n", "/rows/1/b", (b"\n---\nb: 2\n", "/b")),
        ("x.yaml", "rows: [1]\n", "/rows/0", None),
        ("x.yaml", "a: 1\n", "/rows/0/a", (b"a: 1\n", "/a")),
        ("x.json", '{"rows": [1]}', "/rows/0", None),
    ],
)  # fmt: skip
def test_a_row_is_found_in_its_file(name: str, text: str, pointer: str, found: tuple[bytes, str] | None) -> None:
    assert document_of_row(name, text.encode(), pointer) == found


def test_documents_are_joined_by_their_files() -> None:
    found = [
        ("p.zip!a.yaml document-1.yaml", 1),
        ("p.zip!a.yaml document-2.yaml", 2),
        ("b.jsonl!line-4.json", 3),
        ("c.json", 4),
    ]
    assert joined_documents(found) == [("p.zip!a.yaml", {"rows": [1, 2]}), ("b.jsonl", {"rows": [3]}), ("c.json", 4)]


# -- proposals ------------------------------------------------------------------------------------------------------------


def propose(name: str, text: str) -> tuple[Proposal, list[Flow]]:
    held = Held(name, text.encode())
    found, problems = read_documents([held], Limits(), lambda _: None, (".jsonl",))
    assert problems == []
    made = propose_from_documents(found, "probe")
    reader = Reader([made.made.dialect])
    return made, list(reader.flows_of([held]))


def heads_and_bodies(count: int) -> list[dict[str, Any]]:
    made: list[dict[str, Any]] = []
    for at in range(count):
        name = {"name": f"tide-{at}"}
        made.append({"part": "Head", "about": {**name, "title": f"Tide desk {at}"}, "rest": {"paused": at % 3 == 0}})
        if at % 2:
            made.append({"part": "Clock", "about": name, "rest": {"cron": f"{at} 6 * * *"}})
        steps = [{"name": "look", "use": "http", "with": {"url": f"https://tide.example/{at}"}},
                 {"name": "say", "use": "mail", "with": {"to": "quay@ferry.example"}, "after": ["look"]}]  # fmt: skip
        made.append({"part": "Body", "about": name, "rest": {"tasks": steps}})
    return made


@pytest.mark.parametrize("sort", ["part", "part of", "record-part"])
@pytest.mark.parametrize("name", ["heads.yaml", "heads.jsonl", "heads.json"])
def test_heads_and_steps_in_records_of_one_list_are_proposed(name: str, sort: str) -> None:
    records = [{sort if key == "part" else key: value for key, value in one.items()} for one in heads_and_bodies(8)]
    texts = {
        "yaml": "\n---\n".join(map(json.dumps, records)),
        "jsonl": as_lines(records),
        "json": json.dumps({"all": records}),
    }
    made, flows = propose(name, texts[name.partition(".")[2]])
    signature = made.made.dialect.signature
    assert signature.together == (name != "heads.json")
    assert signature.all != ["$"]
    assert [(flow.id, flow.title) for flow in flows] == [(f"tide-{at}", f"Tide desk {at}") for at in range(8)]
    assert [len(flow.triggers) for flow in flows] == [at % 2 for at in range(8)]
    assert [[(link.source, link.target) for link in flow.links if link.source == "look"] for flow in flows] == [
        [("look", "say")]
    ] * 8
    assert any("heads of flows" in claim.words for claim in made.made.claims)


def test_lines_of_several_sorts_are_proposed_and_a_flow_a_line_stays_apart() -> None:
    text = as_lines([record for at in range(8) for record in lines_of(f"F{at}")])
    made, flows = propose("dump.jsonl", text)
    assert made.made.dialect.signature.together
    assert [len(flow.steps) + len(flow.triggers) for flow in flows] == [2] * 8
    single = [
        {"key": f"F{at}", "acts": [{"id": f"a{at}", "does": "look"}, {"id": f"b{at}", "does": "ask"}]}
        for at in range(8)
    ]
    made, flows = propose("dump.jsonl", as_lines(single))
    assert not made.made.dialect.signature.together
    assert len(flows) == 8


def test_steps_that_point_on_and_to_their_handlers_are_no_links() -> None:
    """Each step of two types names two others, and none of theirs: still no record of a link."""
    documents = [
        (f"{at}.json", {"name": f"Desk {at}", "steps": [
            {"id": "look", "type": "http", "next": "say", "on_error": "tell"},
            {"id": "say", "type": "llm", "next": "tell", "on_error": "tell"},
            {"id": "tell", "type": "mail", "next": "keep"}, {"id": "keep", "type": "store"},
        ]})
        for at in range(8)
    ]  # fmt: skip
    made = propose_from_documents(documents, "probe").made
    assert made.dialect.divide == []
    assert made.steps == 32


def test_the_program_reads_and_tries_files_together(run: Run, tmp_path: Path) -> None:
    (tmp_path / "x").mkdir()
    (tmp_path / "x/dump.jsonl").write_text(as_lines([*lines_of("f"), *lines_of("g")]))
    (tmp_path / "d.toml").write_text(TOGETHER)
    (tmp_path / "zeitbuch.toml").write_text('sources = ["x"]\ndialects = ["d.toml"]\n')
    assert "Desk g" in run("inventory").out
    tried = run("dialect", "test", "x", "--dialect", "d.toml", "--rules")
    assert tried.code == 0
    assert "gather[1].at" in tried.out
    findings = run("check", "-f", "json")
    assert '"line": 1' in findings.out  # of the row that is the flow

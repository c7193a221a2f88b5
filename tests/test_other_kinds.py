"""Files that hold no flow: told for what they are, counted in a sweep, an error when named themselves."""

from __future__ import annotations

import json
import subprocess
import zipfile
from pathlib import Path

import pytest

from conftest import Run

FLOW = json.dumps({"zeitbuch": 1, "flows": [{"id": "a", "triggers": [{"id": "t", "kind": "manual"}]}]})
OTHERS = {
    "api.json": (b'{"openapi": "3.1.0", "info": {}}', "an API description"),
    "api.yaml": (b"swagger: '2.0'\npaths: {}\n", "an API description"),
    "schema.json": (b'{"$schema": "https://json-schema.org/draft/2020-12/schema", "type": "object"}', "a JSON schema"),
    "old.json": (b'{"id": "x", "specVersion": "0.5", "states": []}', "an older version of Serverless Workflow"),
    "ours.json": (b'{"zeitbuch": "explain", "version": 1}', "an output of Zeitbuch"),
    "trace.json": (b'{"resourceSpans": []}', "a trace"),
    "package.json": (b'{"name": "x", "version": "1", "dependencies": {}}', "a package or build file"),
    "map.json": (b'{"type": "FeatureCollection", "features": []}', "a geographic file"),
    "usage.json": (b'[{"time": "2026-11-01", "model": "quill-small", "tokens": 4}]', "a usage log"),
    "events.json": (b'[{"case_id": "1", "activity": "moor", "timestamp": "2026-11-01"}]', "an event log"),
    "events.xml": (b'<log xes.version="1.0"/>', "an event log (XES)"),
    "pom.xml": (b"<project><modelVersion>4.0.0</modelVersion></project>", "a package or build file"),
    "packed.json": (b"PK\x03\x04\x14\x00", "a zip archive"),
    "picture.json": (b"\x89PNG\r\n\x1a\n", "a picture"),
    "paper.yaml": (b"%PDF-1.7\n\xe2\xe3", "a PDF document"),
    "tool.json": (
        b'{"component_type": "ServerTool", "agentspec_version": "25.4.1", "name": "x"}',
        "a part of an Agent Spec",
    ),
    "parts.yaml": (b"arazzo: 1.0.1\ncomponents: {}\n", "an Arazzo description without workflows"),
    "head.yaml": (b"document: {dsl: 1.0.0, name: x}\n", "a Serverless Workflow document without tasks"),
    "rules.xml": (b'<definitions xmlns="https://www.omg.org/spec/DMN/20191111/MODEL/"/>', "decision tables"),
    "beta.bpmn": (b'<definitions xmlns="http://schema.omg.org/spec/BPMN/2.0"/>', "BPMN of another version"),
    "usage.csv": (b"time,model,input_tokens\n2026-11-01,quill-small,4\n", "a usage log"),
    "events.tsv": (b"case_id\tactivity\ttimestamp\n1\tmoor\t2026-11-01\n", "an event log"),
    "bill.csv": (b'"BillingPeriodStart";"BilledCost"\n', "a billing table"),
    "berths.csv": (b"berth,length\n", "a table (CSV)"),
    "usage.jsonl": (b'{"timestamp": "2026-11-01", "cost": 0.2}\n', "a usage log"),
    "ships.ndjson": (b'{"ship": "Gannet"}\n{"ship": "Skua"}\n', "records (JSON Lines)"),
    "kvarte.toml": (b"# one\ndialect = 1\n", "a dialect"),
    "prices.toml": (b"rate_card = 1\n", "a rate card"),
    "build.toml": (b"[project]\nname = 'x'\n", "a package or build file"),
}


@pytest.fixture
def mixed(tmp_path: Path) -> Path:
    folder = tmp_path / "mixed"
    folder.mkdir()
    (folder / "flow.json").write_text(FLOW)
    for name, (data, _) in OTHERS.items():
        (folder / name).write_bytes(data)
    return folder


def test_in_a_folder_they_are_counted_and_no_error(mixed: Path, run: Run) -> None:
    told = run("inventory", "mixed", "-f", "json")
    assert told.code == 0 and json.loads(told.out)["totals"]["flows"] == 1
    assert f"{len(OTHERS)} files hold no flow: " in told.err and "error" not in told.err
    assert "an API description (mixed/api.json and 1 more)" in told.err
    assert run("inventory", "mixed", "-q").err == ""
    listed = run("inventory", "mixed", "--verbose").err
    assert all(name in listed for name in OTHERS)


@pytest.mark.parametrize("name", list(OTHERS))
def test_named_itself_it_is_an_error_that_says_what_it_is(name: str, mixed: Path, run: Run) -> None:
    told = run("inventory", f"mixed/{name}")
    assert told.code == 2 and "[other-kind]" in told.err and OTHERS[name][1] in told.err


def test_what_nothing_knows_stays_an_error(mixed: Path, run: Run) -> None:
    """A builder's export without its dialect must not go by as something else."""
    (mixed / "unknown.json").write_text('{"sheet": {"stations": [], "lines": []}}')
    told = run("inventory", "mixed")
    assert told.code == 2 and "unknown.json" in told.err and "[unrecognised]" in told.err


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("run.json", '{"run": "daily", "event": "delay", "time": "08:00", "steps": [{"id": "a", "does": "ask"}]}'),
        ("name.json", '{"name": "Berth", "version": "2", "dependencies": ["x"], "scripts": [{"id": "a", "run": "ask"}]}'),
        ("project.xml", '<project><steps><step id="a"/></steps></project>'), ("log.xml", '<log><step id="a"/></log>'),
        ("openapi.json", '{"openapi": {"steps": []}}'),
    ],
)  # fmt: skip
def test_a_flow_of_an_unknown_builder_is_never_counted_as_something_else(
    name: str, text: str, mixed: Path, run: Run
) -> None:
    (mixed / name).write_text(text)
    told = run("inventory", "mixed")
    assert told.code == 2 and f"{name}" in told.err and "[unrecognised]" in told.err


def test_in_packages_and_revisions(mixed: Path, tmp_path: Path, run: Run) -> None:
    with zipfile.ZipFile(tmp_path / "all.zip", "w") as archive:
        for path in sorted(mixed.iterdir()):
            archive.write(path, path.name)
    told = run("inventory", "all.zip")
    assert told.code == 0 and f"{len(OTHERS)} other objects" in told.err
    for words in (["init", "-q"], ["add", "."], ["-c", "user.name=a", "-c", "user.email=a@b", "commit", "-qm", "x"]):
        subprocess.run(["git", *words], cwd=mixed, check=True)
    told = run("inventory", "git:HEAD", cwd=mixed)
    assert told.code == 0 and "files hold no flow" in told.err


def test_a_second_run_from_the_cache_says_the_same(mixed: Path, run: Run) -> None:
    first = run("inventory", "mixed")
    assert run("inventory", "mixed").err == first.err != ""


def test_what_cannot_hold_flows_is_counted_by_suffix(mixed: Path, run: Run) -> None:
    for name in ("a.md", "b.md", "LICENCE", ".hidden"):
        (mixed / name).write_text("words")
    (mixed / "more").mkdir()
    (mixed / "more" / "c.png").write_bytes(b"\x89PNG")
    told = run("inventory", "mixed")
    assert told.code == 0 and "mixed: 4 files not looked into, by suffix: .md (2), no suffix (1), .png (1)" in told.err
    assert "not looked into" not in run("inventory", "mixed", "-q").err


def test_a_table_of_any_size_is_not_read_through(tmp_path: Path, run: Run) -> None:
    folder = tmp_path / "big"
    folder.mkdir()
    (folder / "flow.json").write_text(FLOW)
    with (folder / "usage.csv").open("wb") as file:
        file.write(b"time,tokens\n")
        file.truncate(400_000_000)  # beyond the limit on bytes of an export
    told = run("inventory", "big")
    assert told.code == 0 and "1 file holds no flow: a usage log (big/usage.csv)" in told.err


def test_files_of_a_revision_are_counted_too(tmp_path: Path, run: Run) -> None:
    (tmp_path / "flow.json").write_text(FLOW)
    (tmp_path / "notes.md").write_text("words")
    for words in (["init", "-q"], ["add", "."], ["-c", "user.name=a", "-c", "user.email=a@b", "commit", "-qm", "x"]):
        subprocess.run(["git", *words], cwd=tmp_path, check=True)
    told = run("inventory", "git:HEAD")
    assert told.code == 0 and "git:HEAD: 1 file not looked into, by suffix: .md (1)" in told.err

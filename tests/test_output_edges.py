"""Output edges: what XML has no place for, controls of a terminal, names that some system refuses."""

from __future__ import annotations

import json
import unicodedata
from pathlib import Path

import pytest
from lxml import etree

from conftest import Run
from zeitbuch.writers.escape.file_names import file_names

ODD = "A\x00\x0b\x1b[31m\x85\x9b31m\u202e\u2066\ufffe\uffff<&]]>Z"


@pytest.fixture
def odd(tmp_path: Path) -> Path:
    steps = [
        {
            "id": "a",
            "kind": "model",
            "name": ODD,
            "operation": ODD,
            "note": ODD,
            "model": {"name": ODD, "prompts": [{"text": ODD}]},
        },
        {"id": "b", "kind": "decide", "name": ODD, "condition": ODD, "inputs": [{"name": ODD, "value": ODD}]},
        {"id": "c", "kind": "send", "name": ODD, "connection": ODD},
    ]
    links = [
        {"source": "t", "target": "a"},
        {"source": "a", "target": "b"},
        {"source": "b", "target": "c", "role": "case", "label": ODD, "condition": ODD},
    ]
    flow = {
        "id": "x", "name": ODD, "description": ODD, "owners": [ODD], "folder": ODD, "triggers": [{"id": "t", "kind": "event", "event": ODD, "name": ODD}],
        "steps": steps, "links": links, "unread": {ODD: ODD},
    }  # fmt: skip
    path = tmp_path / "odd.json"
    path.write_text(json.dumps({"zeitbuch": 1, "flows": [flow]}))
    later = json.loads(path.read_text())
    later["flows"][0]["steps"][0]["note"] = "other" + ODD
    (tmp_path / "later.json").write_text(json.dumps(later))
    return path


@pytest.mark.parametrize("form", ["svg", "graphml", "bpmn"])
def test_xml_is_well_formed_whatever_stands_in_names(form: str, odd: Path, run: Run) -> None:
    assert run("map", "odd.json", "-o", f"out.{form}").code == 0
    etree.fromstring((odd.parent / f"out.{form}").read_bytes())
    assert run("convert", "odd.json", "-o", "whole.bpmn").code == 0
    etree.fromstring((odd.parent / "whole.bpmn").read_bytes())


COMMANDS = [
    ("inventory", "odd.json"), ("explain", "x", "--source", "odd.json"), ("explain", "x", "a", "--source", "odd.json"),
    ("map", "odd.json", "--format", "text"), ("map", "odd.json", "--estate", "--format", "text"), ("estimate", "odd.json", "--steps"),
    ("diff", "odd.json", "later.json"), ("diff", "odd.json", "later.json", "--summary"), ("diff", "--clones", "odd.json"),
    ("record", "odd.json", "--note", ODD.replace("\x00", "")), ("history", "x"), ("history",), ("convert", "odd.json"), ("convert", "odd.json", "--format", "json"),
    ("inventory", "odd.json", "--format", "csv"), ("inventory", "odd.json", "--format", "markdown"), ("inventory", "odd.json", "--format", "jsonl"),
    ("explain", ODD.replace("\x00", ""), "--source", "odd.json"), ("inventory", ODD.replace("\x00", "") + ".json"), ("dialect", "suggest", "odd.json"),
]  # fmt: skip


def test_no_command_sends_controls_to_the_terminal(odd: Path, run: Run) -> None:
    assert run("record", "odd.json").code == 0
    for words in COMMANDS:
        ran = run(*words)
        assert ran.code in (0, 1, 2) and "fault" not in ran.err, (words, ran.err)
        harmful = {
            letter
            for letter in (ran.out + ran.err).replace("\r\n", "\n")
            if unicodedata.category(letter) in ("Cc", "Cf", "Cs") and letter not in "\n\t"
        }
        assert not harmful, (words, harmful)


def test_file_names_are_refused_by_no_system() -> None:
    titles = ["con", "NUL", "Aux.", "com1", "index", "a/b", "..", "", "ÄÖ", "x" * 500, "a b", "a-b"]
    names = file_names(titles)
    assert len(set(names)) == len(names)
    assert not {"con", "nul", "aux", "com1", "index"} & set(names)
    assert all(0 < len(name) < 70 and name == name.strip(" .") and "/" not in name for name in names)
    assert len(set(file_names(["same"] * 20_000))) == 20_000

"""`dialect test --rules`: what every rule finds, what stands near where it finds nothing, and the dialect suspected first."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from conftest import Run
from structures import STRUCTURES
from zeitbuch.readers.dialects.rules import parse_dialect
from zeitbuch.readers.dialects.trial import DialectTrial, try_dialect
from zeitbuch.readers.input.limits import Limits


def tried(name: str, old: str = "", new: str = "", more: Any = None) -> DialectTrial:
    structure = STRUCTURES[name]
    assert old in structure.dialect
    documents = [(file, json.loads(text)) for file, text in structure.files().items()]
    for _, document in documents:
        document.update(more or {})
    return try_dialect(parse_dialect(structure.dialect.replace(old, new), "made.toml"), documents, Limits())


def test_every_rule_is_counted() -> None:
    rows = {(row.rule, row.path): (row.hits, row.records, row.remark) for row in tried("flat").rules}
    assert rows["step.at", "$.steps[*]"] == (2, 2, "")
    assert rows["step.operation", "does"] == (8, 8, "")
    assert rows["link.outlet", "way"] == (7, 7, "")
    assert rows["kind 'ask?text'", "ask?text"] == (2, 8, "")
    assert rows["kind 'ask?text'.model", "given.brain"] == (2, 2, "")
    assert rows["outlet.match", "broken"][0] == 1


@pytest.mark.parametrize(
    ("old", "new", "rule", "remark"),
    [
        ("$.steps[*]", "$.step[*]", "step.at", "at $ there is no `step`; did you mean `steps`?"),
        ('settings = "given"', 'settings = "gives"', "step.settings", "nothing is there; `given` is in 8 of 8"),
        (
            'model = "given.brain"',
            'model = "given.engine"',
            "kind 'ask?text'.model",
            "nothing is there; in `given` there are `brain`, `orders`, `warmth`",
        ),
        (
            'model = "given.brain"',
            'model = "brain"',
            "kind 'ask?text'.model",
            "nothing is there; `given.brain` is in 2 of 2",
        ),
        ('operation = "mail?out"', 'operation = "post.out"', "kind 'post.out'", "no operation fits it"),
        ('match = "broken"', 'match = "brkn"', "outlet.match", "no outlet fits it"),
    ],
)
def test_a_rule_that_finds_nothing_says_what_stands_near(old: str, new: str, rule: str, remark: str) -> None:
    found = [row for row in tried("flat", old, new).rules if row.rule == rule and not row.hits]
    assert [row.remark for row in found] == [remark]


def test_the_dialect_is_suspected_before_the_builder() -> None:
    assert tried("flat").suspicions == []
    (words,) = tried("flat", 'operation = "does"', 'operation = "does"\nid = "does"').suspicions[:1]
    assert words.startswith(
        "no end of a link is the id of a step: is `step.id` (`does`) right?; 100% of them equal `id`"
    )
    (words, *_) = tried("flat", 'from = "from"', 'from = "form"').suspicions
    assert words == "`link.from` finds nothing in 7 links: nothing is there; `from` is in 7 of 7"
    assert "no step was found: is `step.at` right?" in tried("flat", "$.steps[*]", "$.none[*]").suspicions
    assert any("no step leads to another" in one for one in tried("flat", "$.links[*]", "$.none[*]").suspicions)


def test_what_no_rule_touches_is_ordered_by_what_hangs_on_it() -> None:
    trial = tried("flat", more={"colour": "blue", "crew": {"mate": ["Ann", "Ben"], "cook": "Cy"}})
    assert [(one.place, one.values) for one in trial.untouched] == [
        ("flow: crew.mate", 4),
        ("flow: colour", 2),
        ("flow: crew.cook", 2),
    ]


def test_the_command_shows_rules_and_compares(tmp_path: Path, run: Run) -> None:
    structure = STRUCTURES["flat"]
    folder = tmp_path / "in"
    folder.mkdir()
    for name, text in structure.files().items():
        (folder / name).write_text(text)
    (tmp_path / "good.toml").write_text(structure.dialect)
    (tmp_path / "bad.toml").write_text(structure.dialect.replace("$.links[*]", "$.ropes[*]").replace('"made"', '"bad"'))
    done = run("dialect", "test", "in", "--dialect", "bad.toml", "--rules", cwd=tmp_path)
    assert done.code == 0 and "at $ there is no `ropes`; there are `id`, `name`, `steps`, `links`" in " ".join(
        done.out.split()
    )
    assert (
        "dialect 'bad': no step leads to another" in done.err
        and "no rule touches flow: links.* (21 values)" in done.err
    )
    done = run("dialect", "test", "in", "--dialect", "good.toml", "--compare", "bad.toml", "-f", "csv", cwd=tmp_path)
    assert done.code == 0 and "links,7,0" in done.out and done.out.splitlines()[0] == "what,made,bad"
    done = run("dialect", "test", "in", "--dialect", "good.toml", "--rules", "-f", "json", cwd=tmp_path)
    assert json.loads(done.out)["rules"][0] == {
        "dialect": "made", "rule": "signature.all", "path": "$.steps", "found": 2, "of": 2, "remark": "",
    }  # fmt: skip
    (folder / "broken.json").write_text('{"steps": [')
    done = run("dialect", "test", "in", "--dialect", "good.toml", "--rules", cwd=tmp_path)
    assert done.code == 2 and done.err.count("broken.json") == 1 and "json-syntax" in done.err
    done = run("dialect", "test", "in", "--rules", cwd=tmp_path)
    assert done.code == 2 and "expected one active dialect at least, found no dialect" in done.err


# What stands in a file beside is put in by the reader, so that "two files" is none of these.
PLAIN = [
    name
    for name, made in STRUCTURES.items()
    if all(file.endswith(".json") for file in made.files()) and name != "two files"
]


@pytest.mark.parametrize("name", PLAIN)
def test_rules_of_every_structure_are_found(name: str) -> None:
    idle = [row for row in tried(name).rules if not row.hits and row.records]
    assert [
        row
        for row in idle
        if row.rule.partition(".")[0] not in ("kind", "outlet", "step", "flow") and row.rule[:4] != "kind"
    ] == []


def test_rules_for_a_file_beside_are_tried_with_it_and_odd_keys_do_no_harm(tmp_path: Path, run: Run) -> None:
    structure = STRUCTURES["two files"]
    folder = tmp_path / "in"
    folder.mkdir()
    for name, text in structure.files().items():
        (folder / name).write_text(text)
    (tmp_path / "made.toml").write_text(structure.dialect.replace('settings = "given"', 'settings = "gives"'))
    done = run("dialect", "test", "in", "--dialect", "made.toml", "--rules", "-f", "json", cwd=tmp_path)
    found = {row["rule"]: row["found"] for row in json.loads(done.out)["rules"]}
    assert found["link.at"] == 2 and "no step leads to another" not in done.err
    odd = json.loads(structure.files()["tides.steps.json"])
    odd["steps"][0] |= {'a"b': 1, "": 2, "\tx": {"\n": 1}, "..": 3}
    (folder / "tides.steps.json").write_text(json.dumps(odd))
    done = run("dialect", "test", "in", "--dialect", "made.toml", "--rules", cwd=tmp_path)
    assert done.code == 0 and "nothing is there" in done.out, done.err


APART = """dialect = 1
name = "quay"
[signature]
all = ["$.steps"]
[step]
at = "$.steps[*]"
operation = "does"
[order]
[trigger]
at = "$.start"
operation = "by"
[flow]
[[kind]]
operation = "clock"
trigger = "schedule"
cron = "at"
[[kind]]
has = "door"
trigger = "webhook"
[[kind]]
operation = "look"
kind = "read"
"""


@pytest.mark.parametrize(("ids", "suspected"), [("unique", False), ("alike", True)])
def test_triggers_apart_count_and_ids_are_counted_flow_by_flow(ids: str, suspected: bool) -> None:
    """'no operation fits it' was said of every rule for triggers apart, and flows that each number their steps from 1 were suspected."""
    starts = [{"by": "clock", "at": "0 6 * * *"}, {"door": "/in"}]
    documents = [
        {
            "id": f"f{at}",
            "start": dict(starts[at % 2]),
            "steps": [
                {"id": str(place if ids == "unique" else 1), "name": f"S{place}", "does": "look"} for place in range(5)
            ],
        }
        for at in range(12)
    ]
    found = try_dialect(
        parse_dialect(APART, "quay.toml"), [(f"{at}.json", one) for at, one in enumerate(documents)], Limits()
    )
    rows = {row.rule: row for row in found.rules}
    assert (rows["kind 'clock'"].hits, rows["kind '* has door'"].hits, rows["kind 'look'"].hits) == (6, 6, 60)
    assert {row.remark for row in found.rules if row.rule.startswith("kind")} == {""}
    assert any("different ids" in text for text in found.suspicions) == suspected

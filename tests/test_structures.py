"""Structures of exports that a dialect can say: each reads as the plain one does, loses nothing, and names places in the file."""

from __future__ import annotations

import json
import random
from pathlib import Path
from typing import Any

import pytest

from conftest import Run
from conservation import silent_values
from counted import lines_run
from structures import FLOWS, STRUCTURES, Structure
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Flow, Origin
from zeitbuch.readers.dialects.reshape import Reshaper
from zeitbuch.readers.dialects.rules import parse_dialect, suffixes_of
from zeitbuch.readers.dialects.text_patterns import TextPattern
from zeitbuch.readers.input.limits import Limits
from zeitbuch.readers.input.sources import Held, list_files
from zeitbuch.readers.reading.reader import Reader


def read(structure: Structure, folder: Path) -> tuple[list[Flow], list[Any]]:
    for name, text in structure.files().items():
        (folder / name).write_text(text)
    dialect = parse_dialect(structure.dialect, "made.toml")
    reader = Reader([dialect])
    flows = list(reader.flows_of(list_files([str(folder)], suffixes_of([dialect]))))
    return flows, [problem for problem in reader.problems if problem.severity != "info"]


def said(flow: Flow, links: bool) -> dict[str, Any]:
    """What a flow says, by the names of its steps."""
    names = {one.id: one.name for one in (*flow.steps, *flow.triggers)}
    uses = {step.name: step.model for step in flow.steps if step.model is not None}
    return {
        "steps": {(step.name, step.kind, step.condition) for step in flow.steps},
        "triggers": {(one.name, one.kind, one.schedule and one.schedule.cron, one.schedule and one.schedule.zone) for one in flow.triggers},
        "models": {name: (use.name, use.temperature, [prompt.text for prompt in use.prompts]) for name, use in uses.items()},
        "inputs": {step.name: {one.name: one.value for one in step.inputs} for step in flow.steps if step.kind in ("write", "send", "read")},
        "links": {(names[one.source], names[one.target], one.role, one.label if one.role != "error" else "") for one in flow.links} if links else None,
    }  # fmt: skip


@pytest.mark.parametrize("name", STRUCTURES)
def test_every_structure_reads_as_the_plain_one(name: str, tmp_path: Path) -> None:
    structure = STRUCTURES[name]
    (tmp_path / "plain").mkdir()
    (tmp_path / "other").mkdir()
    plain, _ = read(STRUCTURES["flat"], tmp_path / "plain")
    flows, problems = read(structure, tmp_path / "other")
    assert problems == [] and len(flows) == len(FLOWS) == 2
    wanted = {flow.name: said(flow, structure.links) for flow in plain}
    assert {flow.name: said(flow, structure.links) for flow in flows} == wanted
    assert [flow.unread for flow in flows] == [{}, {}] and [flow.around for flow in flows] == [{}, {}]
    assert all(not step.unread for flow in flows for step in flow.steps)
    files = set(structure.files())
    for flow in flows:
        origins = [step.origin for step in flow.steps]
        assert all(origin is not None and Path(origin.source).name in files for origin in origins)
        assert len({str(origin) for origin in origins}) == len(origins) or name == "definition in a text"


SHAPED = [
    name
    for name, made in STRUCTURES.items()
    if all(file.endswith(".json") for file in made.files()) and name != "two files"
]


@pytest.mark.parametrize("name", SHAPED)
def test_no_structure_loses_a_value_in_silence(name: str) -> None:
    structure = STRUCTURES[name]
    dialect = parse_dialect(structure.dialect, "made.toml")
    document = json.loads(next(iter(structure.files().values())))
    tried, silent = silent_values(document, [dialect], random.Random(3))
    # Left out, a switch means the same as "on", and the first step is the one that nothing leads to.
    lost = [one for one in silent if one.act == "changed" or one.path[-1] not in ("mode", "first")]
    assert tried > 2 and not lost, lost


def test_places_are_those_of_the_file(tmp_path: Path) -> None:
    flows, _ = read(STRUCTURES["tables of a database"], tmp_path)
    tides = next(flow for flow in flows if flow.id == "tides")
    assert tides.origin is not None and tides.origin.pointer == "/plans/1"
    assert [step.origin.pointer for step in tides.steps if step.origin] == ["/steps/6", "/steps/7"]
    assert [link.origin.pointer for link in tides.links if link.origin] == ["/links/5", "/links/6"]


def test_what_a_rule_cannot_use_stays_and_is_told() -> None:
    dialect = parse_dialect(STRUCTURES["wires as texts"].dialect, "made.toml")
    made = json.loads(STRUCTURES["wires as texts"].files()["claims.json"])
    made["links"].append("file then tell")
    reader = Reader([dialect])
    (flow,) = reader.flows_of([Held("claims.json", json.dumps(made).encode())])
    (problem,) = [one for one in reader.problems if one.code == "value-unusable"]
    assert "a text like '{from}:{way} -> {to}', found 'file then tell'" in problem.message
    assert problem.origin is not None and problem.origin.pointer == "/links/5"
    assert flow.unread["unread parts"] == [{"/links/5": "file then tell"}] and flow.content.unread == 1


def test_an_id_that_no_catalogue_has_stays_and_is_told() -> None:
    dialect = parse_dialect(STRUCTURES["catalogues"].dialect, "made.toml")
    made = json.loads(STRUCTURES["catalogues"].files()["claims.json"])
    made["minds"][0]["id"] = "m9"
    reader = Reader([dialect])
    (flow,) = reader.flows_of([Held("claims.json", json.dumps(made).encode())])
    assert any(
        "an entry of the catalogue at $.minds[*] with this id, found 'm1'" in one.message for one in reader.problems
    )
    assert flow.unread == {"minds": [{"id": "m9", "engine": "fulmar-mini-2", "warmth": 0.2}]}
    assert flow.content.unread >= 3


def test_rows_that_belong_to_nothing_stay_unread() -> None:
    structure = STRUCTURES["tables of a database"]
    made = json.loads(structure.files()["dump.json"])
    made["steps"].append({"plan": "gone", "id": "x", "name": "X", "does": "mail.out", "given": {}})
    reader = Reader([parse_dialect(structure.dialect, "made.toml")])
    first, _ = reader.flows_of([Held("dump.json", json.dumps(made).encode())])
    assert first.around == {"steps": [{"plan": "gone", "id": "x", "name": "X", "does": "mail.out", "given": {}}]}


def test_tables_lines_and_toml_in_packages_and_folders(tmp_path: Path, run: Run) -> None:
    import zipfile

    for name in ("table", "lines", "toml"):
        structure = STRUCTURES[name]
        (tmp_path / "made.toml").write_text(structure.dialect)
        with zipfile.ZipFile(tmp_path / "all.zip", "w") as package:
            for file, text in structure.files().items():
                package.writestr(file, text)
        done = run("inventory", "all.zip", "--dialect", "made.toml", "--no-cache", cwd=tmp_path)
        assert done.code == 0 and "2 flows" in done.out, (name, done.err)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("a,b\n1,2,3\n", "expected 2 cells as in the first line, found 3 in line 2"),
        ("a,a\n1,2\n", "found 'a' twice"),
        ("a,\n1,2\n", "a column without one"),
        ('a,b\n"1,2\n', "in line"),
        ("a,b\n\xff\n", "the byte 0xff in line 2"),
    ],
)
def test_tables_that_are_none_are_named_with_their_line(text: str, words: str, tmp_path: Path, run: Run) -> None:
    (tmp_path / "made.toml").write_text(STRUCTURES["table"].dialect)
    (tmp_path / "steps.csv").write_bytes(text.encode("latin-1"))
    done = run("inventory", "steps.csv", "--dialect", "made.toml", cwd=tmp_path)
    assert done.code == 2 and ("a table (CSV)" in done.err or words in done.err), done.err


@pytest.mark.parametrize(
    ("pattern", "text", "wanted"),
    [
        ("{a}:{b}", "x:y", {"a": "x", "b": "y"}),
        ("{a}[:{b}]", "x", {"a": "x"}),
        ("{a}[:{b}] -> {c}", "x -> z", {"a": "x", "c": "z"}),
        ("{a}[:{b}] -> {c}", "x:y->z:w", {"a": "x", "b": "y", "c": "z:w"}),
        ("({a})", "(x)", {"a": "x"}),
        ("({a})", "x)", None),
        ("{a} [[{b}]] > {c}", "x [y] > z", {"a": "x", "b": "y", "c": "z"}),
        ("{a}[ [[{b}]", "x [y", {"a": "x", "b": "y"}),
        ("{a}:{b}", "x", None),
    ],
)
def test_patterns_take_texts_apart(pattern: str, text: str, wanted: Any) -> None:
    assert TextPattern(pattern).take_apart(text) == wanted


@pytest.mark.parametrize("pattern", ["", "a", "{a}{b}", "{a}:{a}", "{a", "[{a}]", "{a}[:{b}", "{}"])
def test_patterns_that_say_nothing_are_refused(pattern: str) -> None:
    with pytest.raises(ZeitbuchError, match="expected names in braces"):
        TextPattern(pattern)


def test_long_texts_are_taken_apart_in_one_go() -> None:
    text = ":" * 200_000
    assert TextPattern("{a}:{b}[-{c}]:{d} -> {e}").take_apart(text) is None


def test_entries_written_out_are_counted_before_memory_is_spent() -> None:
    dialect = parse_dialect(STRUCTURES["catalogues"].dialect, "made.toml")
    made = json.loads(STRUCTURES["catalogues"].files()["claims.json"])
    made["minds"][0]["more"] = list(range(300))
    made["steps"] += [{"id": f"x{place}", "name": "X", "does": "x", "given": {"mind": "m1"}} for place in range(300)]
    reader = Reader([dialect], Limits(values=20_000))
    assert list(reader.flows_of([Held("claims.json", json.dumps(made).encode())])) == []
    (problem,) = reader.problems
    assert problem.code == "limit" and "entries of the catalogue are written out" in problem.message


@pytest.mark.parametrize(
    "name", ["tables of a database", "catalogues", "wires as texts", "settings as pairs", "operations as numbers"]
)
def test_bringing_into_shape_takes_time_with_the_size(name: str) -> None:
    def cost(times: int) -> int:
        structure = STRUCTURES[name]
        made = json.loads(next(iter(structure.files().values())))
        for key in ("steps", "links", "plans", "minds", "texts"):
            listed = made.get(key)
            for place in range(times if isinstance(listed, list) else 0):
                copy = json.loads(json.dumps(listed[place % 2 % len(listed)]))
                if isinstance(copy, dict) and "id" in copy:
                    copy["id"] = f"{copy['id']}-{place}"
                listed.append(copy)
        shaped = Reshaper(parse_dialect(structure.dialect, "made.toml"))
        return lines_run(lambda: shaped.reshape(made, Origin("x")))

    first, second = cost(200), cost(800)
    assert second < 5 * first, (first, second)  # with the square it would be 16


STEP = '[step]\nat = "$.steps[*]"\noperation = "does"\nsettings = "given"\n[[kind]]\noperation = "ask"\nkind = "model"\nmodel = "given.brain"\n'


def read_one(
    tables: str, document: Any, flow: str = "[flow]\n", sign: str = "$.steps", limits: Limits | None = None
) -> tuple[list[Flow], list[Any]]:
    head = f'dialect = 1\nname = "made"\n[signature]\nall = ["{sign}"]\n'
    reader = Reader([parse_dialect(head + flow + tables, "made.toml")], limits)
    return list(reader.flows_of([Held("x.json", json.dumps(document).encode())])), reader.problems


def one_step(given: Any, **more: Any) -> dict[str, Any]:
    return {"id": "f", "steps": [{"id": "a", "does": "ask", "given": given, **more}]}


PAIRS = '[[pairs]]\nat = "{at}"\nname = "{name}"\nvalue = {value}\n' + STEP
AGAIN = '[[catalogue]]\nat = "$.minds[*]"\nid = {id}\nrefs = ["$.steps[*].given.mind", "$.minds[*].base"]\n' + STEP
GATHER = '[[gather]]\nat = "$.steps[*]"\nby = "parent"\nto = "$.steps[*]"\ninto = "inner"\n' + STEP
EDGES: dict[str, tuple[str, dict[str, Any]]] = {
    "a pair with more beside its name": (PAIRS.format(at="$.steps[*].given", name="m.n", value='"v"'),
                                         one_step([{"m": {"n": "brain", "more": 7}, "v": "fulmar"}])),
    "a pair with two values": (PAIRS.format(at="$.steps[*].given", name="n", value='["v", "w"]'), one_step([{"n": "brain", "v": "x", "w": "y"}])),
    "a name that comes twice": (PAIRS.format(at="$.steps[*].given", name="n", value='"v"'),
                                one_step([{"n": "@rest", "v": 1}, {"n": "a", "v": 2}, {"n": "a", "v": 3}])),
    "pairs within pairs": (PAIRS.format(at="$..given", name="n", value='"v"'), one_step([{"n": "k", "v": 1, "given": [{"n": "l", "v": 2}]}])),
    "entries that name entries": (AGAIN.format(id='"id"'),
                                  {**one_step({"mind": "1"}), "minds": [{"id": "1", "base": "2", "name": "m"}, {"id": "2", "name": "n"}]}),
    "an entry with two ids": (AGAIN.format(id='["id", "key"]'), {**one_step({"mind": "1"}), "minds": [{"id": "1", "key": "k", "name": "m"}]}),
    "items within items": (GATHER, {"id": "f", "steps": [
        {"id": "a", "does": "ask"}, {"id": "b", "does": "ask", "parent": "a"}, {"id": "c", "does": "ask", "parent": "b"},
        {"id": "d", "does": "ask", "parent": "e"}, {"id": "e", "does": "ask", "parent": "d"}]}),
    "parts that may be missing": ('[[merge]]\nat = "$.steps[*]"\npattern = "{kin}[.{verb}]"\ninto = "does"\n' + STEP,
                                  {"id": "f", "steps": [{"id": "a", "kin": "ask"}, {"id": "b", "kin": "as", "verb": "k"}]}),
}  # fmt: skip


@pytest.mark.parametrize("title", EDGES)
def test_nothing_is_lost_at_the_edges_of_shapes(title: str) -> None:
    tables, document = EDGES[title]
    dialect = parse_dialect(
        'dialect = 1\nname = "made"\n[signature]\nall = ["$.steps"]\n[flow]\n' + tables, "made.toml"
    )
    tried, silent = silent_values(document, [dialect], random.Random(5))
    assert tried > 3 and silent == []


def test_parts_that_may_be_missing_are_left_out_of_a_merged_text() -> None:
    (flow,), _ = read_one(*EDGES["parts that may be missing"])
    assert [step.operation for step in flow.steps] == ["ask", "as.k"]


def test_keys_that_come_twice_in_a_text_are_told_and_empty_texts_are_not() -> None:
    _, problems = read_one('[[text]]\nat = "$.steps[*].given"\n' + STEP, one_step('{"brain": "x", "k": 1, "k": 2}'))
    assert [problem.code for problem in problems] == ["key-twice"]
    split = '[[split]]\nat = "$.steps[*].to"\npattern = "{way}={to}"\n'
    assert read_one(split + STEP, one_step({}, to=""))[1] == []


def test_a_text_that_is_part_of_a_flow_is_no_flow_of_its_own() -> None:
    inner = json.dumps({"id": "f", "steps": [{"id": "a", "does": "ask", "name": "Look"}, {"id": "b", "does": "ask"}]})
    tables = '[[text]]\nat = "$.body"\n' + STEP.replace("$.steps", "$.body.steps")
    flows, _ = read_one(tables, {"id": "f", "body": inner}, sign="$.id")
    assert [len(flow.steps) for flow in flows] == [2]


def test_texts_are_counted_before_more_of_them_are_read() -> None:
    text = json.dumps(list(range(100)))
    made = {"id": "f", "steps": [{"id": str(place), "does": "ask", "given": text} for place in range(300)]}
    flows, problems = read_one('[[text]]\nat = "$.steps[*].given"\n' + STEP, made, limits=Limits(values=20_000))
    assert flows == [] and [problem.code for problem in problems] == ["limit"]


def test_the_first_step_is_the_only_one_that_a_silent_trigger_starts() -> None:
    tables = '[trigger]\nat = "$.starts[*]"\noperation = "does"\n' + STEP
    made = {
        "id": "f",
        "go": "a",
        "starts": [{"does": "bell"}],
        "steps": [{"id": "a", "does": "ask"}, {"id": "b", "does": "ask"}],
    }
    (flow,), _ = read_one(tables, made, '[flow]\nfirst = "go"\n')
    assert [(link.source, link.target) for link in flow.links] == [("start", "a")]
    (flow,), problems = read_one(tables, {**made, "go": "gone"}, '[flow]\nfirst = "go"\n')
    assert {link.target for link in flow.links} == {"a", "b"} and flow.content.unread == 1
    assert any("expected the first step among the steps, found 'gone'" in problem.message for problem in problems)


@pytest.mark.parametrize("name", ["lines", "toml", "xml", "flat"])
def test_a_proposal_reads_other_kinds_of_files(name: str, tmp_path: Path, run: Run) -> None:
    folder = tmp_path / "in"
    folder.mkdir()
    for file, text in STRUCTURES[name].files().items():
        (folder / file).write_text(text)
    ran = run("dialect", "suggest", *sorted(str(path) for path in folder.iterdir()), "-o", "made.toml", cwd=tmp_path)
    assert ran.code == 0, ran.err
    ran = run("inventory", "in", "--dialect", "made.toml", "--no-cache", "-f", "json", cwd=tmp_path)
    flows = {row["name"]: row for row in json.loads(ran.out)["flows"]}
    assert set(flows) == {"Claims of passengers", "Tide notices"}, ran.err


def test_what_says_no_sort_stays_beside_the_lists_of_sorts() -> None:
    dialect = (
        'dialect = 1\nname = "b"\n[signature]\nall = ["$.parts"]\n[[divide]]\nat = "$.parts"\nby = "sort"\n[flow]\n'
    )
    dialect += '[step]\nat = "$.parts.task[*]"\noperation = "does"\n[order]\n'
    parts = [
        {"sort": "task", "id": "a", "does": "look"},
        {"odd": 1},
        7,
        {"sort": "task", "id": "b", "does": "look", "x": 2},
    ]
    reader = Reader([parse_dialect(dialect, "b.toml")])
    (flow,) = reader.flows_of([Held("b.json", json.dumps({"id": "f", "parts": parts}).encode())])
    assert [(step.id, step.origin.pointer if step.origin else "") for step in flow.steps] == [
        ("a", "/parts/0"),
        ("b", "/parts/3"),
    ]
    assert flow.unread == {"parts": {"@rest": [{"odd": 1}, 7]}} and flow.steps[1].unread == {"x": 2}

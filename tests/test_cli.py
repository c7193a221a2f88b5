"""Every command as its user runs it: the installed program on real files."""

from __future__ import annotations

import csv
import io
import json
import os
import pty
import re
import subprocess
import sys
from pathlib import Path

import pytest
from PIL import Image

from conftest import ESTATE, Run, read
from zeitbuch.app.schemas import SCHEMAS
from zeitbuch.cli.command_table import COMMANDS
from zeitbuch.core.model.fingerprint import fingerprint


def test_demo_runs_and_ends_with_files_to_open(tmp_path: Path, run: Run) -> None:
    ran = run("demo", "out")
    assert ran.code == 0 and ran.err == ""
    assert "$ zeitbuch inventory" in ran.out and "$ zeitbuch diff october november" in ran.out
    listed = [line.split()[0] for line in ran.out.split("Open next:")[1].splitlines() if line.strip()]
    assert len(listed) == 10 and all((tmp_path / name).is_file() for name in listed)
    pages = list((tmp_path / "out" / "documents").glob("*.html"))
    around = {"index", "summary", "owners", "folders", "connections", "models"}
    assert len(pages) == 17 + len(around) + 1
    assert all("<svg" in p.read_text() for p in pages if p.stem not in around)
    assert len(list((tmp_path / "out" / "maps").glob("*.svg"))) == 17
    again = run("demo", "out")
    assert again.code == 2 and "expected a new or empty folder" in again.err
    assert run("demo", "out", "--force", "--write-only").code == 0


@pytest.mark.parametrize("command", list(COMMANDS))
def test_help_has_an_example(command: str, run: Run) -> None:
    ran = run(command, "-h")
    assert ran.code == 0 and f"zeitbuch {command}" in ran.out and "example" in ran.out


def test_top_help_and_wrong_words(run: Run) -> None:
    assert all(name in run("--help").out for name in COMMANDS)
    assert run("--version").out.startswith("zeitbuch 0.")
    assert run().code == 2
    ran = run("estimat")
    assert ran.code == 2 and "did you mean 'estimate'?" in ran.err
    assert "it is called --clones now" in run("diff", "copies", "--twins").err
    assert run("inventory", "--colour").code == 2


def test_inventory_filters_and_sorting(demo: Path, run: Run) -> None:
    def names(*words: str) -> list[str]:
        ran = run("inventory", *words, "-f", "csv", cwd=demo)
        assert ran.code == 0, ran.err
        return [row["name"] for row in csv.DictReader(io.StringIO(ran.out))]

    assert len(names()) == 17
    assert names("--trigger", "schedule,polling") == [
        "Customer letters", "Handbook shelf", "Lost property matching", "Monthly punctuality report", "Passenger announcements",
        "Sailing statistics", "Weather warnings",
    ]  # fmt: skip
    assert names("--owner", "BREKKE") == ["Berth delay notices", "Customer letters", "Lost property matching"]
    assert names("--model", "skua") == ["Passenger announcements"]
    assert names("--pattern", "agent,dispatcher") == [
        "Customer letters",
        "Safety handbook assistant",
        "Timetable questions",
    ]
    assert names("--text", "emergency number") == ["Safety handbook assistant"]
    assert names("--ai", "--owner", "tveit", "--trigger", "event") == ["Cargo papers screening", "Invoice intake"]
    assert names("--sort", "steps")[0] == "Crew swap approvals"
    assert names("--sort", "changed")[0] == "Customer letters"
    assert names("--text", "no such words") == []
    assert "expected for --pattern one of" in run("inventory", "--pattern", "odd", cwd=demo).err


def test_inventory_table(demo: Path, run: Run) -> None:
    out = run("inventory", cwd=demo).out
    assert "Monday to Saturday" in out and "17 flows" in out and "5 different" in out
    assert "\x1b" not in out, "no colour in a pipe"
    assert max(map(len, out.splitlines())) <= 160
    assert run("inventory", "-o", "flows.csv", cwd=demo).out == ""
    assert (demo / "flows.csv").read_bytes().startswith(b"\xef\xbb\xbfid,name")


def test_standard_input_and_single_files(demo: Path, run: Run) -> None:
    raw = (ESTATE / "november" / "kvarte" / "letters.json").read_bytes()
    for words, data in (([str(demo / "november/kvarte/letters.json")], None), (["-"], raw)):
        ran = run("inventory", *words, "-f", "json", "--dialect", str(demo / "dialects/kvarte.toml"), stdin=data)
        assert ran.code == 0 and json.loads(ran.out)["flows"][0]["id"] == "letters"
    yaml = (ESTATE / "november" / "native" / "fault-logger.yaml").read_bytes()
    assert json.loads(run("inventory", "-", "-f", "json", stdin=yaml).out)["totals"]["flows"] == 1


def test_workspace_is_found_upwards(demo: Path, run: Run) -> None:
    below = demo / "november" / "kvarte"
    ran = run("inventory", "-f", "json", cwd=below)
    assert ran.code == 0 and json.loads(ran.out)["totals"]["flows"] == 17
    (demo / "zeitbuch.toml").write_text("sources = 5")
    ran = run("inventory", cwd=below)
    assert ran.code == 2 and "zeitbuch.toml:1: error: expected a list at" in ran.err


@pytest.mark.parametrize(
    ("name", "words"),
    [
        ("inventory", ["inventory"]),
        ("estimate", ["estimate"]),
        ("estimate", ["estimate", "--steps"]),
        ("diff", ["diff", "october", "november"]),
        ("clones", ["diff", "copies", "--clones"]),
        ("record", ["record", "october"]),
        ("sheet", ["history", "--book", "made.sqlite"]),
        ("explain", ["explain", "Customer letters"]),
        ("explain", ["explain", "Customer letters", "2.3"]),
        ("story", ["explain", "Customer letters", "--case", "refund"]),
        ("map", ["map", "--flow", "Customer letters"]),
        ("map", ["map", "--estate"]),
    ],
)
def test_json_output_keeps_its_schema(name: str, words: list[str], demo: Path, run: Run) -> None:
    import jsonschema  # takes seconds to load

    if "made.sqlite" in words:
        run("record", "october", "--book", "made.sqlite", cwd=demo)
    schema = json.loads(run("schema", name).out)
    jsonschema.Draft202012Validator.check_schema(schema)
    jsonschema.validate(json.loads(run(*words, "-f", "json", cwd=demo).out), schema)


# Files that are shipped or that the program writes -> their schema.
FILES = {
    "dialects/*.toml": "dialect", "proposed.toml": "dialect", "assumptions.toml": "assumptions", "measured.toml": "assumptions",
    "rates.toml": "rates", "scenarios/*.toml": "scenario", "zeitbuch.toml": "workspace", "usage/*.toml": "usage-mapping",
    "own/zeitbuch.toml": "workspace", "own/rates.toml": "rates", "own/assumptions.toml": "assumptions",
}  # fmt: skip


def test_files_keep_their_schemas(demo: Path, run: Run) -> None:
    import tomllib

    import jsonschema

    native = json.loads(run("convert", "-f", "json", cwd=demo).out)
    jsonschema.validate(native, json.loads(run("schema", "flow").out))
    run("calibrate", "--mapping", "usage/steps.toml", "-o", "measured.toml", cwd=demo)
    run("usage", "suggest", "usage/breakwater.csv", "-o", "usage/proposed.toml", cwd=demo)
    run("dialect", "suggest", "unknown", "-o", "proposed.toml", cwd=demo)
    (demo / "own").mkdir()
    assert run("init", cwd=demo / "own").code == 0
    for pattern, name in FILES.items():
        found = sorted(demo.glob(pattern))
        schema = json.loads(run("schema", name).out)
        assert found and schema["$id"] == f"urn:zeitbuch:schema:{name}", pattern
        for path in found:
            held = json.loads(json.dumps(tomllib.loads(path.read_text()), default=str))  # days as editors see them
            jsonschema.validate(held, schema, jsonschema.Draft202012Validator)
    native["flows"][0]["steps"][0]["kind"] = "magic"
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate(native, json.loads(run("schema", "flow").out))
    assert {row.name for row in SCHEMAS} <= set(run("schema", "-h").out.replace(",", " ").split())


@pytest.mark.parametrize("name", ["estate.yaml", "estate.json"])
def test_convert_keeps_the_fingerprints(name: str, demo: Path, run: Run) -> None:
    assert run("convert", "-o", name, cwd=demo).code == 0
    assert [fingerprint(f) for f in read(demo, name).flows] == [fingerprint(f) for f in read(demo, "november").flows]
    ran = run("diff", "november", name, cwd=demo)
    assert (ran.code, ran.err) == (0, "")


def test_convert_one_flow(demo: Path, run: Run) -> None:
    out = run("convert", "--flow", "Crew swap approvals", cwd=demo).out
    assert out.startswith("zeitbuch: 1\nflows:\n- id: crew-swap\n")


def test_map_of_one_and_all(demo: Path, run: Run) -> None:
    assert run("map", "--flow", "SH-1040", "-o", "one.png", "--scale", "1", cwd=demo).code == 0
    picture = Image.open(demo / "one.png")
    assert picture.width > 400 and len(picture.convert("RGB").getcolors(100_000) or []) > 50
    assert run("map", "-o", "maps", "-f", "png", "--scale", "0.5", cwd=demo).code == 0
    assert len(list((demo / "maps").glob("*.png"))) == 17
    ran = run("map", cwd=demo)
    assert ran.code == 2 and "expected one flow to draw, found 17" in ran.err
    assert "did you mean 'Customer letters'" in run("map", "--flow", "Custmer letters", cwd=demo).err


def test_estimate_charts_and_narrowing(demo: Path, run: Run) -> None:
    assert run("estimate", "-o", "cost.png", cwd=demo).code == 0
    assert Image.open(demo / "cost.png").width == 1280
    first, second = (run("estimate", "-f", "svg", cwd=demo).out for _ in range(2))
    assert first == second and "<svg" in first
    one = json.loads(run("estimate", "--flow", "Fault logger", "-f", "json", cwd=demo).out)
    assert [f["name"] for f in one["flows"]] == ["Fault logger"]
    # The caller's runs count although the caller is not shown.
    assert one["flows"][0]["runs"] > 40
    rows = list(csv.DictReader(io.StringIO(run("estimate", "--steps", "-f", "csv", cwd=demo).out)))
    assert len(rows) == 132 and all(r["flow"] for r in rows)


def test_estimate_without_rates_is_unknown(demo: Path, run: Run) -> None:
    (demo / "zeitbuch.toml").write_text('sources = ["november"]\ndialects = ["dialects/*.toml"]')
    out = run("estimate", cwd=demo).out
    assert "no rate card/run" in out and "?" in out and "no volume is known for" in out
    rows = list(csv.DictReader(io.StringIO(run("estimate", "-f", "csv", cwd=demo).out)))
    assert all(r["cost_run"] in ("", "?") for r in rows if r["output_tokens"] != "0")


def test_explain_finds_steps_by_name_and_says_what_there_is(demo: Path, run: Run) -> None:
    assert "Asks freight-officer to decide" in run("explain", "Cargo papers screening", "freight officer", cwd=demo).out
    ran = run("explain", "Cargo papers screening", "nothing", cwd=demo)
    assert ran.code == 2 and "steps: 1 Read the pages, 2 Check the stamps" in ran.err
    assert run("explain", "Nobody", cwd=demo).code == 2


def test_init_fills_in_what_it_finds(demo: Path, tmp_path: Path, run: Run) -> None:
    ran = run(
        "init",
        str(demo / "november"),
        *[w for p in sorted((demo / "dialects").glob("*.toml")) for w in ("--dialect", str(p))],
        "--into",
        "fresh",
    )
    assert ran.code == 0 and ran.out.count("written") == 3
    fresh = tmp_path / "fresh"
    assert 'name = "skua-voice-1"' in (fresh / "rates.toml").read_text()
    assert 'flow = "Crew swap approvals"' in (fresh / "assumptions.toml").read_text()
    ran = run("estimate", cwd=fresh)
    assert ran.code == 0 and re.search(r"rates.toml:\d+: warning: expected a \[\[model.price\]\] for", ran.err)
    assert run("init", "--into", "fresh").out.count("kept") == 3


def test_documents_are_the_same_bytes_in_every_process(demo: Path, run: Run) -> None:
    for seed in ("1", "2"):
        assert run("document", "-o", f"html{seed}", cwd=demo, PYTHONHASHSEED=seed).code == 0
        assert run("document", "-f", "markdown", "-o", f"md{seed}", cwd=demo, PYTHONHASHSEED=seed).code == 0
    for kind in ("html", "md"):
        files = sorted(p.relative_to(demo / f"{kind}1") for p in (demo / f"{kind}1").rglob("*") if p.is_file())
        assert len(files) > 35
        for name in files:
            assert (demo / f"{kind}1" / name).read_bytes() == (demo / f"{kind}2" / name).read_bytes()


def test_document_holds_what_a_reviewer_needs(demo: Path, run: Run) -> None:
    run("document", "--flow", "Cargo papers screening", "-o", "docs", cwd=demo)
    page = (demo / "docs" / "sh-1077.html").read_text()
    for words in (
        "Never complete a UN number from memory.", "freight-officer decides at", "Freight mailroom", "Dangerous goods?", "any class is set",
        "goes on at", "tried again once", "A run is based on", "I have read this and answer for it.", "fingerprint", "<svg", "data: answer of",
    ):  # fmt: skip
        assert words in page, words
    assert "<script" not in page and "http-equiv" not in page and "src=" not in page


def test_unwritable_output_is_said(demo: Path, run: Run) -> None:
    (demo / "file").write_text("")
    ran = run("inventory", "-o", "file/x.csv", cwd=demo)
    assert ran.code == 2 and "expected to write file/x.csv" in ran.err and "Traceback" not in ran.err
    assert "expected one of the formats" in run("inventory", "-o", "x.pdf", cwd=demo).err


def test_reader_that_leaves_early_is_no_error(demo: Path) -> None:
    program = f"{sys.executable} -m zeitbuch convert | head -1"
    done = subprocess.run(program, shell=True, cwd=demo, capture_output=True, text=True, check=False)
    assert done.stdout == "zeitbuch: 1\n" and done.stderr == ""


def test_colour_on_a_terminal_unless_unwanted(demo: Path) -> None:
    def shown(**env: str) -> bytes:
        ours, theirs = pty.openpty()
        process = subprocess.Popen(
            [sys.executable, "-m", "zeitbuch", "diff", "october", "november"], cwd=demo, stdout=theirs, stderr=theirs,
            env={k: v for k, v in {**os.environ, "TERM": "xterm", **env}.items() if k != "NO_COLOR" or v},
        )  # fmt: skip
        os.close(theirs)
        out = b""
        while True:
            try:
                piece = os.read(ours, 65536)
            except OSError:
                break
            if not piece:
                break
            out += piece
        process.wait()
        os.close(ours)
        return out

    assert b"\x1b[" in shown(NO_COLOR="")
    assert b"\x1b[" not in shown(NO_COLOR="1")


def test_all_that_the_templates_show_can_be_used(tmp_path: Path, run: Run) -> None:
    """Every commented key of the written files, with its comment sign taken away."""
    assert run("init", "--into", ".", cwd=tmp_path).code == 0
    for name in ("rates.toml", "assumptions.toml"):
        lines = (tmp_path / name).read_text().splitlines()
        bare = [m[1] if (m := re.match(r"# (\[.*|[a-z_]+ = .*)$", line)) else line for line in lines]
        (tmp_path / name).write_text("\n".join(bare))
    (tmp_path / "f.yaml").write_text(
        "zeitbuch: 1\nflows: [{id: f, triggers: [{id: t, kind: manual}], steps: [{id: a, kind: shape}]}]\n"
    )
    ran = run("estimate", "f.yaml", cwd=tmp_path)
    assert ran.code == 0, ran.err


def test_messages_are_explained_by_their_codes(run: Run) -> None:
    ran = run("explain", "--message", "link-end", COLUMNS="80")
    assert ran.code == 0 and ran.out.startswith("link-end") and "What to do:" in ran.out
    assert max(map(len, ran.out.splitlines())) <= 80
    ran = run("explain", "--message", "link-ends")
    assert ran.code == 2 and "near it: link-end" in ran.err
    assert "expected the id or name of a FLOW" in run("explain").err


def test_help_of_a_command_is_asked_by_its_name(run: Run) -> None:
    assert run("help").out == run("--help").out and run("help").code == 0
    asked = run("help", "reconcile")
    assert asked.out == run("reconcile", "--help").out and asked.code == 0
    assert "did you mean 'reconcile'" in run("help", "reconcil").err


def test_nothing_that_can_be_read_is_no_snapshot(run: Run, tmp_path: Path) -> None:
    for number, held in enumerate((b"", b"{}", b"{broken")):
        book = str(tmp_path / f"book{number}.sqlite")
        ran = run("record", "-", "--book", book, stdin=held)
        assert ran.code == 2 and "snapshot" not in ran.out and "<stdin>" in ran.err, ran
    folder = tmp_path / "exports"
    folder.mkdir()
    (folder / "a.json").write_text("{broken")
    assert run("record", str(folder), "--book", str(tmp_path / "b.sqlite")).code == 2
    assert "snapshot 1" not in run("history", "--book", str(tmp_path / "b.sqlite")).out


@pytest.mark.parametrize("words", [("explain", "--source", "bad.yaml", "X"), ("map", "bad.yaml", "--flow", "X")])
def test_what_could_not_be_read_is_told_where_a_flow_is_not_found(
    words: tuple[str, ...], tmp_path: Path, run: Run
) -> None:
    (tmp_path / "bad.yaml").write_text("not: [a flow\n")
    code, out, err = run(*words)
    assert (code, out) == (2, "") and err.index("bad.yaml:2:1: error") < err.index("found 'X' [flow-unknown]")

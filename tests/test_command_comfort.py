"""What makes the command line easy: variables, names of outputs, logs from a pipe, links, the manual page, schemas in editors."""

from __future__ import annotations

import argparse
import json
import os
import pty
import re
import shutil
import subprocess
import sys
from importlib import import_module
from pathlib import Path

import pytest

from conftest import Run
from zeitbuch.cli.command_table import COMMANDS
from zeitbuch.cli.reference import command_entries, manual_page
from zeitbuch.cli.shared.environment import VARIABLES
from zeitbuch.writers.theme.links import link_place

ROOT = Path(__file__).parent.parent


def test_the_environment_names_the_workspace_from_anywhere(run: Run, demo: Path, tmp_path: Path) -> None:
    elsewhere = tmp_path / "elsewhere"
    elsewhere.mkdir()
    here = run("inventory", "-f", "csv", cwd=demo).out
    for named in (demo, demo / "zeitbuch.toml"):
        found = run("inventory", "-f", "csv", cwd=elsewhere, ZEITBUCH_WORKSPACE=str(named))
        assert found.code == 0 and found.out.count("\n") == here.count("\n")
    (elsewhere / "zeitbuch.toml").write_text("sources = []\n")
    assert run("inventory", cwd=elsewhere, ZEITBUCH_WORKSPACE=str(demo)).code == 0
    lost = run("inventory", cwd=elsewhere, ZEITBUCH_WORKSPACE="nowhere.toml")
    assert lost.code == 2 and "nowhere.toml, which ZEITBUCH_WORKSPACE names" in lost.err
    assert run("inventory", "-f", "csv", cwd=demo, ZEITBUCH_WORKSPACE="").out == here


def test_the_environment_names_the_book_and_the_option_goes_before_it(run: Run, demo: Path) -> None:
    assert run("record", cwd=demo, ZEITBUCH_BOOK="named.sqlite").code == 0
    assert (demo / "named.sqlite").exists() and not (demo / "book.sqlite").exists()
    assert run("record", "--book", "other.sqlite", cwd=demo, ZEITBUCH_BOOK="named.sqlite").code == 0
    assert (demo / "other.sqlite").exists()


def test_the_environment_raises_limits_and_the_option_goes_before_it(run: Run, demo: Path) -> None:
    small = {"ZEITBUCH_LIMITS": "bytes=20 depth=300"}
    assert "bytes=20" in run("inventory", "--no-cache", cwd=demo, **small).err
    assert run("inventory", "--no-cache", "--limit", "bytes=90000000", cwd=demo, **small).code == 0
    wrong = run("inventory", cwd=demo, ZEITBUCH_LIMITS="bytes:20")
    assert wrong.code == 2 and "expected in ZEITBUCH_LIMITS NAME=NUMBER, found 'bytes:20'" in wrong.err


def test_a_template_names_a_map_for_each_flow(run: Run, demo: Path) -> None:
    assert run("map", "-o", "maps/{owner}/{flow}.svg", cwd=demo).code == 0
    made = sorted(path.relative_to(demo / "maps").as_posix() for path in (demo / "maps").rglob("*"))
    assert "ivar-lunde/weather-warnings.svg" in made and "ola-tveit/cargo-papers-screening.svg" in made
    flows = run("inventory", "-f", "csv", cwd=demo).out.count("\n") - 1
    assert len([name for name in made if name.endswith(".svg")]) == flows and "index.html" not in made
    assert run("map", "--flow", "letters", "-o", "one/{id}.html", cwd=demo).code == 0
    assert [path.name for path in (demo / "one").iterdir()] == ["letters.html"]


@pytest.mark.parametrize(
    ("template", "said"),
    [("{owner}.svg", "expected a file of its own for each flow"), ("{name}.svg", "expected one of {flow}, {id}")],
)
def test_a_template_that_cannot_name_them_writes_nothing(run: Run, demo: Path, template: str, said: str) -> None:
    before = sorted(demo.rglob("*"))
    found = run("map", "-o", template, cwd=demo)
    assert found.code == 2 and said in found.err and sorted(demo.rglob("*")) == before


def test_a_template_tells_what_cannot_be_drawn_and_draws_the_others(run: Run, demo: Path) -> None:
    found = run("map", "--around", "Desk", "-o", "maps/{flow}.svg", cwd=demo)
    assert found.code == 2 and [path.name for path in (demo / "maps").iterdir()] == ["customer-letters.svg"]


@pytest.mark.parametrize("log", ["breakwater.csv", "boathouse.parquet"])
def test_usage_logs_come_from_a_pipe(run: Run, demo: Path, log: str) -> None:
    mapping = f"usage/{log.partition('.')[0]}.toml"
    words = ("reconcile", "--mapping", mapping, "-f", "csv")
    piped = run(words[0], "-", *words[1:], cwd=demo, stdin=(demo / "usage" / log).read_bytes())
    assert piped.code == 0 and piped.out == run(*words, cwd=demo).out


def test_a_packed_log_comes_from_a_pipe(run: Run, demo: Path) -> None:
    import gzip

    for name, suffix in (("breakwater.csv", ".csv.gz"), ("lines.jsonl", ".jsonl.gz")):
        text = (
            (demo / "usage/breakwater.csv").read_bytes()
            if name.endswith("csv")
            else b'{"day": "2026-11-01", "calls": 3}\n' * 3
        )
        packed = gzip.compress(text)
        told = run("usage", "suggest", "-", cwd=demo, stdin=packed)
        assert told.code == 0 and f'files = ["stdin{suffix}"]' in told.out, told.err


def test_a_pipe_without_a_log_or_named_twice_is_told(run: Run, demo: Path) -> None:
    words = ("usage", "test", "--mapping", "usage/breakwater.toml")
    assert "found nothing [usage-empty]" in run(*words, "-", cwd=demo, stdin=b"\n").err
    assert "found it named twice" in run(*words, "-", "--source", "-", cwd=demo, stdin=b"x").err
    assert run("usage", "suggest", "-", cwd=demo, stdin=(demo / "usage/breakwater.csv").read_bytes()).code == 0


def on_terminal(words: list[str], cwd: Path, **env: str) -> str:
    """What a command shows on a terminal."""
    outer, inner = pty.openpty()
    command = [sys.executable, "-m", "zeitbuch", *words]
    plain = {key: value for key, value in os.environ.items() if key != "NO_COLOR"}
    with subprocess.Popen(
        command, cwd=cwd, stdout=inner, stderr=inner, env={**plain, "COLUMNS": "400", **env}
    ) as running:
        os.close(inner)
        shown = b""
        while True:
            try:
                piece = os.read(outer, 65536)
            except OSError:  # the other end is closed
                break
            if not piece:
                break
            shown += piece
        running.wait(timeout=120)
    os.close(outer)
    return shown.decode()


def test_places_are_links_on_a_terminal_that_can(demo: Path) -> None:
    address = f"\x1b]8;;{(demo / 'november/kvarte/letters.json').as_uri()}\x1b\\november/kvarte/letters.json:"
    assert address in on_terminal(["check"], demo, TERM="xterm-256color")
    assert "\x1b]8;;" not in on_terminal(["check"], demo, TERM="linux")
    assert "\x1b]8;;" not in on_terminal(["check"], demo, TERM="xterm", NO_COLOR="1")
    told = on_terminal(["inventory", "zeitbuch.toml"], demo, TERM="xterm")
    assert f"\x1b]8;;{(demo / 'zeitbuch.toml').as_uri()}\x1b\\zeitbuch.toml\x1b]8;;\x1b\\: error" in told


def test_only_what_is_a_file_is_a_link(tmp_path: Path) -> None:
    file = tmp_path / "a b.zip"
    file.write_bytes(b"")
    assert link_place(f"{file}!inner.json:3").startswith(f"\x1b]8;;{file.as_uri()}\x1b\\{file}!inner.json:3")
    for text in ("", "nowhere.json:3", str(tmp_path), "x" * 5000, "a\0b"):
        assert link_place(text) == text


def options_of(parser: argparse.ArgumentParser) -> set[str]:
    found = set()
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            found |= set().union(*map(options_of, action.choices.values()))
        elif action.help != argparse.SUPPRESS:
            found |= set(action.option_strings) - {"-h", "--help"}
    return found


@pytest.mark.parametrize("name", COMMANDS)
def test_the_references_name_every_option_of_every_command(name: str) -> None:
    parser = argparse.ArgumentParser()
    import_module(f"zeitbuch.cli.options.{name}").add(parser)
    entries = [entry for entry in command_entries() if entry.name.split()[1] == name]
    typed = " ".join(option.typed for entry in entries for _, options in entry.groups for option in options)
    assert options_of(parser) <= set(re.findall(r"(?<![\w-])--?[a-z][a-z-]*", typed))
    assert all(option.about for entry in entries for _, options in entry.groups for option in options)
    assert all(entry.about for entry in entries)


def test_the_manual_page_is_shown_without_a_complaint() -> None:
    if shutil.which("groff") is None:
        pytest.skip("no groff on this machine")
    page = ROOT / "docs" / "zeitbuch.1"
    shown = subprocess.run(["groff", "-man", "-Tutf8", "-ww", "-z", str(page)], capture_output=True, text=True)
    assert shown.returncode == 0 and not shown.stderr
    text = subprocess.run(
        ["groff", "-man", "-Tascii", "-P-c", "-P-b", "-P-u", "-P-o", str(page)], capture_output=True, text=True
    ).stdout
    assert (
        "zeitbuch estimate" in text and "--max-per-month X" in text and "-o maps/{flow}.svg" in " ".join(text.split())
    )
    for variable in VARIABLES:
        assert variable.name in text
    assert manual_page("9.9").startswith('.TH ZEITBUCH 1 "" "zeitbuch 9.9"')


def test_a_native_file_may_name_its_schema(run: Run, demo: Path) -> None:
    import jsonschema

    run("convert", "november/native", "-f", "json", "-o", "flows.json", cwd=demo)
    flows = {"$schema": "flow.schema.json", **json.loads((demo / "flows.json").read_text())}
    (demo / "flows.json").write_text(json.dumps(flows))
    found = run("inventory", "flows.json", "-f", "csv", cwd=demo)
    assert found.code == 0 and not found.err and "Fault logger" in found.out
    jsonschema.validate(flows, json.loads(run("schema", "flow", cwd=demo).out))


@pytest.mark.parametrize(
    ("words", "expected"),
    [
        (["list"], "expected WHAT (one of: connections, prompts,"),
        (["impact"], "expected THING (what is gone, such as model:NAME"),
        (["document", "x.json"], "expected -o/--output (folder for the documents"),
        (["usage", "suggest"], "expected FILE (a usage log"),
        (["dialect"], "expected suggest|test|list, found nothing; `zeitbuch dialect -h`"),
    ],
)
def test_an_argument_that_is_missing_is_told_with_what_it_may_be(words: list[str], expected: str, run: Run) -> None:
    ran = run(*words)
    assert ran.code == 2 and expected in ran.err and "SOURCE," not in ran.err.splitlines()[-1]

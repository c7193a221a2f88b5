"""TOML files of every kind: read within limits, told with their lines."""

from __future__ import annotations

import os
import subprocess
import sys
import threading
from pathlib import Path

import pytest

from conftest import Run
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.readers.config.figures import ASSUMPTIONS, load_assumptions, load_rates, load_scenario
from zeitbuch.readers.config.workspace import load_workspace
from zeitbuch.readers.dialects.rules import load_dialect
from zeitbuch.readers.input.toml_files import MOST_BYTES, load_toml

LOADERS = {
    "rates": load_rates, "assumptions": load_assumptions, "scenario": lambda path: load_scenario(path, None), "dialect": load_dialect,
    "workspace": load_workspace,
}  # fmt: skip
# What each costs a parser when nothing is counted before: time or memory without bounds, or a traceback.
HOSTILE = {
    "lists in lists": ("a = " + "[" * 100_000, "toml-size"),
    "tables in tables": ("a = " + "{a=" * 100_000, "toml-size"),
    "a key of many parts": (".".join(["a"] * 100_000) + " = 1", "toml-size"),
    "a header of many parts": ("x = 1\n[" + ".".join(["a"] * 100_000) + "]", "toml-size"),
    "a long number": ("a = " + "9" * 100_000, "toml-size"),
    "a long fraction": ("a = 0." + "9" * 100_000, "toml-size"),
    "quoted parts": (".".join(['"a"'] * 1000) + " = 1", "toml-size"),
    "no end of a text": ('a = "' + "x" * 100_000, "-syntax"),
    "a number beyond all numbers": ("x = 1\na = 1e999", "-key"),
    "not a number": ("a = nan", "-key"),
    "bytes of no text": ("a = 'é'".encode("latin-1"), "-unreadable"),
}


@pytest.mark.parametrize("kind", list(LOADERS))
@pytest.mark.parametrize("case", list(HOSTILE))
def test_hostile_files_are_refused_with_their_line(kind: str, case: str, tmp_path: Path) -> None:
    text, code = HOSTILE[case]
    path = tmp_path / "a.toml"
    path.write_bytes(text if isinstance(text, bytes) else text.encode())
    with pytest.raises(ZeitbuchError) as caught:
        LOADERS[kind](str(path))
    problem = caught.value.problem
    # A rate card reads numbers as decimals: there 1e999 is one, and the key is unknown.
    assert code in problem.code and problem.origin is not None and problem.origin.source == str(path)
    assert problem.origin.line is not None or code == "-unreadable"


@pytest.mark.parametrize("kind", list(LOADERS))
def test_an_unknown_key_is_told_with_its_line(kind: str, tmp_path: Path) -> None:
    path = tmp_path / "a.toml"
    path.write_text("# a comment\n\nnobody_knows_this = 1\n")
    with pytest.raises(ZeitbuchError) as caught:
        LOADERS[kind](str(path))
    assert str(caught.value.problem.origin) == f"{path}:3#" or caught.value.problem.origin.line == 3  # type: ignore[union-attr]


def test_texts_and_comments_count_as_no_nesting(tmp_path: Path) -> None:
    path = tmp_path / "a.toml"
    brackets = "[" * 200
    path.write_text(
        f"# {brackets}\nx = '{brackets}'\ny = \"\"\"{brackets}\n{'a.' * 200}\"\"\"\nz = '''{'9' * 1000}'''\n"
    )
    assert set(load_toml(str(path), dict, ASSUMPTIONS)[0]) == {"x", "y", "z"}


def test_what_gives_no_end_is_cut_off(tmp_path: Path) -> None:
    with pytest.raises(ZeitbuchError, match=f"at most {MOST_BYTES:,} bytes"):
        load_assumptions("/dev/zero")
    with pytest.raises(ZeitbuchError, match="a folder"):
        load_assumptions(str(tmp_path))
    with pytest.raises(ZeitbuchError, match="No such file"):
        load_assumptions(str(tmp_path / "none.toml"))


def test_a_pipe_is_read_and_one_without_a_writer_does_not_hang(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    pipe = tmp_path / "pipe"
    os.mkfifo(pipe)
    writer = threading.Thread(target=lambda: pipe.write_text("[[assume]]\nflow = 'a'\nruns = 4\n"))
    writer.start()
    found, _ = load_assumptions(str(pipe))
    writer.join()
    assert len(found.assume) == 1
    monkeypatch.setattr("zeitbuch.readers.input.toml_files._WAIT", 0.2)
    with pytest.raises(ZeitbuchError, match="a pipe that gave nothing"):
        load_assumptions(str(pipe))


def test_the_program_names_file_and_line(tmp_path: Path, run: Run) -> None:
    (tmp_path / "rates.toml").write_text("[[model]]\nname = 'a'\nprice = [[[[" + "[" * 500)
    (tmp_path / "a.json").write_text('{"zeitbuch": 1, "flows": []}')
    told = run("estimate", "a.json", "--rates", "rates.toml")
    assert told.code == 2 and "rates.toml:3" in told.err and "[toml-size]" in told.err


def test_a_file_from_a_process_is_read(demo: Path) -> None:
    """``--rates <(command)`` of a shell: a pipe by another name."""
    line = f"{sys.executable} -m zeitbuch estimate --rates <(cat rates.toml) -f json -q"
    done = subprocess.run(["bash", "-c", line], cwd=demo, capture_output=True, check=False)
    assert done.returncode == 0 and b'"zeitbuch"' in done.stdout, done.stderr

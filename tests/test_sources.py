"""Where exports come from: odd files in folders, odd names, devices, pipes, and git as it stores things."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import Run
from test_bad_input import GOOD


def test_a_pipe_in_a_folder_is_passed_over(tmp_path: Path, run: Run) -> None:
    folder = tmp_path / "in"
    folder.mkdir()
    (folder / "good.json").write_text(GOOD)
    os.mkfifo(folder / "wait.json")
    (folder / "loop.json").symlink_to(folder / "loop.json")
    (folder / "link.json").symlink_to(folder / "good.json")
    ran = run("inventory", "in", "--format", "json")
    assert len(json.loads(ran.out)["flows"]) == 2  # the file and the link to it


def test_a_pipe_that_is_named_is_read_and_a_device_is_not(tmp_path: Path, run: Run) -> None:
    pipe = tmp_path / "pipe.json"
    os.mkfifo(pipe)
    writer = subprocess.Popen([sys.executable, "-c", f"open({str(pipe)!r}, 'w').write({GOOD!r})"])
    assert "Good" in run("inventory", "pipe.json").out
    assert writer.wait(10) == 0
    ran = run("inventory", "/dev/zero")
    assert ran.code == 2 and "found a device" in ran.err


def test_names_of_any_bytes_and_lengths(tmp_path: Path, run: Run) -> None:
    folder = tmp_path / "in"
    folder.mkdir()
    (Path(os.fsdecode(os.fsencode(str(folder)) + b"/\xff\xfe.json"))).write_text(GOOD)
    (folder / "Fähre-船.json").write_text(GOOD.replace("good", "two"))
    for form in ("table", "csv", "json", "jsonl", "markdown"):
        ran = run("inventory", "in", "--format", form)
        assert ran.code == 0 and "Traceback" not in ran.err, (form, ran.err)
    for locale in ("C", "POSIX", "de_DE.ISO-8859-1"):
        ran = run("inventory", "in", LC_ALL=locale, PYTHONIOENCODING="", PYTHONUTF8="")
        assert ran.code == 0, (locale, ran.err)
    ran = run("inventory", "x" * 300)
    assert ran.code == 2 and "found nothing of that name" in ran.err and "Traceback" not in ran.err


def test_absolute_patterns_of_dialects(demo: Path, tmp_path: Path, run: Run) -> None:
    folder = tmp_path / "work"
    folder.mkdir()
    (folder / "zeitbuch.toml").write_text(f'dialects = ["{demo}/dialects/*.toml"]\nsources = ["{demo}/november"]\n')
    ran = run("inventory", "--format", "json", cwd=folder)
    assert ran.code == 0 and json.loads(ran.out)["totals"]["flows"] > 10


def git(folder: Path, *words: str) -> str:
    name = ["-c", "user.name=A", "-c", "user.email=a@example.com", "-c", "protocol.file.allow=always"]
    return subprocess.run(["git", *name, *words], cwd=folder, check=True, capture_output=True, text=True).stdout


@pytest.fixture
def repository(tmp_path: Path) -> Path:
    folder = tmp_path / "repo"
    folder.mkdir()
    git(folder, "init", "-q")
    (folder / "a.json").write_text(GOOD)
    (folder / "b.json").write_text(GOOD.replace("good", "two").replace("Good", "Two"))
    (folder / ".gitattributes").write_text("b.json export-ignore\n")
    git(folder, "add", ".")
    git(folder, "commit", "-qm", "one")
    return folder


def test_git_reads_what_an_archive_would_leave_out(repository: Path, run: Run) -> None:
    ran = run("diff", "git:HEAD", ".", cwd=repository)
    assert ran.code == 0, ran.out
    rows = json.loads(run("inventory", "git:HEAD", "--format", "json", cwd=repository).out)["flows"]
    assert [row["name"] for row in rows] == ["Good", "Two"]


def test_git_writes_nothing(repository: Path, run: Run) -> None:
    def objects() -> list[str]:
        return sorted(str(path) for path in (repository / ".git").rglob("*") if path.is_file())

    (repository / "c.json").write_text(GOOD.replace("good", "three"))
    git(repository, "add", "c.json")
    before = objects()
    rows = json.loads(run("inventory", "git::", "--format", "json", cwd=repository).out)["flows"]
    assert len(rows) == 3 and objects() == before


def test_git_says_that_submodules_are_left_out(repository: Path, tmp_path: Path, run: Run) -> None:
    outer = tmp_path / "outer"
    outer.mkdir()
    git(outer, "init", "-q")
    (outer / "a.json").write_text(GOOD)
    git(outer, "submodule", "--quiet", "add", str(repository), "inner")
    git(outer, "add", ".")
    git(outer, "commit", "-qm", "two")
    ran = run("inventory", "git:HEAD", cwd=outer)
    assert ran.code == 0 and "Good" in ran.out and "left out: inner" in ran.err


@pytest.mark.parametrize("encoding", ["utf-16", "utf-16-le", "utf-16-be", "utf-8-sig", "utf-32"])
@pytest.mark.parametrize("suffix", ["json", "yaml"])
def test_encodings_that_say_what_they_are(encoding: str, suffix: str, tmp_path: Path, run: Run) -> None:
    (tmp_path / f"x.{suffix}").write_bytes(GOOD.replace("Good", "Gööd").encode(encoding))
    ran = run("inventory", f"x.{suffix}")
    assert ran.code == 0 and "Gööd" in ran.out, ran.err


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("x.json", GOOD.replace('"kind": "shape"', '"kind": "shape", "kind": "read"')),
        (
            "x.yaml",
            "zeitbuch: 1\nflows:\n- id: a\n  name: First\n  name: Second\n  triggers: [{id: t, kind: manual}]\n",
        ),
    ],
)
def test_keys_that_occur_twice_are_told(name: str, text: str, tmp_path: Path, run: Run) -> None:
    (tmp_path / name).write_text(text)
    ran = run("inventory", name)
    assert ran.code == 0 and "[key-twice]" in ran.err and ("'kind'" in ran.err or "'name'" in ran.err)


@pytest.mark.parametrize(
    "words",
    [["check", "nowhere"], ["estimate", "nowhere"], ["inventory", "nowhere"], ["impact", "model:x", "nowhere"], ["diff", "nowhere", "x.json"], ["diff", "x.json", "nowhere"]],
)  # fmt: skip
def test_of_a_source_that_is_not_there_nothing_is_said(words: list[str], run: Run, tmp_path: Path) -> None:
    """A misspelt name is no estate without faults, and no version from which every flow was removed."""
    (tmp_path / "x.json").write_text('{"a": 1}')
    ran = run(*words)
    assert (ran.code, ran.out) == (2, "") and "[source-missing]" in ran.err and "nowhere" in ran.err


def test_of_several_sources_that_are_not_there_all_are_told(run: Run, tmp_path: Path) -> None:
    (tmp_path / "bare").mkdir()
    for command in ("inventory", "check", "estimate"):
        ran = run(command, "nowhere", "elsewhere", "bare")
        assert (ran.code, ran.out) == (2, "") and "nowhere: error" in ran.err
        assert "nothing to read is at elsewhere, bare either" in ran.err
    (tmp_path / "x.json").write_text(json.dumps({"zeitbuch": 1, "flows": [{"id": "f", "steps": []}]}))
    ran = run("inventory", "x.json", "nowhere")  # what is there is read
    assert ran.code == 2 and "1 flow" in ran.out and "nowhere: error" in ran.err


def test_where_no_flow_was_read_no_finding_is_told(run: Run, tmp_path: Path) -> None:
    (tmp_path / "x.json").write_text('{"a": 1}')
    assert "no flow was read" in run("estimate", "x.json").out
    assert run("check", "x.json").out == "No flow was read; nothing was checked.\n"
    assert run("impact", "model:x", "x.json").out == "No flow was read.\n"

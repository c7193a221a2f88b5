"""Flows whose parts stand in several files: in folders, packages, revisions and the book, and where one of the files is missing
or cannot be read."""

from __future__ import annotations

import json
import shutil
import subprocess
import zipfile
from pathlib import Path
from typing import Any

import pytest

from conftest import Run
from structures import STRUCTURES

TWO = STRUCTURES["two files"]
CUT = '{"ropes": ['


@pytest.fixture
def estate(tmp_path: Path) -> Path:
    """A workspace with two flows of two files each."""
    (tmp_path / "made.toml").write_text(TWO.dialect)
    (tmp_path / "zeitbuch.toml").write_text('dialects = ["made.toml"]\nsources = ["in"]\n')
    (tmp_path / "in").mkdir()
    for name, text in TWO.files().items():
        (tmp_path / "in" / name).write_text(text)
    return tmp_path


def take_rope(folder: Path) -> None:
    """Take out the link that the fault of a step takes."""
    path = folder / "claims.ropes.json"
    made: dict[str, Any] = json.loads(path.read_text())
    made["ropes"] = [rope for rope in made["ropes"] if rope["way"] != "broken"]
    path.write_text(json.dumps(made))


REMOVED = "error route removed: ‘File the claim’ to ‘Tell the desk’"


def test_a_file_beside_that_is_missing_is_told_and_parts_are_no_errors(tmp_path: Path, run: Run) -> None:
    structure = STRUCTURES["two files"]
    (tmp_path / "made.toml").write_text(structure.dialect)
    folder = tmp_path / "in"
    folder.mkdir()
    for name, text in structure.files().items():
        (folder / name).write_text(text)
    done = run("inventory", "in", "--dialect", "made.toml", "--no-cache", cwd=tmp_path)
    assert done.code == 0 and "2 flows" in done.out and "error" not in done.err
    done = run(
        "inventory",
        *sorted(f"in/{name}" for name in structure.files()),
        "--dialect",
        "made.toml",
        "--no-cache",
        cwd=tmp_path,
    )
    assert done.code == 0 and "2 flows" in done.out, done.err  # as a shell names them all
    done = run("dialect", "test", "in", "--dialect", "made.toml", "-f", "csv", cwd=tmp_path)
    assert done.code == 0 and "ropes" not in done.out
    (folder / "tides.ropes.json").unlink()
    done = run("inventory", "in", "--dialect", "made.toml", cwd=tmp_path)
    assert done.code == 0 and "beside-missing" in done.err and "'tides.ropes.json'" in done.err
    (folder / "tides.steps.json").rename(folder / "else.steps.json")
    (folder / "lost.ropes.json").write_text('{"ropes": []}')
    done = run("inventory", "in", "--dialect", "made.toml", cwd=tmp_path)
    assert done.code == 2 and "lost.ropes.json" in done.err


def test_a_version_differs_where_only_a_file_beside_does(estate: Path, run: Run) -> None:
    shutil.copytree(estate / "in", estate / "new")
    take_rope(estate / "new")
    for sources in (("in", "new"), ("in", "new", "--no-cache"), ("in", "new")):
        done = run("diff", *sources, cwd=estate)
        assert "1 flow changed, 1 unchanged" in done.out and REMOVED in done.out, done
    for name in ("in", "new"):
        with zipfile.ZipFile(estate / f"{name}.zip", "w") as package:
            for path in sorted((estate / name).iterdir()):
                package.write(path, f"all/{path.name}")
    assert REMOVED in run("diff", "in.zip", "new.zip", cwd=estate).out


def test_the_book_has_a_version_where_only_a_file_beside_changed(estate: Path, run: Run) -> None:
    assert "2 added" in run("record", cwd=estate).out
    assert run("review", "sign", "claims", "--role", "owner", "--by", "Maren Dahl", cwd=estate).code == 0
    take_rope(estate / "in")
    roles = json.loads(run("review", "status", "-f", "json", cwd=estate).out)["flows"][0]["roles"]
    assert (roles[0]["state"], roles[0]["why"]) == ("stale", [f"{REMOVED}: broken"])  # nothing else changed
    done = run("record", cwd=estate)
    assert "1 changed" in done.out and REMOVED in done.out
    done = run("diff", "@1", "@2", cwd=estate)
    assert REMOVED in done.out and "error" not in done.err
    done = run("inventory", "@1", cwd=estate)
    assert done.code == 0 and "2 flows" in done.out and "beside-missing" not in done.err
    done = run("history", "claims", "--now", cwd=estate)
    assert done.code == 0 and REMOVED[:30] in done.out and "beside" not in done.err
    done = run("restore", "claims@1", "-o", "claims.json", cwd=estate)
    assert "claims.ropes.json with it: `zeitbuch restore @1 -o FOLDER`" in done.out + done.err


@pytest.mark.parametrize("broken", ["claims.ropes.json", "claims.steps.json"])
def test_half_a_flow_is_no_version(broken: str, estate: Path, run: Run) -> None:
    """Whichever of its files is damaged: no link is gone, and none is back when it is mended."""
    whole = (estate / "in" / broken).read_text()
    run("record", cwd=estate)
    (estate / "in" / broken).write_text(CUT)
    done = run("record", cwd=estate)
    assert done.code == 2 and "0 added, 0 changed, 0 removed" in done.out and "json-syntax" in done.err
    done = run("inventory", cwd=estate)
    assert done.code == 2 and "Tide notices" in done.out and "Claims" not in done.out
    done = run("diff", "@1", "in", cwd=estate)
    assert "0 flows changed" not in done.out and "1 removed" not in done.out and "nor unchanged: ‘Claims of" in done.out
    assert broken in done.err
    (estate / "in" / broken).write_text(whole)
    assert "0 added, 0 changed, 0 removed" in run("record", cwd=estate).out
    (estate / "in" / broken).write_text(CUT)
    run("record", cwd=estate)
    (estate / "in" / broken).write_text(whole)
    take_rope(estate / "in")
    done = run("record", cwd=estate)
    assert "0 added, 1 changed, 0 removed" in done.out and REMOVED in done.out


def test_a_file_beside_that_cannot_be_read_is_said_where_it_belongs(estate: Path, run: Run) -> None:
    (estate / "in" / "claims.ropes.json").write_text(CUT)
    done = run("inventory", "in/claims.steps.json", cwd=estate)
    assert done.code == 2 and "Claims" not in done.out
    assert "claims.steps.json: error: expected the file 'claims.ropes.json' beside it whole" in done.err
    assert "in/claims.ropes.json:1:12" in done.err and "beside-unread" in done.err
    (estate / "in" / "claims.ropes.json").write_text(json.dumps({"ropes": [], "more": "x" * 3000}))
    done = run("inventory", "in/claims.steps.json", "--limit", "bytes=2000", cwd=estate)
    assert done.code == 2 and "beside-unread" in done.err and "Claims" not in done.out


def test_revisions_are_looked_into_even_for_a_single_file(estate: Path, run: Run) -> None:
    for words in (["init", "-q"], ["add", "in"], ["commit", "-qm", "one"]):
        subprocess.run(["git", "-c", "user.name=A", "-c", "user.email=a@b.example", *words], cwd=estate, check=True)
    take_rope(estate / "in")
    for old, new in (("git:HEAD:in", "in"), ("git:HEAD:in/claims.steps.json", "in/claims.steps.json")):
        done = run("diff", old, new, cwd=estate)
        assert REMOVED in done.out and "beside-missing" not in done.err, done
    done = run("inventory", "git:HEAD:claims.steps.json", "--dialect", "../made.toml", cwd=estate / "in")
    assert done.code == 0 and "beside" not in done.err
    done = run("inventory", "-", cwd=estate, stdin=(estate / "in" / "claims.steps.json").read_bytes())
    assert "found standard input, which has no folder" in done.err and "beside-missing" in done.err

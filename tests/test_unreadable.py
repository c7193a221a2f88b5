"""A file that cannot be read says nothing about its flows: no command says that they were added or removed."""

from __future__ import annotations

import json
import zipfile
from pathlib import Path

import pytest

from conftest import Run
from test_bad_input import STEPS, native


def folder_of(base: Path, name: str, **texts: str | bytes) -> Path:
    folder = base / name
    folder.mkdir()
    for file, text in texts.items():
        (folder / f"{file}.json").write_bytes(text if isinstance(text, bytes) else text.encode())
    return folder


def flow(key: str, **more: object) -> bytes:
    return native(id=key, name=key.title(), **more)


def test_diff_does_not_tell_an_unreadable_flow_as_removed_or_added(tmp_path: Path, run: Run) -> None:
    folder_of(tmp_path, "old", a=flow("a"), b=flow("b"), c=b"{")
    folder_of(tmp_path, "new", a=flow("a", steps=STEPS), b=b'{"zeitbuch": 1, "flows": [', c=flow("c"))
    ran = run("diff", "old", "new", "--format", "json")
    assert ran.code == 2
    told = json.loads(ran.out)
    assert [(one["id"], one["status"]) for one in told["flows"]] == [("a", "changed")]
    assert [(one["id"], one["missing_in"]) for one in told["unreadable"]] == [("b", "new"), ("c", "old")]
    assert "2 flows could not be read in one of the versions" in told["refused"]
    text = run("diff", "old", "new").out
    assert "Could not be read in the new version, so neither removed nor unchanged: ‘B’ (old/b.json)." in text
    assert "Could not be read in the old version, so neither added nor unchanged: ‘C’ (new/c.json)." in text
    assert '"status":"unreadable"' in run("diff", "old", "new", "-f", "jsonl").out
    assert "unreadable in the new version" in run("diff", "old", "new", "--summary").out
    # Flows that really went are told as before.
    (tmp_path / "new" / "b.json").unlink()
    ran = run("diff", "old", "new", "--format", "json")
    assert ("b", "removed") in [(one["id"], one["status"]) for one in json.loads(ran.out)["flows"]]


def test_diff_of_two_files(tmp_path: Path, run: Run) -> None:
    (tmp_path / "x.json").write_bytes(flow("a"))
    (tmp_path / "y.json").write_text("{")
    ran = run("diff", "x.json", "y.json")
    assert ran.code == 2 and "1 could not be read" in ran.out and "1 removed" not in ran.out


def test_a_fault_in_part_of_a_file_or_package(tmp_path: Path, run: Run) -> None:
    """One flow of a file, one member of a package: what else stands there is compared, what cannot be read is not removed."""
    both = json.loads(flow("a"))
    both["flows"] += json.loads(flow("b"))["flows"]
    folder_of(tmp_path, "one", pair=json.dumps(both))
    both["flows"][1]["name"] = 7
    folder_of(tmp_path, "two", pair=json.dumps(both))
    ran = run("diff", "one", "two", "--format", "json")
    assert ran.code == 2 and json.loads(ran.out)["flows"] == []
    assert [one["name"] for one in json.loads(ran.out)["unreadable"]] == ["B"]
    for name, member in (("old.zip", flow("c")), ("new.zip", b"{")):
        with zipfile.ZipFile(tmp_path / name, "w") as package:
            package.writestr("a.json", flow("a"))
            package.writestr("c.json", member)
    ran = run("diff", "old.zip", "new.zip", "--format", "json")
    assert ran.code == 2 and json.loads(ran.out)["flows"] == []
    assert [one["name"] for one in json.loads(ran.out)["unreadable"]] == ["C"]


def test_record_keeps_an_unreadable_flow_living(tmp_path: Path, run: Run) -> None:
    folder = folder_of(tmp_path, "in", a=flow("a"), b=flow("b"))
    assert run("record", "in", "--at", "2026-01-01").code == 0
    good = (folder / "b.json").read_bytes()
    (folder / "b.json").write_bytes(good[:-3])
    ran = run("record", "in", "--at", "2026-01-02")
    assert ran.code == 2 and "could not be read, neither removed nor unchanged: B" in ran.out
    assert "could not be read: B" in run("history").out
    (folder / "b.json").write_bytes(flow("b", steps=STEPS))
    assert run("record", "in", "--at", "2026-01-03").code == 0
    told = json.loads(run("history", "b", "--format", "json").out)["rows"]
    assert [(one["version"], one["snapshot"]) for one in told] == [(1, "@1"), (None, "@2"), (2, "@3")]
    assert told[1]["what"] == "could not be read (b.json); version 1 stays the current one"
    assert told[2]["what"] != "added"


CUT = (b"", b"{", b'{"error": "no such session"}', b"<html><body>Sign in</body></html>")


@pytest.mark.parametrize("cut", CUT, ids=["empty", "cut", "other", "page"])
def test_a_download_that_failed_removes_no_flow(tmp_path: Path, run: Run, cut: bytes) -> None:
    """Whatever stands where a flow stood: the file is there, so nobody can say that the flow is gone. Once the file is gone, it is."""
    folder = folder_of(tmp_path, "in", a=flow("a"), b=flow("b"))
    run("record", "in", "--at", "2026-01-01")
    (folder / "b.json").rename(folder / "moved.json")
    run("record", "in", "--at", "2026-01-02")  # the file has another name since
    (folder / "moved.json").write_bytes(cut)
    assert [one["name"] for one in json.loads(run("diff", "@latest", "in", "-f", "json").out)["unreadable"]] == ["B"]
    ran = run("record", "in", "--at", "2026-01-03", "--strict")
    assert ran.code == 2 and "record-unread" in ran.err and "snapshot 3" not in run("history").out
    assert run("history").out.count("@") == 2
    for day, more in ((3, "steps"), (4, "name")):  # it stays unreadable while others change
        (folder / "a.json").write_bytes(flow("a", steps=STEPS) if more == "steps" else flow("a"))
        ran = run("record", "in", "--at", f"2026-01-0{day}")
        assert "could not be read, neither removed nor unchanged: B" in ran.out, ran
    rows = json.loads(run("history", "b", "-f", "json").out)["rows"]
    assert [one["version"] for one in rows] == [1, None] and "moved.json" in rows[1]["what"]
    assert json.loads(run("restore", "B@latest").out)["flows"][0]["id"] == "b"
    (folder / "moved.json").unlink()
    assert "1 removed" in run("record", "in", "--at", "2026-01-05").out
    rows = json.loads(run("history", "b", "-f", "json").out)["rows"]
    assert [one["version"] for one in rows] == [1, None, 2] and rows[2]["what"] == "removed"


def test_a_flow_that_could_not_be_read_is_taken_for_no_other(tmp_path: Path, run: Run) -> None:
    """A copy with another id beside an unreadable file is an added flow, no renamed one."""
    folder = folder_of(tmp_path, "in", a=flow("a", steps=STEPS), b=flow("b"))
    run("record", "in", "--at", "2026-01-01")
    (folder / "a.json").write_bytes(b"{")
    (folder / "c.json").write_bytes(flow("c", steps=STEPS))
    told = json.loads(run("diff", "@1", "in", "-f", "json").out)
    assert [(one["id"], one["status"]) for one in told["flows"]] == [("c", "added")]
    ran = run("record", "in", "--at", "2026-01-02")
    assert "1 added, 0 changed, 0 removed" in ran.out and "nor unchanged: A" in ran.out
    (folder / "a.json").write_bytes(flow("a", steps=STEPS))
    assert "0 added, 0 changed, 0 removed" in run("record", "in", "--at", "2026-01-03").out


def test_documents_name_what_could_not_be_read(tmp_path: Path, run: Run) -> None:
    folder_of(tmp_path, "in", a=flow("a"), b=b"{")
    assert run("document", "in", "-o", "docs", "--format", "markdown").code == 2
    assert "could not be read: in/b.json" in (tmp_path / "docs" / "index.md").read_text()

"""A file that cannot be read says nothing about its flows: no command says that they were added or removed."""

from __future__ import annotations

import json
import zipfile
from pathlib import Path

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
    assert [(one["id"], one["status"]) for one in json.loads(ran.out)["flows"]] == [("a", "changed")]
    assert "flow 'B', found that its file could not be read whole in the new one" in ran.err
    assert "flow 'C', found that its file could not be read whole in the old one" in ran.err
    # Flows that really went are told as before.
    (tmp_path / "new" / "b.json").unlink()
    ran = run("diff", "old", "new", "--format", "json")
    assert ("b", "removed") in [(one["id"], one["status"]) for one in json.loads(ran.out)["flows"]]


def test_diff_of_two_files(tmp_path: Path, run: Run) -> None:
    (tmp_path / "x.json").write_bytes(flow("a"))
    (tmp_path / "y.json").write_text("{")
    ran = run("diff", "x.json", "y.json")
    assert ran.code == 2 and "removed" not in ran.out and "flow-unread" in ran.err


def test_a_fault_in_part_of_a_file_or_package(tmp_path: Path, run: Run) -> None:
    """One flow of a file, one member of a package: what else stands there is compared, what cannot be read is not removed."""
    both = json.loads(flow("a"))
    both["flows"] += json.loads(flow("b"))["flows"]
    folder_of(tmp_path, "one", pair=json.dumps(both))
    both["flows"][1]["name"] = 7
    folder_of(tmp_path, "two", pair=json.dumps(both))
    ran = run("diff", "one", "two", "--format", "json")
    assert ran.code == 2 and json.loads(ran.out)["flows"] == [] and "flow 'B'" in ran.err
    for name, member in (("old.zip", flow("c")), ("new.zip", b"{")):
        with zipfile.ZipFile(tmp_path / name, "w") as package:
            package.writestr("a.json", flow("a"))
            package.writestr("c.json", member)
    ran = run("diff", "old.zip", "new.zip", "--format", "json")
    assert ran.code == 2 and json.loads(ran.out)["flows"] == [] and "flow 'C'" in ran.err


def test_record_keeps_an_unreadable_flow_living(tmp_path: Path, run: Run) -> None:
    folder = folder_of(tmp_path, "in", a=flow("a"), b=flow("b"))
    assert run("record", "in", "--at", "2026-01-01").code == 0
    good = (folder / "b.json").read_bytes()
    (folder / "b.json").write_bytes(good[:-3])
    assert run("record", "in", "--at", "2026-01-02").code == 2
    (folder / "b.json").write_bytes(flow("b", steps=STEPS))
    assert run("record", "in", "--at", "2026-01-03").code == 0
    told = json.loads(run("history", "b", "--format", "json").out)["rows"]
    assert [(one["version"], one["snapshot"]) for one in told] == [(1, "@1"), (2, "@3")] and told[1]["what"] != "added"


def test_documents_name_what_could_not_be_read(tmp_path: Path, run: Run) -> None:
    folder_of(tmp_path, "in", a=flow("a"), b=b"{")
    assert run("document", "in", "-o", "docs", "--format", "markdown").code == 2
    assert "could not be read: in/b.json" in (tmp_path / "docs" / "index.md").read_text()

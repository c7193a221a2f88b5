"""Lines of a book, notes and marks, versions of flows as sources, books of an earlier form or that can only be read."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import Run, draws
from test_bad_input import STEPS
from test_book import place, zb  # noqa: F401
from test_unreadable import flow, folder_of
from zeitbuch.book.contents import MOST_DIFFERENCES, apply_difference, line_difference
from zeitbuch.book.records import File, manifest, sha256
from zeitbuch.book.store import Book
from zeitbuch.book.verify import verify_book


def test_two_lines_do_not_remove_each_others_flows(tmp_path: Path, run: Run) -> None:
    dev = folder_of(tmp_path, "dev", a=flow("a"), b=flow("b"))
    folder_of(tmp_path, "prod", a=flow("a"))
    run("record", "dev", "--line", "dev", "--at", "2026-01-01")
    first = run("record", "prod", "--line", "prod", "--at", "2026-01-01")
    assert first.out.startswith("snapshot prod:1 ") and "1 added, 0 changed, 0 removed" in first.out
    (dev / "b.json").write_bytes(flow("b", steps=STEPS))
    assert "0 added, 1 changed, 0 removed" in run("record", "dev", "--line", "dev", "--at", "2026-01-02").out
    assert "nothing new since snapshot prod:1" in run("record", "prod", "--line", "prod").out
    lines = json.loads(run("history", "--lines", "-f", "json").out)["rows"]
    assert [(one["line"], one["snapshots"], one["flows"]) for one in lines] == [("dev", 2, 2), ("prod", 1, 1)]
    rows = json.loads(run("history", "--line", "dev", "-f", "json").out)
    assert [row["snapshot"] for row in rows["rows"]] == ["@dev:1", "@dev:2"]
    assert rows["notes"][-1] == "The book has other lines: prod (--line NAME)."
    assert [row["version"] for row in json.loads(run("history", "b", "--line", "dev", "-f", "json").out)["rows"]] == [
        1,
        2,
    ]
    assert run("history", "b", "--line", "prod").code == 2
    # A state of each is a source.
    told = json.loads(run("diff", "@prod:latest", "@dev:latest", "-f", "json").out)["flows"]
    assert [(one["id"], one["status"]) for one in told] == [("b", "added")]
    told = json.loads(run("diff", "@dev:1", "@dev:2026-01-02", "-f", "json").out)["flows"]
    assert [(one["id"], one["status"]) for one in told] == [("b", "changed")]
    assert run("inventory", "@latest").code == 2  # no line is named, and the one without a name holds nothing
    (tmp_path / "zeitbuch.toml").write_text('line = "dev"\nsources = ["dev"]\n')
    assert "No change of meaning" in run("diff", "@latest").out
    assert run("restore", "B@dev:1", "-o", "b.json").code == 0
    assert (tmp_path / "b.json").read_bytes() == flow("b")
    assert run("restore", "@prod:1", "-o", "back").code == 0 and [p.name for p in (tmp_path / "back").iterdir()] == [
        "a.json"
    ]
    assert run("history", "--verify").out.startswith("whole: 3 entries")


def ids(inventory: str) -> list[str]:
    return [row["id"] for row in json.loads(inventory)["flows"]]


def test_a_version_of_a_flow_is_a_source(tmp_path: Path, run: Run) -> None:
    both = json.loads(flow("a"))
    both["flows"] += json.loads(flow("b"))["flows"]
    folder = folder_of(tmp_path, "in", pair=json.dumps(both))
    run("record", "in", "--at", "2026-01-01")
    both["flows"][0]["steps"] = STEPS
    both["flows"][1]["steps"] = STEPS[:1]
    (folder / "pair.json").write_text(json.dumps(both))
    run("record", "in", "--at", "2026-01-02")
    told = json.loads(run("diff", "A@1", "A@2", "-f", "json").out)
    assert [(one["id"], one["status"]) for one in told["flows"]] == [("a", "changed")] and not told["unchanged"]
    assert ids(run("inventory", "b@latest", "-f", "json").out) == ["b"]
    assert ids(run("inventory", "a@2026-01-01", "b@1", "-f", "json").out) == ["a", "b"]
    assert "A" in run("map", "A@1", "-f", "text").out
    assert "book-unknown" in run("inventory", "a@9").err and "flow-unknown" in run("inventory", "zz@1").err
    # A file of such a name is that file.
    (tmp_path / "a@1").mkdir()
    shutil.copy(folder / "pair.json", tmp_path / "a@1" / "x.json")
    assert ids(run("inventory", "a@1", "-f", "json").out) == ["a", "b"]


def test_notes_and_marks(tmp_path: Path, run: Run) -> None:
    folder = folder_of(tmp_path, "in", a=flow("a"))
    run("record", "in", "--at", "2026-01-01", "--note", "the first")
    ran = run("record", "in", "--note", "nothing came in January", "--by", "Ola Tveit")
    assert "nothing new since snapshot 1" in ran.out and "the note was added to it" in ran.out
    (folder / "a.json").write_bytes(flow("a", steps=STEPS))
    run("record", "in")
    assert run("history", "@1", "--mark", "seen", "--by", "Maren Dahl").out == "@1: marked seen by Maren Dahl\n"
    assert run("history", "A@2", "--mark", "accepted", "--note", "agreed with the desk", "--by", "Maren Dahl").code == 0
    rows = json.loads(run("history", "-f", "json").out)["rows"]
    assert rows[0]["note"].startswith("the first; Ola Tveit, ") and rows[0]["note"].endswith("nothing came in January")
    assert rows[0]["marks"].startswith("seen by Maren Dahl, ") and rows[1]["marks"] == ""
    rows = json.loads(run("history", "A", "-f", "json").out)["rows"]
    assert rows[0]["said"] == "" and "agreed with the desk; accepted by Maren Dahl" in rows[1]["said"]
    assert run("history", "--verify").out.startswith("whole: 5 entries")
    with sqlite3.connect(tmp_path / "book.sqlite") as c:
        c.execute("UPDATE zb_entry SET body = replace(body, 'accepted', 'seen') WHERE kind = 'note'")
    assert run("history", "--verify").code == 1
    for words in (["history", "--note", "x"], ["history", "A", "--mark", "seen"], ["history", "A@9", "--note", "x"]):
        assert run(*words).code == 2


def test_the_head_is_said_and_what_followed_it(tmp_path: Path, run: Run) -> None:
    folder = folder_of(tmp_path, "in", a=flow("a"))
    head = run("record", "in", "--at", "2026-01-01").out.splitlines()[-1].rpartition(" ")[2]
    assert run("history", "--verify").out.splitlines()[1] == head
    (folder / "a.json").write_bytes(flow("a", steps=STEPS))
    run("record", "in", "--at", "2026-01-02", "--by", "Ola Tveit")
    ran = run("history", "--verify", "--head", head)
    assert ran.code == 0 and "that of entry 1; 1 entry since" in ran.out
    assert "entry 2: snapshot @2 by Ola Tveit, 2026-01-02T00:00:00Z" in ran.out
    assert run("history", "--verify", "--head", head[:12]).code == 0
    for wrong in ("a", head[:11], "no hash at all", head + "0"):
        ran = run("history", "--verify", "--head", wrong)
        assert ran.code == 2 and "12 to 64 hexadecimal digits" in ran.err
    ran = run("history", "--verify", "--head", "f" * 64, "-f", "json")
    told = json.loads(ran.out)
    assert ran.code == 1 and told["entries"] == 2 and "no entry has the hash" in told["wrong"][0]


def as_form_1(path: Path) -> None:
    """A book as it was before there were lines."""
    with sqlite3.connect(path) as c:
        for table, column in (
            ("zb_content", "base"),
            ("zb_entry", "line"),
            *[("zb_version", name) for name in ("line", "author", "edited")],
        ):
            c.execute(f"ALTER TABLE {table} DROP COLUMN {column}")
        c.execute("UPDATE zb_setting SET value = '1'")


def test_a_book_of_the_earlier_form_is_read_and_written_on(tmp_path: Path, run: Run) -> None:
    folder = folder_of(tmp_path, "in", a=flow("a"), b=flow("b"))
    run("record", "in", "--at", "2026-01-01")
    head = run("history", "--verify").out.splitlines()[1]
    as_form_1(tmp_path / "book.sqlite")
    before = (tmp_path / "book.sqlite").read_bytes()
    assert run("history", "--verify").out.splitlines()[1] == head
    assert "@1" in run("history").out and "nothing new" not in run("inventory", "@1").err
    assert run("restore", "A@1").out == flow("a").decode()
    assert (tmp_path / "book.sqlite").read_bytes() == before  # reading alters nothing
    (folder / "b.json").write_bytes(flow("b", steps=STEPS))
    assert "1 changed" in run("record", "in", "--at", "2026-01-02").out
    assert run("record", "in", "--line", "prod").code == 0
    ran = run("history", "--verify", "--head", head)
    assert ran.code == 0 and "2 entries since" in ran.out


ODD = ("100% of it.sqlite", "what?.sqlite", "a#b.sqlite", "with space & ü.sqlite", "c%20d.sqlite")


@pytest.mark.parametrize("name", ODD)
def test_a_path_is_that_path(tmp_path: Path, run: Run, name: str) -> None:
    folder_of(tmp_path, "in", a=flow("a"))
    assert run("record", "in", "--book", name).code == 0
    assert (tmp_path / name).is_file()
    assert run("history", "--verify", "--book", name).out.startswith("whole: 1 entry")
    assert sorted(p.name for p in tmp_path.glob("*.sqlite")) == [name]


@pytest.mark.parametrize("log", ["none", "left", "shared"])
def test_a_book_that_can_only_be_read(tmp_path: Path, run: Run, log: str) -> None:
    """A backup, a colleague's folder: who may only read opens it; a log left beside it is part of it."""
    bare: list[str] = []
    if os.getuid() == 0:  # who may write everywhere gives that up first
        if shutil.which("setpriv") is None:
            pytest.skip("root without setpriv may write everywhere")
        bare = ["setpriv", "--bounding-set=-all", "--inh-caps=-all"]
    folder = folder_of(tmp_path, "in", a=flow("a"))
    run("record", "in", "--at", "2026-01-01")
    kept = sqlite3.connect(tmp_path / "book.sqlite")
    kept.execute("SELECT count(*) FROM zb_entry").fetchone()  # keeps the log from being written back
    (folder / "a.json").write_bytes(flow("a", steps=STEPS))
    run("record", "in", "--at", "2026-01-02")
    (folder / "b.json").write_bytes(flow("b"))
    backup = tmp_path / "backup"
    backup.mkdir()
    names = {"none": [], "left": ["-wal"], "shared": ["-wal", "-shm"]}[log]
    if log == "none":
        kept.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    for suffix in ["", *names]:
        shutil.copy(f"{tmp_path / 'book.sqlite'}{suffix}", f"{backup / 'book.sqlite'}{suffix}")
    for path in [*backup.iterdir(), backup]:
        path.chmod(0o555 if path.is_dir() else 0o444)
    program = str(Path(sys.executable).parent / "zeitbuch")
    before = sorted(backup.iterdir())
    reading: list[list[str]] = [["history"], ["history", "--verify"], ["restore", "A@2"], ["diff", "@1", "@2"]]
    for words in [*reading, ["record", "../in"]]:
        done = subprocess.run(
            [*bare, program, *words, "--book", "book.sqlite", "--no-cache"], cwd=backup, capture_output=True, check=False,
        )  # fmt: skip
        said = done.stdout.decode() + done.stderr.decode()
        assert "Traceback" not in said
        assert done.returncode == {"record": 2, "diff": 1}.get(words[0], 0), said
        if words[0] == "record":
            assert "can only be read" in said, said
    assert sorted(backup.iterdir()) == before
    backup.chmod(0o755)
    kept.close()


def test_letters_that_a_database_refuses(tmp_path: Path, zb, place: str) -> None:  # type: ignore[no-untyped-def]  # noqa: F811
    name = "nul \0 and no more"
    raw = json.dumps({"zeitbuch": 1, "flows": [{"id": "x\0y", "name": name, "steps": []}]})
    folder = tmp_path / "odd"
    folder.mkdir()
    (folder / "a.json").write_text(raw)
    (folder / os.fsdecode(b"b\xff.json")).write_bytes(flow("b"))
    said = zb("record", str(folder), "--by", "A\udce4", "--note", "half \ud83d")
    assert "2 added" in said
    assert "whole: 1 entry" in zb("history", "--verify")
    (folder / "a.json").write_text(raw.replace('"steps": []', '"description": "more", "steps": []'))
    assert "1 changed" in zb("record", str(folder))
    rows = json.loads(zb("history", "nul", "-f", "json"))["rows"]
    assert [row["version"] for row in rows] == [1, 2]


WRONG_PLACES = (
    "postgresql://h:port/x",
    "postgresql://h:99999999/x",
    "postgresql:///%zz?host=",
    "://",
    "sqlite:////proc/nowhere/all.sqlite",
    "postgresql://me:hush@[::1/x",
)


@pytest.mark.parametrize("where", WRONG_PLACES)
def test_wrong_places_are_told(tmp_path: Path, run: Run, where: str) -> None:
    folder_of(tmp_path, "in", a=flow("a"))
    for words in (["history"], ["record", "in"]):
        ran = run(*words, "--book", where)
        assert ran.code == 2 and "fault of Zeitbuch" not in ran.err and "hush" not in ran.err, ran


def test_lists_are_kept_as_differences(tmp_path: Path) -> None:
    """Of snapshots with one file changed each, and each list comes back as it was."""
    states = draws(110, 200)
    book = Book(str(tmp_path / "book.sqlite"), create=True)
    files = {f"folder/{n:04}.json": sha256(f"{n}".encode()) for n in range(500)}
    lists = []
    for state in range(states):
        files[f"folder/{state % 500:04}.json"] = sha256(f"state {state}".encode())
        listed = [File(*pair) for pair in files.items()]
        lists.append(manifest(listed))
        with book.writing() as writing:
            writing.add_snapshot(listed, [], f"2026-01-01T00:{state // 60:02}:{state % 60:02}Z", "t", "")
    with book.reading() as reading:
        assert [manifest(reading.files(entry)) for entry in reading.snapshots()] == lists
        stored = reading.packed([sha256(one) for one in lists])
    assert sum(not one.base for one in stored.values()) == -(-states // MOST_DIFFERENCES)
    differences = [one for one in stored.values() if one.base]
    assert len(differences) > states - 10 and sum(len(one.data) for one in differences) / len(differences) < 400


def test_differences_of_lines() -> None:
    for base, data in ((b"", b"x"), (b"a\nb\nc\n", b"b\nc\na\n"), (b"a\na\n", b"a\na\na\n"), (b"x\n", b"")):
        assert apply_difference(base, line_difference(base, data), len(data)) == data


def test_a_difference_that_grows_without_end_is_cut(tmp_path: Path) -> None:
    from zeitbuch.book.contents import DamagedError, Packed, unpack

    base = b"x" * 1000 + b"\n"
    import zlib

    bomb = zlib.compress(json.dumps([[0, 1]] * 100_000).encode())
    with pytest.raises(DamagedError):
        unpack(Packed("0" * 64, 100_000, bomb, "1" * 64), base)
    with pytest.raises(DamagedError):
        unpack(Packed(sha256(b"a"), 1, zlib.compress(b"a" * 10_000_000)))


def test_a_book_of_several_lines_verifies(tmp_path: Path) -> None:
    book = Book(str(tmp_path / "book.sqlite"), create=True)
    for n, line in enumerate(("", "dev", "", "dev", "prod")):
        with book.writing() as writing:
            writing.put_contents([b"x"])
            writing.add_snapshot([File("a", sha256(b"x"))], [], f"2026-01-0{n + 1}T00:00:00Z", "t", "", line=line)
    assert not verify_book(book).wrong
    with book.reading() as reading:
        assert [(e.line, e.number) for e in reading.snapshots(None)] == [
            ("", 1),
            ("dev", 1),
            ("", 2),
            ("dev", 2),
            ("prod", 1),
        ]
        assert reading.lines() == ["", "dev", "prod"]


def test_a_feed_of_what_happened_since(tmp_path: Path, run: Run) -> None:
    folder = folder_of(tmp_path, "in", a=flow("a"), b=flow("b"))
    run("record", "in", "--at", "2026-01-01")
    (folder / "a.json").write_bytes(flow("a", steps=STEPS))
    run("record", "in", "--at", "2026-01-02", "--by", "Ola Tveit")
    (folder / "b.json").write_bytes(b"{")
    (folder / "c.json").write_bytes(flow("c"))
    run("record", "in", "--at", "2026-01-03")
    (folder / "d.json").write_bytes(flow("d"))
    run("record", "in", "--at", "2026-01-04")
    lines = [json.loads(line) for line in run("history", "--since", "@1", "-f", "jsonl").out.splitlines()]
    assert [(one["snapshot"], one["flow"], one["version"], one["status"]) for one in lines] == [
        ("@2", "A", 2, "changed"),
        ("@3", "C", 1, "added"),
        ("@3", "B", None, "unreadable"),
        ("@4", "D", 1, "added"),
    ]
    assert lines[0]["who"] == "Ola Tveit" and lines[0]["what"].startswith("step added")
    assert len(run("history", "--since", "@2026-01-03", "-f", "jsonl").out.splitlines()) == 1
    assert run("history", "--since", "@latest").code == 0 and run("history", "--since", "@9").code == 2


def test_lines_in_python(tmp_path: Path) -> None:
    import zeitbuch

    folder_of(tmp_path, "in", a=flow("a"))
    book = str(tmp_path / "book.sqlite")
    for line in ("", "prod"):
        taken = zeitbuch.record(str(tmp_path / "in"), book=book, by="t", line=line, strict=True)
        assert (taken.snapshot, taken.line, len(taken.head)) == (1, line, 64)
    assert len(zeitbuch.history(book, line="prod").to_frame()) == 1
    assert zeitbuch.restore("A@prod:1", book) == flow("a")
    assert [one.id for one in zeitbuch.read("A@prod:latest", book=book).flows] == ["a"]

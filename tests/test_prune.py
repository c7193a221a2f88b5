"""What a rule lets go, and what stays: the chain, what each snapshot said, and every byte that a kept snapshot needs."""

from __future__ import annotations

import datetime
import io
import json
import tarfile
import zipfile
from pathlib import Path

import pytest

from conftest import Run
from test_bad_input import STEPS
from test_book import place  # noqa: F401
from test_unreadable import flow, folder_of
from zeitbuch.book.prune import PruneRule, plan_pruning, prune_book, snapshots_to_prune
from zeitbuch.book.records import Entry, File, manifest, sha256
from zeitbuch.book.store import Book
from zeitbuch.book.verify import verify_book

TODAY = "2026-06-30T12:00:00Z"


def entries(*days: str) -> list[Entry]:
    return [Entry(n, "snapshot", n, f"{day}T10:00:00Z", "t", "", "{}", "") for n, day in enumerate(days, 1)]


RULES: list[tuple[PruneRule, list[int]]] = [
    (PruneRule(90, "month"), [1, 3]),
    (PruneRule(0, "month"), [1, 3, 6]),
    (PruneRule(10_000, "none"), []),
    (PruneRule(90, "none"), [1, 2, 3, 4]),
    (PruneRule(0, "year"), [1, 2, 3, 4, 5, 6]),
    (PruneRule(0, "week"), [3]),
    (PruneRule(0, "day"), []),
]


@pytest.mark.parametrize(("rule", "gone"), RULES)
def test_rules(rule: PruneRule, gone: list[int]) -> None:
    snapshots = entries(
        "2026-01-01", "2026-01-31", "2026-02-10", "2026-02-12", "2026-05-01", "2026-06-01", "2026-06-29"
    )
    assert [entry.number for entry in snapshots_to_prune(snapshots, set(), rule, TODAY)] == gone
    accepted = set(gone[:1])
    assert [e.number for e in snapshots_to_prune(snapshots, accepted, rule, TODAY)] == gone[1:]


def test_what_is_kept_comes_back_and_the_chain_holds(place: str) -> None:  # noqa: F811
    """Of a year of snapshots every six days, on two lines, one file of 40 changing each time."""
    book = Book(place, create=True)
    kept: dict[tuple[str, int], bytes] = {}
    start = datetime.date(2025, 7, 1)
    for line, shift in (("", 0), ("dev", 7)):
        files = {f"{n}.json": b"%d of %d" % (n, shift) for n in range(40)}
        for day in range(0, 364, 6):
            files[f"{(day // 6) % 40}.json"] = b"%s day %d" % (line.encode(), day // 18)  # some states come back
            listed = [File(name, sha256(data)) for name, data in files.items()]
            at = f"{start + datetime.timedelta(days=day)}T00:00:00Z"
            with book.writing() as writing:
                writing.put_contents(files.values())
                number = writing.add_snapshot(listed, [], at, "t", "", line=line).number
            kept[line, number] = manifest(listed)
    head = verify_book(book).head
    planned = plan_pruning(book, "", PruneRule(), TODAY)
    assert 28 < len(planned.snapshots) < 55 and planned.bytes > 0
    done = prune_book(book, "", PruneRule(), TODAY, "Maren Dahl")
    assert (done.snapshots, done.contents, done.bytes) == (planned.snapshots, planned.contents, planned.bytes)
    verdict = verify_book(book, head=head)
    assert not verdict.wrong and verdict.followed == (f"entry {verdict.entries}: prune 1 by Maren Dahl, {TODAY}",)
    with book.reading() as reading:
        for entry in reading.snapshots(None):
            if entry.line == "" and entry.number in done.snapshots:
                continue
            files_there = reading.files(entry)
            assert manifest(files_there) == kept[entry.line, entry.number]
            assert set(reading.contents(file.hash for file in files_there)) == {file.hash for file in files_there}
    assert prune_book(book, "", PruneRule(), TODAY, "x").snapshots == ()  # nothing is left to do
    prune_book(book, "dev", PruneRule(0, "none"), TODAY, "x")
    assert not verify_book(book).wrong


def test_pruning_by_the_program(tmp_path: Path, run: Run) -> None:
    folder = folder_of(tmp_path, "in", a=flow("a"), b=flow("b"))
    for day, steps in enumerate((0, 1, 2, 3), 1):
        (folder / "a.json").write_bytes(flow("a", steps=STEPS[:steps]))
        run("record", "in", "--at", f"2026-01-0{day}")
    run("history", "@2", "--mark", "accepted", "--by", "Ola Tveit")
    ran = run("history", "--prune", "--keep-days", "5", "--then", "none")
    assert ran.out.startswith("would be taken out: 2 snapshots, ") and "(@1, @3); --yes does it" in ran.out
    assert run("restore", "@1", "-o", "one").code == 0
    before = (tmp_path / "book.sqlite").stat().st_size
    ran = run("history", "--prune", "--keep-days", "5", "--then", "none", "--yes", "--by", "Maren Dahl")
    assert ran.out.startswith("taken out: 2 snapshots, ") and (tmp_path / "book.sqlite").stat().st_size <= before
    for words in (["restore", "@1", "-o", "two"], ["diff", "@3", "@4"], ["restore", "A@1"], ["inventory", "A@3"]):
        ran = run(*words)
        assert ran.code == 2 and "Maren Dahl took them out on " in ran.err and "all of 5 days, then none" in ran.err
    assert run("restore", "A@2").out == flow("a", steps=STEPS[:1]).decode()
    assert len(json.loads(run("history", "A", "-f", "json").out)["rows"]) == 4  # what they said stays
    assert run("history", "--verify").out.startswith("whole: 6 entries")
    assert run("history", "--export", "b.tar").code == 0
    assert run("history", "--import", "b.tar", "--book", "new.sqlite").code == 0
    assert run("history", "--verify", "--book", "new.sqlite").out == run("history", "--verify").out
    assert run("history", "--prune", "--keep-days", "5", "--then", "none").out.startswith("nothing to take out")
    assert run("history", "--prune", "--keep-days", "-1").code == 2
    (folder / "a.json").write_bytes(flow("a"))
    assert "1 changed" in run("record", "in").out


def test_the_last_version_of_an_unreadable_flow_is_kept(tmp_path: Path, run: Run) -> None:
    folder = folder_of(tmp_path, "in", a=flow("a"), b=flow("b"))
    run("record", "in", "--at", "2026-01-01")
    (folder / "a.json").write_bytes(b"{")
    run("record", "in", "--at", "2026-01-02")
    run("history", "--prune", "--keep-days", "0", "--then", "none", "--yes")
    assert run("restore", "A@latest").out == flow("a").decode()
    # It stands in the list of no snapshot that is kept, and belongs to the book all the same: also after a move.
    assert run("history", "--verify").out.startswith("whole: ")
    assert (
        run("history", "--export", "b.tar").code == 0
        and run("history", "--import", "b.tar", "--book", "new.sqlite").code == 0
    )
    assert run("restore", "A@latest", "--book", "new.sqlite").out == flow("a").decode()
    assert run("history", "--verify", "--book", "new.sqlite").out == run("history", "--verify").out


def test_archives_that_are_not_whole_leave_nothing_behind(tmp_path: Path, run: Run) -> None:
    folder_of(tmp_path, "in", a=flow("a"), b=flow("b"))
    run("record", "in", "--at", "2026-01-01")
    run("history", "--export", "b.tar")
    with tarfile.open(tmp_path / "b.tar") as archive:
        members = {info.name: archive.extractfile(info).read() for info in archive}  # type: ignore[union-attr]

    def written(name: str, held: dict[str, bytes]) -> str:
        with tarfile.open(tmp_path / name, "w") as archive:
            for member, data in held.items():
                info = tarfile.TarInfo(member)
                info.size = len(data)
                archive.addfile(info, io.BytesIO(data))
        return name

    originals = [name for name in members if name.startswith("originals/")]
    ways = [{k: v for k, v in members.items() if k != name} for name in members]
    ways.append({**members, "originals/" + sha256(b"more"): b"more"})
    ways.append({**members, "else.txt": b"x"})
    ways.append({**members, originals[0]: b"x"})
    ways.append({**members, "book.jsonl": members["book.jsonl"][:-30]})
    ways.append({**members, "book.jsonl": b"\n".join(members["book.jsonl"].splitlines()[:-1])})
    for number, held in enumerate(ways):
        ran = run("history", "--import", written(f"w{number}.tar", held), "--book", "new.sqlite")
        assert ran.code == 2 and "book-archive" in ran.err, (number, ran)
        assert not list(tmp_path.glob("new.sqlite*"))
    (tmp_path / "cut.tar").write_bytes((tmp_path / "b.tar").read_bytes()[:3000])
    assert run("history", "--import", "cut.tar", "--book", "new.sqlite").code == 2
    assert not list(tmp_path.glob("new.sqlite*"))


def test_restoring_overwrites_nothing_and_merges_nothing(tmp_path: Path, run: Run) -> None:
    folder_of(tmp_path, "one", a=flow("a"))
    folder_of(tmp_path, "two", a=flow("b"))
    run("record", "one", "--book", "x.sqlite")
    run("record", "two", "--book", "y.sqlite", "--line", "dev")
    # Two states with a file of one name each.
    (tmp_path / "zeitbuch.toml").write_text("")
    run("record", "one", "--at", "2026-01-01")
    run("record", "two", "--line", "dev", "--at", "2026-01-01")
    assert run("record", "@main:1", "@dev:1", "--line", "both").code == 0
    assert run("restore", "@both:1", "-o", "out").code == 0
    held = sorted(path.read_bytes() for path in (tmp_path / "out").rglob("*.json"))
    assert held == sorted([flow("a"), flow("b")])
    names = sorted(str(path.relative_to(tmp_path / "out")) for path in (tmp_path / "out").rglob("*.json"))
    assert names == ["a.json", "source-2/a.json"]  # no part of the state's name is in them
    assert run("restore", "@both:1", "-o", "out").code == 0  # the same bytes are no loss
    (tmp_path / "out" / "a.json").write_bytes(b"made by hand")
    ran = run("restore", "@both:1", "-o", "out")
    assert ran.code == 2 and "1 file that would be overwritten: a.json" in ran.err
    assert (tmp_path / "out" / "a.json").read_bytes() == b"made by hand"
    assert run("restore", "A@1", "-o", "out/a.json").code == 2
    assert run("restore", "A@1", "-o", "out/a.json", "--overwrite").code == 0
    assert run("restore", "@both:1", "-o", "out").code == 0


@pytest.mark.parametrize("kind", ["zip", "tar", "tar.gz"])
def test_one_member_back_into_its_package(tmp_path: Path, run: Run, kind: str) -> None:
    def package(**held: bytes) -> bytes:
        made = io.BytesIO()
        if kind == "zip":
            with zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as target:
                for name, data in held.items():
                    target.writestr(f"flows/{name}.json", data)
        else:
            with tarfile.open(fileobj=made, mode="w:gz" if kind == "tar.gz" else "w") as target:
                for name, data in held.items():
                    info = tarfile.TarInfo(f"flows/{name}.json")
                    info.size, info.mtime = len(data), 1_700_000_000
                    target.addfile(info, io.BytesIO(data))
        return made.getvalue()

    folder = tmp_path / "in"
    folder.mkdir()
    path = folder / f"all.{kind}"
    path.write_bytes(package(a=flow("a"), b=flow("b")))
    run("record", "in", "--at", "2026-01-01")
    path.write_bytes(package(a=flow("a", steps=STEPS), b=flow("b", steps=STEPS[:1]), c=flow("c")))
    run("record", "in", "--at", "2026-01-02")
    name = str(path.relative_to(tmp_path))
    assert "found neither" in run("restore", "A@1", "--into", name).err
    ran = run("restore", "A@1", "--into", name, "-o", f"mended.{kind}")
    assert ran.code == 0 and "flows/a.json as in version 1 of 'A'" in ran.err
    told = json.loads(run("diff", "@1", f"mended.{kind}", "-f", "json").out)["flows"]
    assert [(one["id"], one["status"]) for one in told] == [("b", "changed"), ("c", "added")] or [
        (one["id"], one["status"]) for one in told
    ] == [("c", "added"), ("b", "changed")]
    assert run("restore", "A@1", "--into", name, "--overwrite").code == 0
    assert path.read_bytes() == (tmp_path / f"mended.{kind}").read_bytes()
    (tmp_path / "x.zip").write_bytes(b"none")
    assert run("restore", "A@1", "--into", "x.zip", "-o", "y.zip").code == 2
    folder_of(tmp_path, "plain", z=flow("z"))
    run("record", "plain", "--line", "p")
    assert "of its own" in run("restore", "Z@p:1", "--into", name, "-o", "y").err

"""Thirty ways to tamper with a book: each is told by `history --verify`, or shows against a hash that was kept elsewhere."""

from __future__ import annotations

import json
import shutil
import zlib
from collections.abc import Callable
from pathlib import Path

import pytest
from sqlalchemy import text

from conftest import Run
from test_bad_input import STEPS
from test_book_lines import as_form_1
from test_unreadable import flow, folder_of
from zeitbuch.book.records import Version, entry_hash, sha256, versions_hash
from zeitbuch.book.store import Book
from zeitbuch.book.verify import verify_book

Act = Callable[[Book], None]


@pytest.fixture(scope="module")
def kept(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A book with two lines, six snapshots, a note and a mark."""
    import os

    from zeitbuch.cli.main import main

    base = tmp_path_factory.mktemp("kept")
    here = Path.cwd()
    os.chdir(base)
    try:
        folder = folder_of(base, "in", a=flow("a"), b=flow("b"), **{f"c{n}": flow(f"c{n}") for n in range(20)})
        book = ["--book", "book.sqlite"]
        assert main(["record", "in", "--at", "2026-01-01", *book]) == 0
        for day in (2, 3, 4):
            (folder / "b.json").write_bytes(flow("b", steps=STEPS[: day - 1]))
            assert main(["record", "in", "--at", f"2026-01-0{day}", *book]) == 0
        (folder / "a.json").write_bytes(b"{")
        assert main(["record", "in", "--line", "dev", "--at", "2026-01-05", *book]) == 2
        assert main(["record", "in", "--at", "2026-01-06", *book]) == 2
        assert main(["history", "@2", "--note", "looks right", *book]) == 0
        assert main(["history", "b@2", "--mark", "accepted", *book]) == 0
    finally:
        os.chdir(here)
    return base / "book.sqlite"


def sql(*orders: str) -> Act:
    def act(book: Book) -> None:
        with book.engine.begin() as c:
            for order in orders:
                c.execute(text(order))

    return act


def content(change: Callable[[bytes], bytes], which: str = "base = ''") -> Act:
    """Alter the stored bytes of one content."""

    def act(book: Book) -> None:
        with book.engine.begin() as c:
            row = c.execute(text(f"SELECT hash, data FROM zb_content WHERE {which} ORDER BY hash LIMIT 1")).one()
            c.execute(
                text("UPDATE zb_content SET data = :data WHERE hash = :hash"),
                {"data": change(row.data), "hash": row.hash},
            )

    return act


def other_bytes(raw: bytes) -> bytes:
    return zlib.compress(zlib.decompress(raw).replace(b"a", b"b", 1) + b" ")


def swap_contents(book: Book) -> None:
    with book.engine.begin() as c:
        rows = c.execute(text("SELECT hash, size, data FROM zb_content WHERE base = '' ORDER BY size LIMIT 2")).all()
        for one, other in ((rows[0], rows[1]), (rows[1], rows[0])):
            c.execute(
                text("UPDATE zb_content SET data = :data, size = :size WHERE hash = :hash"),
                {"data": other.data, "size": other.size, "hash": one.hash},
            )


def rewrite_chain(book: Book, change: Callable[[dict[str, str]], None], kind: str = "snapshot") -> None:
    """A forger who knows the hashes: alter an entry and hash it and all that follow anew."""
    with book.writing() as writing:
        previous, done = "0" * 64, False
        for entry in writing.entries():
            fields = {key: getattr(entry, key) for key in entry.__struct_fields__}
            if entry.kind == kind and not done and entry.seq > 1:
                change(fields)
                done = True
            fields["previous"] = previous
            made = type(entry)(**{**fields, "hash": ""})
            previous = entry_hash(made)
            writing.c.execute(
                text("UPDATE zb_entry SET note = :note, who = :who, at = :at, body = :body, previous = :p, hash = :h WHERE seq = :s"),
                {"note": made.note, "who": made.who, "at": made.at, "body": made.body, "p": made.previous, "h": previous, "s": made.seq},
            )  # fmt: skip


def forge(key: str, value: str, kind: str = "snapshot") -> Act:
    return lambda book: rewrite_chain(book, lambda fields: fields.__setitem__(key, value), kind)


def forge_versions(book: Book) -> None:
    """Alter the summary of a version, and the body that vouches for it, and the chain."""
    with book.writing() as writing:
        writing.c.execute(text("UPDATE zb_version SET summary = 'nothing much' WHERE snapshot = 2 AND line = ''"))
        versions: list[Version] = writing.versions(2)

    def change(fields: dict[str, str]) -> None:
        body = json.loads(fields["body"])
        body["versions"] = versions_hash(versions)
        fields["body"] = json.dumps(body)

    rewrite_chain(book, change)


def drop_last(book: Book) -> None:
    """Take the last two entries off: both notes, of which nothing else is left."""
    sql("DELETE FROM zb_entry WHERE seq > (SELECT max(seq) - 2 FROM zb_entry)")(book)


def put_in(book: Book) -> None:
    with book.writing() as writing:
        writing.put_contents([b"never recorded"])


TOLD: dict[str, Act] = {
    "note": sql("UPDATE zb_entry SET note = 'fine' WHERE seq = 2"),
    "who": sql("UPDATE zb_entry SET who = 'someone' WHERE seq = 3"),
    "time": sql("UPDATE zb_entry SET at = '2025-01-01T00:00:00Z' WHERE seq = 3"),
    "line": sql("UPDATE zb_entry SET line = 'prod' WHERE line = 'dev'"),
    "kind": sql("UPDATE zb_entry SET kind = 'note' WHERE seq = 2"),
    "number": sql("UPDATE zb_entry SET number = 9 WHERE seq = 4"),
    "body": sql("UPDATE zb_entry SET body = replace(body, '22', '21') WHERE seq = 1"),
    "body that is none": sql("UPDATE zb_entry SET body = 'x' WHERE seq = 2"),
    "hash": sql("UPDATE zb_entry SET hash = previous WHERE seq = 3"),
    "previous": sql("UPDATE zb_entry SET previous = hash WHERE seq = 3"),
    "entry gone": sql("DELETE FROM zb_entry WHERE seq = 2"),
    "first entry gone": sql("DELETE FROM zb_entry WHERE seq = 1"),
    "entries swapped": sql(
        "UPDATE zb_entry SET seq = 99 WHERE seq = 2", "UPDATE zb_entry SET seq = 2 WHERE seq = 3", "UPDATE zb_entry SET seq = 3 WHERE seq = 99"
    ),
    "last entries gone": sql("DELETE FROM zb_entry WHERE seq > 3", "DELETE FROM zb_version WHERE line = 'dev'"),
    "content altered": content(other_bytes),
    "content cut": content(lambda raw: raw[:-6]),
    "content hidden behind its end": content(lambda raw: raw + b"more"),
    "content empty": content(lambda raw: b""),
    "contents swapped": swap_contents,
    "content gone": sql("DELETE FROM zb_content WHERE hash = (SELECT hash FROM zb_version WHERE name = 'C7')"),
    "content put in": put_in,
    "size": sql("UPDATE zb_content SET size = size + 1 WHERE base = ''"),
    "list altered": content(lambda raw: zlib.compress(zlib.decompress(raw).replace(b"0", b"1", 1)), "base != ''"),
    "list of another": sql("UPDATE zb_content SET base = (SELECT max(hash) FROM zb_content WHERE base = '') WHERE base != ''"),
    "list gone": sql("DELETE FROM zb_content WHERE base != ''"),
    "version": sql("UPDATE zb_version SET summary = 'no change' WHERE number = 2"),
    "version's price": sql("UPDATE zb_version SET month = '0.01' WHERE number = 1"),
    "version gone": sql("DELETE FROM zb_version WHERE number = 3"),
    "version put in": sql("UPDATE zb_version SET number = 7, snapshot = 77 WHERE number = 2"),
    "version of another line": sql("UPDATE zb_version SET line = 'dev' WHERE name = 'C3' AND line = ''"),
}  # fmt: skip
# Who rewrites all that follows leaves a whole chain: only a kept hash tells.
FORGED: dict[str, Act] = {
    "note": forge("note", "all fine"),
    "who": forge("who", "Nobody"),
    "mark": forge("note", "I never said so", "note"),
    "versions": forge_versions,
    "last entries off": drop_last,
}


@pytest.mark.parametrize("way", TOLD)
def test_tampering_is_told(tmp_path: Path, kept: Path, way: str) -> None:
    book = copied(kept, tmp_path)
    assert not verify_book(book).wrong
    TOLD[way](book)
    verdict = verify_book(book)
    assert verdict.wrong and all(sentence for sentence in verdict.wrong)
    book.engine.dispose()


def copied(kept: Path, folder: Path) -> Book:
    with Book(str(kept)).writing():
        pass
    shutil.copy(kept, folder / "book.sqlite")
    for suffix in ("-wal", "-shm"):
        if Path(f"{kept}{suffix}").exists():
            shutil.copy(f"{kept}{suffix}", folder / f"book.sqlite{suffix}")
    return Book(str(folder / "book.sqlite"))


@pytest.mark.parametrize("way", FORGED)
def test_a_forged_chain_shows_by_the_hash_kept_elsewhere(tmp_path: Path, kept: Path, way: str) -> None:
    book = copied(kept, tmp_path)
    head = verify_book(book).head
    FORGED[way](book)
    assert not verify_book(book).wrong
    assert "no entry has the hash" in verify_book(book, head=head).wrong[0]


def test_altered_contents_are_never_handed_out(tmp_path: Path, run: Run) -> None:
    folder = folder_of(tmp_path, "in", a=flow("a"))
    run("record", "in", "--at", "2026-01-01")
    (folder / "a.json").write_bytes(flow("a", steps=STEPS))
    run("record", "in", "--at", "2026-01-02")
    book = Book(str(tmp_path / "book.sqlite"))
    with book.engine.begin() as c:
        first, second = (sha256(one) for one in (flow("a"), flow("a", steps=STEPS)))
        for one, other in ((first, second), (second, first)):
            c.execute(text("UPDATE zb_content SET hash = :h WHERE hash = :o"), {"h": f"x{one[1:]}", "o": other})
        for one in (first, second):
            c.execute(text("UPDATE zb_content SET hash = :h WHERE hash = :o"), {"h": one, "o": f"x{one[1:]}"})
    book.engine.dispose()
    for words in (["restore", "A@1"], ["restore", "@2", "-o", "out"], ["diff", "@1", "@2"], ["inventory", "A@2"]):
        ran = run(*words)
        assert ran.code == 2 and "book-damaged" in ran.err and not ran.out, ran


def test_the_earlier_form_is_verified_alike(tmp_path: Path, kept: Path) -> None:
    book = Book(str(tmp_path / "one.sqlite"), create=True)
    with book.writing() as writing:
        writing.put_contents([b"x"])
        writing.add_snapshot([], [], "2026-01-01T00:00:00Z", "t", "")
    book.engine.dispose()
    as_form_1(tmp_path / "one.sqlite")
    verdict = verify_book(Book(str(tmp_path / "one.sqlite")))
    assert verdict.entries == 1 and "of no snapshot" in verdict.wrong[0]

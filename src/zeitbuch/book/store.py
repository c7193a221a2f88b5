# The book in its database. Every act of writing is one transaction that holds the only lock, so that what is recorded is
# recorded whole or not at all, whoever writes beside it and whenever it is killed.
"""The store: SQLite (one file, write-ahead log) or PostgreSQL."""

from __future__ import annotations

import contextlib
import os
import time
import zlib
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

import msgspec
from sqlalchemy import Connection, create_engine, event, func, insert, inspect, select
from sqlalchemy.engine import make_url
from sqlalchemy.exc import DBAPIError, NoSuchModuleError, SQLAlchemyError

from zeitbuch.core.model.problems import ZeitbuchError, fail

from . import tables as t
from .records import (
    NOTHING,
    Body,
    Entry,
    EstateCosts,
    File,
    Version,
    entry_hash,
    files_of,
    manifest,
    sha256,
    versions_hash,
)

NO_FIGURES = EstateCosts()
WAIT = 120  # seconds that a writer waits for another
_LOCK = 0x5A656974  # of PostgreSQL: any number that nobody else takes
_PIECE = 400  # rows of one statement


def is_url(place: str) -> bool:
    """Whether a book is named by a URL."""
    return "://" in place


def url_of(place: str) -> str:
    """The URL of a book: a path is an SQLite file."""
    if not is_url(place):
        return f"sqlite:///{Path(place).absolute()}"
    # The driver is ours to choose; who names one keeps it.
    return place.replace("postgresql://", "postgresql+psycopg://", 1).replace("postgres://", "postgresql+psycopg://", 1)


def hide_password(place: str) -> str:
    """A book's place without its password."""
    if not is_url(place):
        return place
    try:
        return make_url(place).render_as_string(hide_password=True)
    except SQLAlchemyError:
        return place.partition("://")[0] + "://…"


class Book:
    """One open book. Raises ZeitbuchError for all that goes wrong with the database."""

    def __init__(self, place: str, create: bool = False) -> None:
        self.place = place
        self.name = hide_password(place)
        with self._telling_errors():
            url = make_url(url_of(place))
            self.lite = url.get_backend_name() == "sqlite"
            if self.lite and url.database and url.database != ":memory:":
                self._prepare_file(Path(url.database), create)
            options: dict[str, Any] = {"connect_args": {"timeout": WAIT}} if self.lite else {}
            self.engine = create_engine(url, **options)
            if self.lite:
                event.listen(self.engine, "connect", _set_up_sqlite)
            self._open_tables(create)

    def _prepare_file(self, path: Path, create: bool) -> None:
        if not path.exists():
            if not create:
                raise fail(
                    "book-none",
                    f"{self.name}: expected a book, found no such file",
                    "`zeitbuch record` begins one; name another with --book",
                )
            try:
                path.parent.mkdir(parents=True, exist_ok=True)
                # The book holds exports as they are, secrets and all: it is its owner's alone.
                os.close(os.open(path, os.O_CREAT | os.O_RDWR, 0o600))
            except OSError as error:
                raise fail(
                    "book",
                    f"{self.name}: expected to begin a book, found: {error.strerror}",
                    "choose another place with --book",
                ) from None

    def _open_tables(self, create: bool) -> None:
        deadline = time.monotonic() + WAIT
        while True:
            try:
                with self.engine.connect() as child:
                    there = inspect(child).has_table(t.setting.name)
                if not there:
                    if not create:
                        raise fail(
                            "book-none",
                            f"{self.name}: expected a book, found a database without one",
                            "`zeitbuch record` begins one",
                        )
                    with self._transaction() as child:
                        t.metadata.create_all(child)
                        if child.execute(select(func.count()).select_from(t.setting)).scalar() == 0:
                            child.execute(insert(t.setting), [{"name": "form", "value": t.FORM}])
                break
            except DBAPIError as error:
                # Others may be beginning the same book at this moment.
                if "locked" not in str(error.orig) or time.monotonic() > deadline:
                    raise
                time.sleep(0.05)
        with self.engine.connect() as child:
            form = child.execute(select(t.setting.c.value).where(t.setting.c.name == "form")).scalar()
        if form != t.FORM:
            raise fail(
                "book-form",
                f"{self.name}: expected a book of form {t.FORM}, found {form}",
                "a newer Zeitbuch may read it",
            )

    @contextlib.contextmanager
    def _telling_errors(self) -> Iterator[None]:
        """What the database says, as a message with a remedy."""
        try:
            yield
        except ZeitbuchError:
            raise
        except (NoSuchModuleError, ModuleNotFoundError, ImportError):
            raise fail(
                "book",
                f"{self.name}: expected a database that can be reached, found no driver for it",
                "for PostgreSQL: pip install 'zeitbuch[postgres]'; without a URL the book is one SQLite file",
            ) from None
        except SQLAlchemyError as error:
            raise self._problem_of(error) from None
        except (zlib.error, UnicodeDecodeError, msgspec.MsgspecError):
            raise fail(
                "book-damaged",
                f"{self.name}: expected whole contents, found damaged ones",
                "`zeitbuch history --verify` says which",
            ) from None

    def _problem_of(self, error: SQLAlchemyError) -> ZeitbuchError:
        said = str(getattr(error, "orig", None) or error).strip().splitlines()[0][:200]
        low = said.casefold()
        full = "full" in low or "disk i/o" in low or "no space" in low or "could not extend" in low
        if full:
            return fail(
                "book-full",
                f"{self.name}: expected room to write, found: {said}",
                "nothing of this was recorded and nothing earlier is lost: free space on the disk and run it again",
            )
        if "locked" in low or "busy" in low:
            return fail(
                "book-busy",
                f"{self.name}: expected the book to be free within {WAIT} seconds, found another writer",
                "run it again when the other is done; nothing was recorded",
            )
        hint = (
            "name another with --book, or see that this one can be written"
            if self.lite
            else "is the server running, and is the URL right?"
        )
        return fail("book", f"{self.name}: expected a book that can be read and written, found: {said}", hint)

    @contextlib.contextmanager
    def _transaction(self) -> Iterator[Connection]:
        with self.engine.connect() as child:
            if not self.lite:
                with child.begin():
                    child.execute(select(func.pg_advisory_xact_lock(_LOCK)))
                    yield child
                return
            child = child.execution_options(isolation_level="AUTOCOMMIT")
            child.exec_driver_sql("BEGIN IMMEDIATE")
            try:
                yield child
            except BaseException:
                with contextlib.suppress(SQLAlchemyError):
                    child.exec_driver_sql("ROLLBACK")
                raise
            child.exec_driver_sql("COMMIT")

    @contextlib.contextmanager
    def writing(self) -> Iterator[Writing]:
        """The only writer, until all is written."""
        with self._telling_errors(), self._transaction() as child:
            yield Writing(child)

    @contextlib.contextmanager
    def reading(self) -> Iterator[Reading]:
        """A look at the book as it is at this moment."""
        with self._telling_errors(), self.engine.connect() as child:
            if not self.lite:
                child = child.execution_options(isolation_level="REPEATABLE READ")
            with child.begin():
                yield Reading(child)


def _set_up_sqlite(connection: Any, _: Any) -> None:
    cursor = connection.cursor()
    for pragma in ("journal_mode=WAL", "synchronous=FULL", f"busy_timeout={WAIT * 1000}"):
        cursor.execute(f"PRAGMA {pragma}")
    cursor.close()


class Reading:
    """What can be asked of a book."""

    def __init__(self, c: Connection) -> None:
        self.c = c

    def head(self) -> Entry | None:
        """The last entry."""
        row = self.c.execute(select(t.entry).order_by(t.entry.c.seq.desc()).limit(1)).first()
        return Entry(**row._mapping) if row is not None else None

    def entries(self, kind: str = "") -> list[Entry]:
        """All entries, or those of a kind, in order."""
        query = select(t.entry).order_by(t.entry.c.seq)
        if kind:
            query = query.where(t.entry.c.kind == kind)
        return [Entry(**record._mapping) for record in self.c.execute(query)]

    def snapshots(self) -> list[Entry]:
        """All snapshots, oldest first."""
        return self.entries("snapshot")

    def files(self, snapshot: Entry) -> list[File]:
        """The files of a snapshot."""
        import msgspec

        return files_of(self.content_of(msgspec.json.decode(snapshot.body, type=Body).files))

    def contents(self, hashes: Iterable[str]) -> dict[str, bytes]:
        """The bytes of contents by their hash; those that are not there are left out."""
        wanted = list(dict.fromkeys(hashes))
        found: dict[str, bytes] = {}
        for index in range(0, len(wanted), _PIECE):
            query = select(t.content.c.hash, t.content.c.data).where(
                t.content.c.hash.in_(wanted[index : index + _PIECE])
            )
            found |= {record.hash: zlib.decompress(record.data) for record in self.c.execute(query)}
        return found

    def content_of(self, one: str) -> bytes:
        """The bytes of one content. Raises ZeitbuchError when it is missing."""
        found = self.contents([one]).get(one)
        if found is None:
            raise fail(
                "book-damaged",
                f"expected the content {one[:16]}… in the book, found none",
                "`zeitbuch history --verify` says what is missing",
            )
        return found

    def count(self) -> int:
        """How many contents there are."""
        return self.c.execute(select(func.count()).select_from(t.content)).scalar() or 0

    def versions(self, snapshot: int | None = None) -> list[Version]:
        """All versions, or those of a snapshot, by flow and number."""
        query = select(t.version).order_by(t.version.c.flow, t.version.c.number)
        if snapshot is not None:
            query = query.where(t.version.c.snapshot == snapshot)
        return [Version(**record._mapping) for record in self.c.execute(query)]


class Writing(Reading):
    """What can be added to a book; nothing is ever changed or taken out."""

    def put_contents(self, contents: Iterable[bytes]) -> int:
        """Contents that are not there yet; how many that were."""
        mapping = {sha256(data): data for data in contents}
        there: set[str] = set()
        names = list(mapping)
        for index in range(0, len(names), _PIECE):
            query = select(t.content.c.hash).where(t.content.c.hash.in_(names[index : index + _PIECE]))
            there |= set(self.c.execute(query).scalars())
        rows = [
            {"hash": name, "size": len(raw), "data": zlib.compress(raw, 6)} for name, raw in mapping.items() if name not in there
        ]  # fmt: skip
        if rows:
            self.c.execute(insert(t.content), rows)
        return len(rows)

    def append_entry(self, kind: str, at: str, who: str, note: str, body: str) -> Entry:
        """A new entry at the end of the chain."""
        last = self.head()
        count = self.c.execute(select(func.count()).select_from(t.entry).where(t.entry.c.kind == kind)).scalar() or 0
        made = Entry(
            seq=last.seq + 1 if last else 1, kind=kind, number=count + 1, at=at, who=who, note=note, body=body,
            previous=last.hash if last else NOTHING,
        )  # fmt: skip
        return self.insert_entry(Entry(**{**_fields_of(made), "hash": entry_hash(made)}))

    def insert_entry(self, made: Entry) -> Entry:
        """An entry as it is."""
        self.c.execute(insert(t.entry), [_fields_of(made)])
        return made

    def add_versions(self, versions: Iterable[Version]) -> None:
        """Versions of flows."""
        rows = [_fields_of(version) for version in versions]
        if rows:
            self.c.execute(insert(t.version), rows)

    def add_snapshot(
        self,
        files: list[File],
        versions: list[Version],
        at: str,
        who: str,
        note: str,
        estimated: EstateCosts = NO_FIGURES,
    ) -> Entry:
        """A snapshot with its list of files and its versions; their contents are put before."""
        import msgspec

        raw = manifest(files)
        self.put_contents([raw])
        self.add_versions(versions)
        body = Body(sha256(raw), len(files), versions_hash(versions), estimated)
        return self.append_entry("snapshot", at, who, note, msgspec.json.encode(body, order="sorted").decode())


def _fields_of(record: Any) -> dict[str, Any]:
    return {key: getattr(record, key) for key in record.__struct_fields__}

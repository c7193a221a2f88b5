# The book in its database. Every act of writing is one transaction that holds the only lock, so that what is recorded is
# recorded whole or not at all, whoever writes beside it and whenever it is killed.
"""The store: SQLite (one file, write-ahead log) or PostgreSQL."""

from __future__ import annotations

import contextlib
import time
import zlib
from collections.abc import Callable, Iterable, Iterator
from typing import Any

import msgspec
from sqlalchemy import Connection, Select, Table, func, insert, inspect, literal, select, update
from sqlalchemy.exc import DBAPIError, NoSuchModuleError, SQLAlchemyError

from zeitbuch.core.model.problems import ZeitbuchError, fail

from . import tables as t
from .contents import MOST_DIFFERENCES, DamagedError, Packed, pack, pack_difference, unpack
from .opening import WAIT, hide_password, open_engine, url_of
from .place import is_url
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
    storable,
    versions_hash,
)

__all__ = ["Book", "Reading", "Writing", "hide_password", "is_url", "url_of"]
NO_FIGURES = EstateCosts()
_LOCK = 0x5A656974  # of PostgreSQL: any number that nobody else takes
_PIECE = 400  # rows of one statement
_LONGEST_CHAIN = 20 * MOST_DIFFERENCES  # of differences; a longer one goes round


class Book:
    """One open book. Raises ZeitbuchError for all that goes wrong with the database."""

    def __init__(self, place: str, create: bool = False) -> None:
        self.place = place
        self.name = hide_password(place)
        self.lite = not is_url(place)
        with self._telling_errors():
            self.engine, self.only_reading = open_engine(place, create)
            self.lite = self.engine.dialect.name == "sqlite"
            self.form = self._open_tables(create)

    def _open_tables(self, create: bool) -> str:
        """Look for the tables, and make them where a book begins; the form of the book."""
        deadline = time.monotonic() + WAIT
        while True:
            try:
                with self.engine.connect() as child:
                    there = inspect(child).has_table(t.setting.name)
                if not there:
                    self._begin_tables(create)
                break
            except DBAPIError as error:
                # Others may be beginning the same book at this moment.
                if "locked" not in str(error.orig) or time.monotonic() > deadline:
                    raise
                time.sleep(0.05)
        with self.engine.connect() as child:
            form = child.execute(select(t.setting.c.value).where(t.setting.c.name == "form")).scalar()
        if form not in t.FORMS:
            raise fail(
                "book-form",
                f"{self.name}: expected a book of form {' or '.join(t.FORMS)}, found {form}",
                "a newer Zeitbuch may read it",
            )
        return str(form)

    def _begin_tables(self, create: bool) -> None:
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
        except (zlib.error, UnicodeDecodeError, msgspec.MsgspecError, DamagedError) as error:
            raise fail(
                "book-damaged",
                f"{self.name}: expected whole contents, found damaged ones ({str(error) or type(error).__name__})",
                "`zeitbuch history --verify` says which; take the book from a copy or an export",
            ) from None
        except ValueError as error:
            raise fail(
                "book",
                f"{self.name}: expected a file or a URL of a database, found: {error}",
                "postgresql://HOST:PORT/NAME",
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
        if "locked" in low or "busy" in low or "lock timeout" in low:
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
                    child.exec_driver_sql(f"SET LOCAL lock_timeout = {WAIT * 1000}")
                    child.execute(select(func.pg_advisory_xact_lock(_LOCK)))
                    child.exec_driver_sql("SET LOCAL lock_timeout = 0")
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
        if self.only_reading:
            raise fail(
                "book",
                f"{self.name}: expected a book that can be written, found one that can only be read",
                "name another with --book, or see to the rights of the file and its folder",
            )
        with self._telling_errors(), self._transaction() as child:
            self._renew_form(child)
            yield Writing(child)

    @contextlib.contextmanager
    def reading(self) -> Iterator[Reading]:
        """A look at the book as it is at this moment."""
        with self._telling_errors(), self.engine.connect() as child:
            if not self.lite:
                child = child.execution_options(isolation_level="REPEATABLE READ")
            with child.begin():
                yield Reading(child, self.form)

    def release_space(self) -> None:
        """Give back to the disk what was taken out."""
        with self._telling_errors(), self.engine.connect() as child:
            if self.lite:
                child.execution_options(isolation_level="AUTOCOMMIT").exec_driver_sql("VACUUM")

    def _renew_form(self, child: Connection) -> None:
        """Bring a book of an earlier form to the present one: columns are added, nothing that stands in it is altered."""
        if self.form == t.FORM:
            return
        form = t.setting.c.name == "form"
        if child.execute(select(t.setting.c.value).where(form)).scalar() != t.FORM:  # another may have been first
            for table, names in t.ADDED.items():
                for name in names:
                    kind = table.c[name].type.compile(self.engine.dialect)
                    child.exec_driver_sql(f"ALTER TABLE {table.name} ADD COLUMN {name} {kind} NOT NULL DEFAULT ''")
            if not self.lite:
                child.exec_driver_sql(f"ALTER TABLE {t.version.name} ALTER COLUMN currency TYPE text")
            child.execute(update(t.setting).where(form).values(value=t.FORM))
        self.form = t.FORM


class Reading:
    """What can be asked of a book; ``line`` names one of its lines, None all of them."""

    def __init__(self, c: Connection, form: str = t.FORM) -> None:
        self.c = c
        self.form = form
        self._last_list = "", b""

    def _rows(self, table: Table, line: str | None) -> Select[Any]:
        """A table as it is in this form, of one line."""
        late = t.ADDED.get(table, ()) if self.form != t.FORM else ()
        query = select(*[column for column in table.c if column.name not in late])
        if line is None:
            return query
        return query.where((table.c.line if not late else literal("")) == line)

    def head(self) -> Entry | None:
        """The last entry."""
        row = self.c.execute(self._rows(t.entry, None).order_by(t.entry.c.seq.desc()).limit(1)).first()
        return Entry(**row._mapping) if row is not None else None

    def entries(self, kind: str = "", line: str | None = None) -> list[Entry]:
        """All entries, or those of a kind or line, in order."""
        query = self._rows(t.entry, line).order_by(t.entry.c.seq)
        if kind:
            query = query.where(t.entry.c.kind == kind)
        return [Entry(**record._mapping) for record in self.c.execute(query)]

    def snapshots(self, line: str | None = "") -> list[Entry]:
        """The snapshots of a line, oldest first."""
        return self.entries("snapshot", line)

    def lines(self) -> list[str]:
        """The lines that have a snapshot, in the order of their first."""
        return list(dict.fromkeys(entry.line for entry in self.snapshots(None)))

    def files(self, snapshot: Entry) -> list[File]:
        """The files of a snapshot."""
        return files_of(self.content_of(msgspec.json.decode(snapshot.body, type=Body).files))

    def packed(self, hashes: Iterable[str]) -> dict[str, Packed]:
        """Contents as they are stored, by their hash; those that are not there are left out."""
        wanted = list(dict.fromkeys(hashes))
        found: dict[str, Packed] = {}
        for index in range(0, len(wanted), _PIECE):
            query = self._rows(t.content, None).where(t.content.c.hash.in_(wanted[index : index + _PIECE]))
            found |= {record.hash: Packed(**record._mapping) for record in self.c.execute(query)}
        return found

    def contents(self, hashes: Iterable[str]) -> dict[str, bytes]:
        """The bytes of contents by their hash, each held against it; those that are not there are left out. Raises ZeitbuchError
        for one that was altered."""
        return {name: self.unpack_content(stored) for name, stored in self.packed(hashes).items()}

    def unpack_content(self, stored: Packed) -> bytes:
        """The bytes of a content, held against its hash. Raises DamagedError."""
        chain = [stored]
        while chain[-1].base and chain[-1].base != self._last_list[0]:
            if len(chain) > _LONGEST_CHAIN or (found := self.packed([chain[-1].base]).get(chain[-1].base)) is None:
                raise DamagedError(f"what the content {chain[-1].hash[:16]}… differs from is missing")
            chain.append(found)
        data = self._last_list[1] if chain[-1].base else b""
        for one in reversed(chain):
            try:
                data = unpack(one, data)
            except DamagedError as error:
                raise DamagedError(f"the content {one.hash[:16]}… {error}") from None
        if stored.base:
            self._last_list = stored.hash, data  # the next list differs from this one
        return data

    def content_of(self, one: str) -> bytes:
        """The bytes of one content. Raises ZeitbuchError when it is missing or was altered."""
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

    def versions(self, snapshot: int | None = None, line: str | None = "") -> list[Version]:
        """All versions of a line, or those of one of its snapshots, by flow and number."""
        query = self._rows(t.version, line).order_by(t.version.c.flow, t.version.c.number)
        if snapshot is not None:
            query = query.where(t.version.c.snapshot == snapshot)
        return [Version(**record._mapping) for record in self.c.execute(query)]

    def top_flow(self) -> int:
        """The highest key of a flow, of all lines."""
        return self.c.execute(select(func.max(t.version.c.flow))).scalar() or 0


class Writing(Reading):
    """What can be added to a book; nothing is ever changed or taken out."""

    def put_contents(self, contents: Iterable[bytes]) -> int:
        """Contents that are not there yet; how many that were."""
        return self._put_packed(pack, {sha256(data): data for data in contents})

    def put_list(self, data: bytes, before: str = "") -> None:
        """A list of files, as its difference from the list ``before`` where that is shorter."""
        if before and len(self.bases_of(before)) < MOST_DIFFERENCES:
            base = self.content_of(before)
            self._put_packed(lambda raw: pack_difference(raw, base, before) or pack(raw), {sha256(data): data})
        else:
            self.put_contents([data])

    def bases_of(self, name: str) -> list[str]:
        """The contents that must be read for one, itself included."""
        names = [name]
        while (stored := self.packed(names[-1:]).get(names[-1])) is not None and stored.base:
            names.append(stored.base)
        return names

    def _put_packed(self, packing: Callable[[bytes], Packed], contents: dict[str, bytes]) -> int:
        there: set[str] = set()
        names = list(contents)
        for index in range(0, len(names), _PIECE):
            query = select(t.content.c.hash).where(t.content.c.hash.in_(names[index : index + _PIECE]))
            there |= set(self.c.execute(query).scalars())
        rows = [packing(raw)._asdict() for name, raw in contents.items() if name not in there]
        if rows:
            self.c.execute(insert(t.content), rows)
        return len(rows)

    def append_entry(self, kind: str, at: str, who: str, note: str, body: str, line: str = "") -> Entry:
        """A new entry at the end of the chain."""
        last = self.head()
        query = select(func.max(t.entry.c.number)).where(t.entry.c.kind == kind, t.entry.c.line == line)
        made = Entry(
            seq=last.seq + 1 if last else 1, kind=kind, number=(self.c.execute(query).scalar() or 0) + 1, at=at,
            who=storable(who), note=storable(note), body=body, previous=last.hash if last else NOTHING, line=line,
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
        line: str = "",
        unreadable: tuple[tuple[int, str], ...] = (),
    ) -> Entry:
        """A snapshot with its list of files and its versions; their contents are put before."""
        last = self.snapshots(line)
        raw = manifest(files)
        self.put_list(raw, msgspec.json.decode(last[-1].body, type=Body).files if last else "")
        self.add_versions(versions)
        body = Body(sha256(raw), len(files), versions_hash(versions), estimated, unreadable)
        return self.append_entry("snapshot", at, who, note, msgspec.json.encode(body, order="sorted").decode(), line)


def _fields_of(record: Any) -> dict[str, Any]:
    return {key: getattr(record, key) for key in record.__struct_fields__}

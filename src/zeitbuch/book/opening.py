# Where a book is, and how its database is opened: for writing, or only for reading where nothing may be written (a backup, a
# read-only disk, a colleague's folder).
"""Opening the database of a book."""

from __future__ import annotations

import os
import shutil
import sqlite3
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any
from urllib.parse import quote

from sqlalchemy import URL, Engine, create_engine, event
from sqlalchemy.engine import make_url
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.pool import NullPool

from zeitbuch.core.model.problems import fail

from .place import is_url, no_book

WAIT = 120  # seconds that a writer waits for another


def url_of(place: str) -> URL:
    """The URL of a book: a path is an SQLite file, whatever letters it has. Raises ValueError or SQLAlchemyError for no URL."""
    if not is_url(place):
        return URL.create("sqlite", database=str(Path(place).absolute()))
    # The driver is ours to choose; who names one keeps it.
    return make_url(
        place.replace("postgresql://", "postgresql+psycopg://", 1).replace("postgres://", "postgresql+psycopg://", 1)
    )


def hide_password(place: str) -> str:
    """A book's place without its password."""
    if not is_url(place):
        return place
    try:
        return make_url(place).render_as_string(hide_password=True)
    except (SQLAlchemyError, ValueError):
        return place.partition("://")[0] + "://…"


def open_engine(place: str, create: bool) -> tuple[Engine, bool]:
    """The database of a book, and whether it can only be read. Raises ZeitbuchError when there is no such file."""
    url = url_of(place)
    if url.get_backend_name() != "sqlite":
        return create_engine(url, pool_pre_ping=True), False
    path = Path(url.database or "")
    if not url.database or url.database == ":memory:":
        return create_engine(url), False
    if not path.exists():
        _begin_file(path, place, create)
    if not (os.access(path, os.W_OK) and os.access(path.parent, os.W_OK)):
        return create_engine("sqlite://", creator=_reading_connection(path), poolclass=NullPool), True
    engine = create_engine(url, connect_args={"timeout": WAIT})
    event.listen(engine, "connect", _set_up_sqlite)
    return engine, False


def _begin_file(path: Path, place: str, create: bool) -> None:
    if not create:
        raise no_book(place)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        # The book holds exports as they are, secrets and all: it is its owner's alone.
        os.close(os.open(path, os.O_CREAT | os.O_RDWR, 0o600))
    except OSError as error:
        raise fail(
            "book",
            f"{place}: expected to begin a book, found: {error.strerror}",
            "choose another place with --book",
        ) from None


def _set_up_sqlite(connection: Any, _: Any) -> None:
    cursor = connection.cursor()
    for pragma in ("journal_mode=WAL", "synchronous=FULL", f"busy_timeout={WAIT * 1000}"):
        cursor.execute(f"PRAGMA {pragma}")
    cursor.close()


def _reading_connection(path: Path) -> Callable[[], sqlite3.Connection]:
    """How connections to a file are made where nothing may be written. The log beside it holds what was written last; where it
    cannot be shared, a copy of both is read."""
    log = Path(f"{path}-wal")

    def connect() -> sqlite3.Connection:
        for words in ("mode=ro", "mode=ro&immutable=1") if not _has_bytes(log) else ("mode=ro",):
            connection = sqlite3.connect(f"file:{quote(str(path))}?{words}", uri=True, timeout=WAIT)
            try:
                connection.execute("SELECT count(*) FROM sqlite_master").fetchone()
            except sqlite3.OperationalError:
                connection.close()
            else:
                return connection
        return _copied_connection(path, log)

    return connect


def _has_bytes(path: Path) -> bool:
    return path.exists() and path.stat().st_size > 0


def _copied_connection(path: Path, log: Path) -> sqlite3.Connection:
    connection = sqlite3.connect(":memory:")
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder, "book.sqlite")
        shutil.copyfile(path, copy)
        if log.exists():
            shutil.copyfile(log, f"{copy}-wal")
        from_file = sqlite3.connect(copy)
        try:
            from_file.backup(connection)
        finally:
            from_file.close()
    return connection

# Where usage records are added up: in files, by the engine that is embedded, or where they lie already, in PostgreSQL or a lakehouse of Spark. There the
# question goes to the data, and only sums come back.
"""Connections to engines of usage records."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from pathlib import Path
from socket import create_connection
from time import monotonic, sleep
from typing import Any
from urllib.parse import urlsplit

from zeitbuch.core.actuals.usage_mapping import ENGINES, UsageMapping
from zeitbuch.core.model.extras import missing_library, telling_missing
from zeitbuch.core.model.problems import Problem, ZeitbuchError, fail
from zeitbuch.core.model.records import Origin

from .engines import EMBEDDED, ENGINE_WORDS, EngineWords
from .line_tables import temporary_folder
from .log_tables import FILE, engine_errors, import_engine, memory_errors, open_engine, open_tables, rejected_lines
from .standard_logs import OpenTable

_FEW_BYTES = 300_000_000  # of files: more are read anew for each question, and not held against each other line by line


class EmbeddedEngine:
    """The engine that reads files."""

    words: EngineWords = EMBEDDED

    def __init__(self) -> None:
        self.connection = open_engine()
        self.errors: tuple[type[Exception], ...] = engine_errors()
        self.memory_errors: tuple[type[Exception], ...] = (memory_errors(),)

    def open(self, paths: Sequence[str], mapping: UsageMapping) -> list[OpenTable]:
        """The lines of some files."""
        return open_tables(self.connection, paths, mapping)

    def holds(self, paths: Iterable[str]) -> bool:
        """Whether all lines may be kept, and looked at one by one."""
        return sum(Path(path).stat().st_size for path in paths) <= _FEW_BYTES

    def kept(self, records: Any) -> Any:
        """The records in a table of the engine: a log that is not large is read once, and asked several times."""
        self.connection.con.execute(f"CREATE OR REPLACE TEMP TABLE usage_records AS {self.connection.compile(records)}")
        return self.connection.table("usage_records")

    def rejected(self) -> tuple[int, list[Problem]]:
        """Lines that could not be read, once all are."""
        return rejected_lines(self.connection)


class PlaceEngine:
    """An engine in which records lie: one table, or with Spark files that it can reach."""

    memory_errors: tuple[type[Exception], ...] = ()

    def __init__(self, mapping: UsageMapping) -> None:
        self.words = ENGINE_WORDS[ENGINES[mapping.engine_scheme]]
        self.place = shown_place(mapping)
        self.connection, self.errors = _CONNECT[self.words.kind](mapping.engine, self.place)

    def open(self, paths: Sequence[str], mapping: UsageMapping) -> list[OpenTable]:
        """The lines of the table. A table that is not there becomes a problem."""
        try:
            lines = self._lines(mapping)
            return [OpenTable(lines.mutate(**{FILE: import_engine().literal(self.place)}), [])]
        except self.errors as error:
            return [OpenTable(None, [unreachable(self.place, error).problem])]

    def _lines(self, mapping: UsageMapping) -> Any:
        if mapping.table:
            *above, name = mapping.table.split(".")
            where = {"database": ".".join(above)} if above else {}
            return self.connection.table(name, **where)
        session = self.connection._session
        session.read.parquet(*mapping.files).createOrReplaceTempView("zeitbuch_usage")
        return self.connection.table("zeitbuch_usage")

    def holds(self, paths: Iterable[str]) -> bool:
        """A table may be as large as it likes: nothing of it is kept here."""
        return False

    def kept(self, records: Any) -> Any:
        """Not asked for."""
        return records

    def rejected(self) -> tuple[int, list[Problem]]:
        """Lines of tables are whole."""
        return 0, []


# A logger without an appender, or of another level than that of a shell, gets one that talks.
_SILENT = """rootLogger.level = warn
rootLogger.appenderRef.console.ref = console
appender.console.type = Console
appender.console.name = console
appender.console.target = SYSTEM_ERR
appender.console.filter.threshold.type = ThresholdFilter
appender.console.filter.threshold.level = off
"""
_CONNECT_PORT, _ANSWER_WITHIN = 15002, 10.0  # of Spark Connect; seconds
_WORKERS_WITHIN, _WITH_DRIVER = 60.0, 2  # seconds, and executors: the driver counts as one
UsageEngine = EmbeddedEngine | PlaceEngine


def engine_of(paths: Sequence[str], mapping: UsageMapping) -> UsageEngine:
    """The engine for some files, or without any that which the mapping names. Raises ZeitbuchError when it cannot be reached, or its packages are
    not installed."""
    return PlaceEngine(mapping) if mapping.engine and not paths else EmbeddedEngine()


def shown_place(mapping: UsageMapping) -> str:
    """The engine and table of a mapping, without a password or token: 'postgresql://db.harbour/lake usage.calls'."""
    parts = urlsplit(mapping.engine)
    host = parts.netloc.rpartition("@")[2]
    address = (
        f"{parts.scheme}://{host}{parts.path.partition(';')[0]}"
        if parts.netloc or parts.path.startswith("/")
        else mapping.engine
    )
    return f"{address} {mapping.table or ', '.join(mapping.files)}".strip()


def unreachable(place: str, error: Exception, quoted: bool = True) -> ZeitbuchError:
    """What is said when an engine cannot answer; not in its driver's words where these quote an address, which may hold a password."""
    words = next((line for line in str(error).strip().splitlines() if line.strip()), type(error).__name__)
    if not quoted:
        words = "an address that its driver cannot read"
    return fail("usage-engine", f"expected an answer of the engine, found: {words.strip()[:300]}",
                "look at engine and table in the mapping, and whether you may read there", Origin(place))  # fmt: skip


def _connect_postgres(address: str, place: str) -> tuple[Any, tuple[type[Exception], ...]]:
    ibis = import_engine()
    with telling_missing():
        import ibis.common.exceptions as raised
        import psycopg
    errors = (psycopg.Error, raised.IbisError, raised.TableNotFound)
    try:
        connection = psycopg.connect(address, options="-c TimeZone=UTC")
        return ibis.postgres.from_connection(connection), errors
    except errors as error:
        read = not isinstance(error, psycopg.ProgrammingError) and "@" not in str(error)
        raise unreachable(place, error, read) from None


def _connect_spark(address: str, place: str) -> tuple[Any, tuple[type[Exception], ...]]:
    ibis = import_engine()
    with telling_missing():
        import ibis.common.exceptions as raised
        from py4j.protocol import Py4JError
        from pyspark.errors import PySparkException
        from pyspark.sql import SparkSession
    errors = (PySparkException, Py4JError, raised.IbisError, raised.TableNotFound)
    builder = SparkSession.builder.appName("zeitbuch")
    if address.startswith("sc://"):
        builder = builder.remote(address)
    else:
        builder = builder.master("local[*]" if address == "spark:local" else address)
        builder = builder.config("spark.ui.enabled", "false").config("spark.ui.showConsoleProgress", "false")
        _silence_spark(address)
    try:
        if address.startswith("sc://"):
            _reach_server(address)
        session = builder.getOrCreate()
        if address.startswith("spark://"):
            _await_workers(session, place)
        session.conf.set("spark.sql.session.timeZone", "UTC")
        session.conf.set("spark.sql.ansi.enabled", "false")
        if not address.startswith("sc://"):
            session.sparkContext.setLogLevel("OFF")
        return ibis.pyspark.connect(session), errors
    except ImportError as error:  # what it lacks, or has too old, it says itself
        raise missing_library("pyspark", str(error)) from None
    except (*errors, RuntimeError, OSError) as error:  # no Java, no cluster
        raise unreachable(place, error) from None


def _reach_server(address: str) -> None:
    """Raises OSError where no server listens: its client would try for ten minutes."""
    parts = urlsplit(address)
    try:
        port = parts.port or _CONNECT_PORT
    except ValueError:
        raise OSError("a port that is no number from 0 to 65535") from None
    with create_connection((parts.hostname or "", port), timeout=_ANSWER_WITHIN):
        pass


def _await_workers(session: Any, place: str) -> None:
    """Waits for a worker of a cluster: without one its questions would wait for ever. Raises ZeitbuchError where none comes."""
    tracker = session.sparkContext._jsc.sc().statusTracker()
    end = monotonic() + _WORKERS_WITHIN
    while len(tracker.getExecutorInfos()) < _WITH_DRIVER:
        if monotonic() > end:
            session.stop()
            raise unreachable(place, TimeoutError(f"no worker of the cluster within {_WORKERS_WITHIN:.0f} seconds"))
        sleep(0.2)


def _silence_spark(address: str) -> None:
    """Its machine talks on stderr, where only our messages stand; a local one listens to nobody else."""
    told = temporary_folder() / "log4j2.properties"
    told.write_text(_SILENT)
    given = os.environ.get("SPARK_SUBMIT_OPTS", "")
    if "log4j2.configurationFile" not in given:
        os.environ["SPARK_SUBMIT_OPTS"] = f"{given} -Dlog4j2.configurationFile={told.as_uri()}".strip()
    if address == "spark:local":
        os.environ.setdefault("SPARK_LOCAL_IP", "127.0.0.1")


_CONNECT = {"postgresql": _connect_postgres, "spark": _connect_spark}

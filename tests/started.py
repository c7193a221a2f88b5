"""A process that has the program loaded and forks it for every run: each run is a process of its own, with its own folder, environment
and streams, but none waits for the interpreter and the libraries to be loaded. It listens at a socket; `asking.py` is what asks there."""

from __future__ import annotations

import contextlib
import gc
import io
import json
import os
import pkgutil
import select
import signal
import socket
import sys
from importlib import import_module
from typing import Any

SECONDS = 300  # of a command: twice what the slowest takes on a busy machine
LIBRARIES = (
    "docx", "duckdb", "ibis.backends.duckdb", "lark", "matplotlib.backends.backend_agg", "matplotlib.backends.backend_svg", "matplotlib.figure",
    "PIL.Image", "psycopg", "pyarrow.compute", "pyarrow.parquet", "scipy.special", "scipy.stats", "sqlalchemy.dialects.postgresql",
    "sqlalchemy.dialects.sqlite", "tokenizers", "xlsxwriter",
)  # fmt: skip


def load_all() -> None:
    """Every module of the program, and the libraries that it loads only when it needs them."""
    import zeitbuch

    for module in pkgutil.walk_packages(zeitbuch.__path__, "zeitbuch."):
        if not module.name.endswith("__main__"):
            import_module(module.name)
    for name in LIBRARIES:
        with contextlib.suppress(ImportError):
            import_module(name)
    with contextlib.suppress(ImportError):
        ask_engine()


def ask_engine() -> None:
    """One question to the embedded engine: what its libraries work out once is worked out then."""
    import ibis
    import pyarrow as pa

    engine = ibis.duckdb.connect()
    engine.con.register("t", pa.table({"a": ["1", "x"], "b": ["2026-01-01", "z"], "c": [1.5, 2]}))
    table = engine.table("t")
    cleaned = ibis.ifelse(table.a.isin(["x"]), table.a.lower().strip(), ibis.null("string"))
    rows = table.mutate(d=table.a.try_cast("float64"), e=table.b.try_cast("date"), g=cleaned).filter(ibis._.c > 0)
    sums = rows.group_by(["e", "g"]).agg(n=ibis._.count(), s=ibis._.d.sum(), m=ibis._.c.max()).order_by("n")
    joined = sums.join(table.select(g="a", k="c"), "g", how="left")
    engine.con.sql(engine.compile(joined)).to_arrow_table()
    engine.disconnect()


def serve(place: str) -> None:
    """Answers at a socket until the input ends."""
    load_all()
    gc.freeze()  # what is loaded is not looked through again in every run
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # nobody waits for those that have ended
    with socket.socket(socket.AF_UNIX) as listening:
        listening.bind(place)
        listening.listen()
        print("ready", flush=True)
        while sys.stdin not in (ready := select.select([listening, sys.stdin], [], [])[0]):
            assert ready
            asked, _ = listening.accept()
            if not os.fork():
                listening.close()
                run_once(asked)
            asked.close()


def run_once(asked: socket.socket) -> None:
    """Becomes the program as it was asked for; tells its exit status and does not return."""
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    signal.alarm(SECONDS)
    said, handles, _, _ = socket.recv_fds(asked, 65536, 3)
    while not said.endswith(b"\n"):
        said += asked.recv(65536)
    become(json.loads(said), handles)
    from zeitbuch.cli.main import run

    status: Any = 1
    try:
        run()
        status = 0
    except SystemExit as left:
        status = left.code or 0
    finally:
        for stream in (sys.stdout, sys.stderr):
            with contextlib.suppress(OSError, AttributeError):
                stream.flush()
        code = status if isinstance(status, int) else 1
        asked.sendall(f"{code}\n".encode())
        os._exit(code)


def become(request: dict[str, Any], handles: list[int]) -> None:
    """Takes the words, folder, environment and streams of a request."""
    os.chdir(request["cwd"])
    os.environ.clear()
    os.environ.update(request["env"])
    for number, handle in enumerate(handles):
        os.dup2(handle, number)
        os.close(handle)
    sys.stdin = io.TextIOWrapper(io.FileIO(0, closefd=False), encoding="utf-8")  # type: ignore[type-var]
    sys.stdout = io.TextIOWrapper(io.BufferedWriter(io.FileIO(1, "w", closefd=False)), encoding="utf-8")
    sys.stderr = io.TextIOWrapper(
        io.BufferedWriter(io.FileIO(2, "w", closefd=False)), encoding="utf-8", errors="backslashreplace", line_buffering=True
    )  # fmt: skip
    sys.argv = ["zeitbuch", *request["words"]]


if __name__ == "__main__":
    serve(sys.argv[1])

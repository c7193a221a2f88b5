"""A process that has the program loaded and forks it for every run: each run is a process of its own, with its own folder, environment
and streams, but none waits for the interpreter and the libraries to be loaded. Requests and answers are lines of JSON."""

from __future__ import annotations

import contextlib
import gc
import io
import json
import os
import pkgutil
import signal
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


def serve() -> None:
    """Answers requests until the input ends."""
    load_all()
    gc.freeze()  # what is loaded is not looked through again in every run
    for line in sys.stdin:
        child = os.fork()
        if not child:
            run_once(json.loads(line))
        _, status = os.waitpid(child, 0)
        print(os.waitstatus_to_exitcode(status), flush=True)


def run_once(request: dict[str, Any]) -> None:
    """Becomes the program as it was asked for; does not return."""
    signal.alarm(SECONDS)
    os.chdir(request["cwd"])
    os.environ.clear()
    os.environ.update(request["env"])
    for number, name in enumerate(("stdin", "stdout", "stderr")):
        flags = os.O_RDONLY if not number else os.O_WRONLY | os.O_CREAT | os.O_TRUNC
        handle = os.open(request[name], flags, 0o600)
        os.dup2(handle, number)
        os.close(handle)
    sys.stdin = io.TextIOWrapper(io.FileIO(0, closefd=False), encoding="utf-8")  # type: ignore[type-var]
    sys.stdout = io.TextIOWrapper(io.BufferedWriter(io.FileIO(1, "w", closefd=False)), encoding="utf-8")
    sys.stderr = io.TextIOWrapper(
        io.BufferedWriter(io.FileIO(2, "w", closefd=False)), encoding="utf-8", errors="backslashreplace", line_buffering=True
    )  # fmt: skip
    sys.argv = ["zeitbuch", *request["words"]]
    from zeitbuch.cli.main import run

    status: Any = 1
    try:
        run()
        status = 0
    except SystemExit as left:
        status = left.code
    finally:
        for stream in (sys.stdout, sys.stderr):
            if stream is not None:
                stream.flush()
        os._exit(status if isinstance(status, int) else 1)


if __name__ == "__main__":
    serve()

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
import shutil
import signal
import socket
import sys
import tempfile
from importlib import import_module
from pathlib import Path
from typing import Any

SECONDS = 300  # of a command: twice what the slowest takes on a busy machine
LIBRARIES = (
    "docx", "duckdb", "ibis.backends.duckdb", "lark", "matplotlib.backends.backend_agg", "matplotlib.backends.backend_svg", "matplotlib.figure",
    "PIL.Image", "psycopg", "pyarrow.compute", "pyarrow.parquet", "scipy.special", "scipy.stats", "sqlalchemy.dialects.postgresql",
    "sqlalchemy.dialects.sqlite", "tokenizers", "xlsxwriter",
)  # fmt: skip
REHEARSED = (
    "inventory", "explain letters", "map -o maps", "map --estate -o e.html", "estimate", "diff october november", "check", "document -o d",
    "reconcile", "calibrate", "record", "history", "estimate -o c.png", "document --flow letters -o l.docx",
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


def rehearse() -> None:
    """Commands on the demo: what is worked out once in a process (patterns, rules, words of an engine) is worked out then."""
    from zeitbuch.cli.main import run

    before = Path.cwd(), dict(os.environ), sys.argv, sys.stdout, sys.stderr
    with tempfile.TemporaryDirectory() as folder, Path(os.devnull).open("w") as nowhere:
        sys.stdout = sys.stderr = nowhere
        shutil.copytree(Path(sys.modules["zeitbuch"].__file__ or "").parent / "demo" / "estate", f"{folder}/demo")
        os.chdir(f"{folder}/demo")
        os.environ |= {"XDG_CACHE_HOME": folder, "XDG_CONFIG_HOME": folder}
        for line in REHEARSED:
            sys.argv = ["zeitbuch", *line.split()]
            with contextlib.suppress(SystemExit):
                run()
        folder_before, env, sys.argv, sys.stdout, sys.stderr = before
        os.chdir(folder_before)
        os.environ.clear()
        os.environ.update(env)


def serve(place: str) -> None:
    """Answers at a socket until the input ends."""
    load_all()
    rehearse()
    gc.collect()
    gc.freeze()  # what is loaded is not looked through again in every run
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # nobody waits for those that have ended
    with socket.socket(socket.AF_UNIX) as listening:
        listening.bind(place)
        listening.listen()
        print("ready", flush=True)
        while sys.stdin not in select.select([listening, sys.stdin], [], [])[0]:
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

"""Shared fixtures: the installed program as a process, and the demo estate in a folder."""

from __future__ import annotations

import atexit
import gc
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import pytest
from hypothesis import settings
from hypothesis.internal.conjecture import providers

import asking
import zeitbuch
from zeitbuch.core.model.records import Estate
from zeitbuch.readers.config import workspace
from zeitbuch.readers.dialects.rules import load_dialect
from zeitbuch.readers.reading.reader import Reader, read_estate

# The drawn flows are the same every time; `tests/soak.py` draws others, for long runs by hand (see CONTRIBUTING.md).
settings.register_profile("same", derandomize=True, deadline=None)  # a slow machine is no fault
settings.load_profile("same")
gc.set_threshold(200_000, 20, 100)  # as the program does


def draws(wanted: int, often: int = 0) -> int:
    """How much a test tries: ``often`` (else four times as much) in a long run by hand (`ZEITBUCH_LONG_TESTS=1`), so that every run stays short."""
    return (often or 4 * wanted) if os.environ.get("ZEITBUCH_LONG_TESTS") else wanted


# Words of whatever modules a process has loaded are drawn as well, so that a draw would depend on the tests that ran before it.
providers.is_local_module_file = lambda _: False

if TYPE_CHECKING:
    from playwright.sync_api import Browser

ESTATE = Path(zeitbuch.__file__).parent / "demo" / "estate"


PLOTS = str(Path(tempfile.gettempdir()) / f"zeitbuch-tests-{os.getuid()}")


CHROMIUM = shutil.which("chromium") or shutil.which("chromium-browser")
# Tests that need a browser.
NEEDS_BROWSER = [
    pytest.mark.skipif(CHROMIUM is None, reason="chromium is not installed (.ci/run installs it)"),
    pytest.mark.xdist_group("browser"),
]


class Ran(NamedTuple):
    code: int
    out: str
    err: str


Run = Callable[..., Ran]


@pytest.fixture(scope="session")
def warm_cache(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A cache folder that knows the demo estate, as that of a user who has run it before."""
    folder = tmp_path_factory.mktemp("warm")
    shutil.copytree(ESTATE, folder / "demo")
    env = {**os.environ, "XDG_CACHE_HOME": str(folder / "cache")}
    for words in (["inventory", "november"], ["convert", "november"], ["convert", "october"]):
        subprocess.run([*program(), *words], cwd=folder / "demo", env=env, capture_output=True, check=True)
    return folder / "cache"


def program() -> list[str]:
    """The installed program."""
    path = Path(sys.executable).parent / "zeitbuch"
    return [str(path)] if path.exists() else [sys.executable, "-m", "zeitbuch"]


@pytest.fixture
def run(tmp_path: Path, request: pytest.FixtureRequest) -> Run:
    """Runs the program as a user would, in a temporary folder unless told where. A test of the demo begins with a cache that knows
    it, unless its module says ``EMPTY_CACHE``."""
    if "demo" in request.fixturenames and not getattr(request.module, "EMPTY_CACHE", False):
        shutil.copytree(request.getfixturevalue("warm_cache"), tmp_path / "cache")

    def go(*words: str, cwd: Path | None = None, stdin: bytes | None = None, **env: str) -> Ran:
        own = {
            **os.environ,
            "COLUMNS": "160",
            "XDG_CONFIG_HOME": str(tmp_path / "config"),
            "XDG_CACHE_HOME": str(tmp_path / "cache"),
            "MPLCONFIGDIR": PLOTS,  # or every chart would look for all fonts anew
            **env,
        }
        if not env:
            return started().run(words, cwd or tmp_path, stdin, own)
        # What the environment says may concern the interpreter: the program from its very start.
        done = subprocess.run(
            [*program(), *words], cwd=cwd or tmp_path, input=stdin, capture_output=True, timeout=120, env=own
        )
        return Ran(done.returncode, done.stdout.decode(), done.stderr.decode())

    return go


class Started:
    """The program, loaded once and forked for every run (see started.py). In the folder ``programs`` it is found by shells."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.programs = folder, folder / "programs"
        self.programs.mkdir()
        self.place = str(self.programs / "socket")
        shell = self.programs / "zeitbuch"
        shell.write_text(f"#!{sys.executable} -IS\n{Path(asking.__file__).read_text()}")
        shell.chmod(0o755)
        command = [sys.executable, str(Path(__file__).parent / "started.py"), self.place]
        env = {**os.environ, "MPLCONFIGDIR": PLOTS}
        self.process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, env=env)
        assert self.process.stdout is not None and self.process.stdout.readline() == b"ready\n"

    def run(self, words: tuple[str, ...], cwd: Path, stdin: bytes | None, env: dict[str, str]) -> Ran:
        """One run: its exit status and what it wrote."""
        places = [self.folder / name for name in ("stdin", "stdout", "stderr")]
        places[0].write_bytes(stdin or b"")
        with places[0].open("rb") as given, places[1].open("wb") as said, places[2].open("wb") as told:
            code = asking.ask(self.place, words, str(cwd), env, [given.fileno(), said.fileno(), told.fileno()])
        return Ran(code, places[1].read_bytes().decode(), places[2].read_bytes().decode())

    def path(self) -> str:
        """The variable PATH with which shells find the program, and what is installed beside it."""
        return f"{self.programs}:{Path(sys.executable).parent}:{os.environ['PATH']}"

    def stop(self) -> None:
        assert self.process.stdin is not None
        self.process.stdin.close()
        self.process.wait(10)
        shutil.rmtree(self.folder)


@cache
def started() -> Started:
    """The program, loaded; it ends with the tests."""
    made = Started(Path(tempfile.mkdtemp(prefix="zeitbuch-")))
    atexit.register(made.stop)
    return made


@pytest.fixture
def demo(tmp_path: Path) -> Path:
    """A fresh copy of the demo estate."""
    folder = tmp_path / "demo"
    shutil.copytree(ESTATE, folder)
    return folder


def read(folder: Path, *names: str) -> Estate:
    """The flows of files or folders of the demo estate."""
    dialects = [load_dialect(str(p)) for p in sorted((ESTATE / "dialects").glob("*.toml"))]
    models = workspace.load_workspace(str(ESTATE / "zeitbuch.toml")).model
    return read_estate(Reader(dialects, models=models), [str(folder / n) for n in names])


@pytest.fixture(scope="session")
def november() -> Estate:
    return read(ESTATE, "november")


@pytest.fixture(scope="session")
def october() -> Estate:
    return read(ESTATE, "october")


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    """A real browser."""
    from playwright.sync_api import sync_playwright

    with sync_playwright() as play:
        opened = play.chromium.launch(executable_path=CHROMIUM, args=["--no-sandbox"])
        yield opened
        opened.close()


@pytest.fixture(scope="session")
def axe(tmp_path_factory: pytest.TempPathFactory) -> str:
    """axe-core from the npm registry."""
    if shutil.which("npm") is None:
        pytest.skip("npm is not installed")
    folder = tmp_path_factory.mktemp("axe")
    subprocess.run(
        ["npm", "install", "--silent", "--no-audit", "--no-fund", "axe-core@4"], cwd=folder, check=True, timeout=100
    )
    return (folder / "node_modules" / "axe-core" / "axe.min.js").read_text("utf-8")

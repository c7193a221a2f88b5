"""Work on a cluster: a real scheduler and two workers, of which one is killed; what comes is what one process makes."""

from __future__ import annotations

import io
import json
import os
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import distributed
import pytest
from msgspec import json as msgspec_json
from msgspec import msgpack

from builders import ask, chain, flow
from conftest import ESTATE, Ran, Run
from zeitbuch.app import parallel_work
from zeitbuch.app.parallel_work import FEWEST, share_work
from zeitbuch.cli import main
from zeitbuch.core.model.fingerprint import fingerprint
from zeitbuch.core.model.problems import Problem, ZeitbuchError
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.readers.reading import dask_workers
from zeitbuch.readers.reading.dask_workers import DaskWorkers
from zeitbuch.readers.reading.executors import Processes, current_executor, working_with
from zeitbuch.readers.reading.parallel import MANY
from zeitbuch.readers.reading.worker_processes import Ended, Setting

FLOWS = FEWEST + 30
SOME = MANY + 10


def start(module: str, *words: str, log: Path) -> subprocess.Popen[bytes]:
    command = [sys.executable, "-m", f"distributed.cli.{module}", *words]
    tried = {"DASK_DISTRIBUTED__SCHEDULER__ALLOWED_FAILURES": "1"}  # a piece is tried twice, not four times
    return subprocess.Popen(command, stdout=log.open("wb"), stderr=subprocess.STDOUT, env={**os.environ, **tried})


class Cluster:
    """A scheduler on a free port, and workers that may be killed and started."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        self.address = f"tcp://127.0.0.1:{port}"
        words = ("--host", "127.0.0.1", "--port", str(port), "--no-dashboard")
        self.scheduler = start("dask_scheduler", *words, log=folder / "scheduler.log")
        self.workers: list[subprocess.Popen[bytes]] = []

    def have_workers(self, count: int = 2) -> None:
        self.workers = [one for one in self.workers if one.poll() is None]
        while len(self.workers) < count:
            local = str(self.folder / f"worker-{time.monotonic_ns()}")
            words = (self.address, "--nthreads", "1", "--no-dashboard", "--no-nanny", "--local-directory", local)
            self.workers.append(start("dask_worker", *words, log=self.folder / "workers.log"))
        with distributed.Client(self.address, timeout=60, set_as_default=False) as client:
            client.wait_for_workers(count, timeout=60)

    def kill_one(self) -> None:
        self.workers.pop().kill()

    def stop(self) -> None:
        for one in (*self.workers, self.scheduler):
            one.kill()
            one.wait()


@pytest.fixture(scope="module")
def started_cluster(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Cluster]:
    made = Cluster(tmp_path_factory.mktemp("cluster"))
    yield made
    made.stop()


@pytest.fixture
def cluster(started_cluster: Cluster) -> Cluster:
    started_cluster.have_workers()
    return started_cluster


def _workspace(folder: Path, flows: int) -> Path:
    """A workspace with so many exports, of which one cannot be read."""
    (folder / "exports").mkdir()
    text = (ESTATE / "november/native/fault-logger.yaml").read_text()
    for place in range(flows):
        (folder / f"exports/f{place:03}.yaml").write_text(text.replace("id: fault-logger", f"id: fault-logger-{place}"))
    (folder / "exports/f007.yaml").write_text(text.replace("kind: ", "kind: [", 1))
    (folder / "rates.toml").write_bytes((ESTATE / "rates.toml").read_bytes())
    (folder / "zeitbuch.toml").write_text('sources = ["exports"]\nrates = "rates.toml"\nmonth = "2026-11"\n')
    return folder


@pytest.fixture(scope="module")
def estate(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return _workspace(tmp_path_factory.mktemp("many"), FLOWS)


@pytest.fixture(scope="module")
def fewer(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """So few that work on them is shared out by those tests alone that ask for it (``shared_soon``)."""
    return _workspace(tmp_path_factory.mktemp("fewer"), SOME)


@pytest.fixture
def shared_soon(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """Work on few flows, too, is shared out; at the end that it was."""
    shared: list[Setting] = []
    share = DaskWorkers.share

    def noted(self: DaskWorkers, setting: Setting, pieces: Any) -> Iterator[Any]:
        shared.append(setting)
        return share(self, setting, pieces)

    monkeypatch.setattr(parallel_work, "FEWEST", SOME // 2)
    monkeypatch.setattr(DaskWorkers, "share", noted)
    yield
    assert shared


@pytest.fixture
def run_here(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Run:
    """Runs the program in this process, which has the library of the cluster loaded."""
    for name, value in (("COLUMNS", "160"), ("XDG_CONFIG_HOME", str(tmp_path)), ("XDG_CACHE_HOME", str(tmp_path))):
        monkeypatch.setenv(name, value)

    def go(*words: str, cwd: Path | None = None, **_: str) -> Ran:
        streams = [io.TextIOWrapper(io.BytesIO(), encoding="utf-8", write_through=True) for _ in range(2)]
        with monkeypatch.context() as there:
            there.chdir(cwd or tmp_path)
            there.setattr(sys, "argv", ["zeitbuch", *words])
            there.setattr(sys, "stdout", streams[0])
            there.setattr(sys, "stderr", streams[1])
            code: Any = 0
            try:
                main.run()
            except SystemExit as left:
                code = left.code or 0
        out, err = [stream.buffer.getvalue().decode() for stream in streams]  # type: ignore[attr-defined]
        return Ran(code, out, err)

    return go


COMMANDS = (["inventory", "-f", "csv"], ["check", "-f", "csv"], ["estimate", "--runs", "0", "-f", "json"])


@pytest.mark.usefixtures("shared_soon")
@pytest.mark.parametrize("words", COMMANDS, ids=lambda words: words[0])
def test_a_cluster_makes_what_one_process_makes(
    run: Run, run_here: Run, fewer: Path, cluster: Cluster, words: list[str]
) -> None:
    alone = run(*words, "--no-cache", "--workers", "1", cwd=fewer)
    far = run_here(*words, "--no-cache", "--workers", cluster.address, cwd=fewer)
    assert alone.out.count("\n") >= SOME and "f007.yaml" in alone.err
    assert far == alone


@pytest.mark.usefixtures("shared_soon")
def test_documents_of_a_cluster_are_the_same(
    run: Run, run_here: Run, fewer: Path, cluster: Cluster, tmp_path: Path
) -> None:
    for go, name, who in ((run, "alone", "1"), (run_here, "far", cluster.address)):
        go(
            "document",
            "-f",
            "markdown",
            "-o",
            str(tmp_path / name),
            "--no-cache",
            "--workers",
            who,
            cwd=fewer,
        )
    pages = sorted(path.relative_to(tmp_path / "alone") for path in (tmp_path / "alone").rglob("*") if path.is_file())
    assert len(pages) > SOME
    assert all((tmp_path / "alone" / page).read_bytes() == (tmp_path / "far" / page).read_bytes() for page in pages)


@pytest.mark.usefixtures("shared_soon")
def test_a_second_run_takes_from_the_cache_what_the_cluster_read(run_here: Run, fewer: Path, cluster: Cluster) -> None:
    first = run_here("inventory", "-f", "csv", "--workers", cluster.address, cwd=fewer)
    assert run_here("inventory", "-f", "csv", cwd=fewer) == first


def test_a_worker_killed_in_the_midst_changes_nothing(run: Run, estate: Path, cluster: Cluster) -> None:
    words = ["estimate", "--runs", "2000", "-f", "csv", "--no-cache"]
    alone = run(*words, "--workers", "1", cwd=estate)
    command = [sys.executable, "-m", "zeitbuch", *words, "--workers", cluster.address]
    with subprocess.Popen(command, cwd=estate, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL) as running:
        with distributed.Client(cluster.address, set_as_default=False) as client:
            deadline = time.monotonic() + 60
            while not any(client.processing().values()) and time.monotonic() < deadline:
                time.sleep(0.01)
            cluster.kill_one()
        out, _ = running.communicate(timeout=250)
    assert running.returncode == alone.code == 2  # one export cannot be read
    assert out.decode() == alone.out


def test_a_piece_that_ends_every_worker_is_told_and_the_others_are_done(cluster: Cluster) -> None:
    def double(_: None, piece: int) -> int:
        if piece == 13:
            os._exit(3)
        return 2 * piece

    cluster.have_workers(3)  # one is lost at each try
    with DaskWorkers(cluster.address) as workers:
        made = list(workers.share(Setting(int, (), double), [1, 13, 2]))
    assert made == [2, Ended(None), 4] and "ended" in str(Ended(None))


def test_a_worker_that_ends_while_all_are_told_is_not_the_end_of_the_cluster() -> None:
    """The library sends to a worker that has just ended, and says so: the others are asked again."""

    class Client:
        status, told = "running", 0

        def scatter(self, packed: bytes, **_: object) -> bytes:
            self.told += 1
            if self.told in (2, 3):
                raise OSError("a worker has gone")
            return packed

        def wait_for_workers(self, count: int, timeout: float) -> None:
            assert count == 1 and timeout > 0

        def submit(self, *given: object, pure: bool) -> object:
            return given[-1]

    workers: Any = SimpleNamespace(
        client=Client(),
        address="tcp://nowhere:1",
        _problem=lambda message: ZeitbuchError(Problem("workers", "error", message)),
    )
    run = dask_workers._Run(workers, b"x")
    assert run._submit_again(7) == 7 and workers.client.told == 4
    workers.client.told, workers.client.status = 1, "closed"
    with pytest.raises(ZeitbuchError, match="is lost"):
        run._submit_again(7)


def test_what_a_worker_raises_is_raised_here_and_others_come_in_order(cluster: Cluster) -> None:
    def work(places: range) -> list[int]:
        if 100 in places:
            raise ValueError("a hundred")
        return list(places)

    with DaskWorkers(cluster.address) as workers, working_with(workers):
        assert [place for part in share_work(lambda places: list(places), FEWEST) for place in part] == list(
            range(FEWEST)
        )
        with pytest.raises(ValueError, match="a hundred"):
            list(share_work(work, FEWEST))
        assert list(share_work(list, 3)) == [[0, 1, 2]]  # not worth a journey
    assert isinstance(current_executor(), Processes)


def test_workers_with_another_zeitbuch_are_refused(cluster: Cluster, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(dask_workers, "__version__", "9.9")
    with (
        pytest.raises(ZeitbuchError, match=r"expected Zeitbuch 9\.9 .* found .*\[workers\]"),
        DaskWorkers(cluster.address),
    ):
        pass


def test_nobody_there_is_told(run: Run, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(dask_workers, "WITHIN", 1)
    with pytest.raises(ZeitbuchError, match=r"expected a Dask scheduler at tcp://127\.0\.0\.1:9, found: .*\[workers\]"):
        DaskWorkers("tcp://127.0.0.1:9")
    with pytest.raises(ZeitbuchError, match="expected a Dask scheduler at nonsense://x"):
        DaskWorkers("nonsense://x")
    for named in ("0", "257", "many", "-1", "²"):
        found = run("inventory", f"--workers={named}", ".")
        assert found.code == 2 and "expected --workers with a number from 1 to 256" in found.err


def test_a_flow_from_another_process_is_written_as_it_was() -> None:
    import pickle

    made: Flow = chain(ask("a"), ask("b"))
    code = "import pickle, sys\nfrom msgspec import json\nsys.stdout.buffer.write(json.encode(pickle.load(sys.stdin.buffer)))"
    packed = pickle.dumps(Estate((made, flow([ask("x")], [], id="other"))))
    done = subprocess.run([sys.executable, "-c", code], input=packed, capture_output=True, check=True)
    assert done.stdout == msgspec_json.encode(pickle.loads(packed))
    assert json.loads(done.stdout)["flows"][0] == json.loads(msgspec_json.encode(made))
    again: Flow = pickle.loads(pickle.dumps(made))
    assert fingerprint(again) == fingerprint(made) and msgpack.encode(again) == msgpack.encode(made)


def test_an_error_of_the_work_is_told_as_it_is(cluster: Cluster) -> None:
    def work(places: range) -> int:
        raise OSError("no room")

    with DaskWorkers(cluster.address) as workers, working_with(workers), pytest.raises(OSError, match="no room"):
        list(share_work(work, FEWEST))


def test_a_cluster_that_is_lost_in_the_midst_is_told(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(dask_workers, "WITHIN", 3)
    cluster = Cluster(tmp_path)
    try:
        cluster.have_workers(1)

        def slow(_: None, piece: int) -> int:
            time.sleep(0.2)
            return piece

        with (
            DaskWorkers(cluster.address) as workers,
            pytest.raises(ZeitbuchError, match=r"found that it is lost.*\[workers\]"),
        ):
            for _ in workers.share(Setting(int, (), slow), range(100)):
                cluster.stop()
    finally:
        cluster.stop()

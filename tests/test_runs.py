"""Runs over folders: worker processes and the cache give what one process reads, whatever happens to the cache."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

import pytest

from conftest import ESTATE, Run
from zeitbuch.core.model.records import Flow
from zeitbuch.core.report.inventory import Row, inventory_row
from zeitbuch.readers.dialects.rules import load_dialect
from zeitbuch.readers.input.limits import Limits
from zeitbuch.readers.input.sources import list_files
from zeitbuch.readers.reading import cache as caches
from zeitbuch.readers.reading.parallel import ReadingRun, ReadingSetting
from zeitbuch.readers.reading.reader import Reader

EMPTY_CACHE = True  # caches are looked into

DIALECTS = [load_dialect(str(p)) for p in sorted((ESTATE / "dialects").glob("*.toml"))]


@pytest.fixture
def many(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """Many files, some of them bad, last changed a while ago."""
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    folder = tmp_path / "many"
    files = [p for p in (ESTATE / "november").rglob("*") if p.is_file()]
    for n in range(12):
        for path in files:
            target = folder / f"{n:02d}" / path.name
            target.parent.mkdir(parents=True, exist_ok=True)
            shutil.copy(path, target)
    (folder / "bad.json").write_text('{"a": ')
    (folder / "other.json").write_text('{"a": 1}')
    for path in folder.rglob("*"):
        os.utime(path, (1_700_000_000, 1_700_000_000))
    return folder


def everything(folder: Path, kind: type, cache: bool, workers: int) -> tuple[list[object], list[str]]:
    make = inventory_row if kind is Row else lambda flow: flow
    setting = ReadingSetting(DIALECTS, Limits(), outline=kind is Row, texts=kind is not Row)
    run = ReadingRun(setting, list(list_files([str(folder)])), make, kind, cache=cache, workers=workers)
    results = [r for _, found in run for r in found]
    return results, [str(p) for p in run.tally.problems]


@pytest.mark.parametrize("kind", [Row, Flow])
def test_cache_and_workers_change_nothing(kind: type, many: Path) -> None:
    plain = everything(many, kind, cache=False, workers=1)
    assert (
        len(plain[0]) == 12 * 17
        and any("json-syntax" in p for p in plain[1])
        and any("unrecognised" in p for p in plain[1])
    )
    assert everything(many, kind, cache=False, workers=3) == plain
    assert everything(many, kind, cache=True, workers=2) == plain
    assert everything(many, kind, cache=True, workers=2) == plain


def test_outlines_give_the_rows_of_whole_flows() -> None:
    inputs = list(list_files([str(ESTATE / "november"), str(ESTATE / "october")]))
    whole = [inventory_row(f) for f in Reader(DIALECTS).flows_of(inputs)]
    for texts in (True, False):
        assert [inventory_row(f) for f in Reader(DIALECTS, outline=True, texts=texts).flows_of(inputs)] == whole


def test_only_what_changed_is_read_again(many: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    everything(many, Row, cache=True, workers=1)
    read: list[str] = []
    original = Reader.flows_of

    def watched(self: Reader, inputs: object, known: object = None) -> object:
        read.extend(inputs)  # type: ignore[arg-type]
        return original(self, inputs, known)  # type: ignore[arg-type]

    monkeypatch.setattr(Reader, "flows_of", watched)
    everything(many, Row, cache=True, workers=1)
    assert read == []
    path = many / "03" / "letters.json"
    path.write_text(path.read_text().replace("Customer letters", "Letters of customers"))
    results, _ = everything(many, Row, cache=True, workers=1)
    assert read == [str(path)] and sum(r.name == "Letters of customers" for r in results) == 1  # type: ignore[attr-defined]
    read.clear()
    os.utime(many / "04" / "letters.json")  # touched, not changed: its content is looked at, nothing is read from it
    results, _ = everything(many, Row, cache=True, workers=1)
    assert len(results) == 12 * 17
    other = ReadingSetting(DIALECTS[:2], Limits(), outline=True, texts=False)
    assert other.cache_key("Row") != ReadingSetting(DIALECTS, Limits(), outline=True, texts=False).cache_key("Row")
    assert other.cache_key("Row") != other._replace(limits=Limits(depth=9)).cache_key("Row")


def test_a_change_within_the_same_moment_is_seen(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    path = tmp_path / "in" / "x.yaml"
    path.parent.mkdir()
    text = (ESTATE / "november/native/fault-logger.yaml").read_text()
    path.write_text(text)
    state = path.stat()
    everything(path.parent, Row, cache=True, workers=1)
    path.write_text(text.replace("Fault logger", "Fault lagger"))
    os.utime(path, ns=(state.st_atime_ns, state.st_mtime_ns))
    (found,), _ = everything(path.parent, Row, cache=True, workers=1)
    assert found.name == "Fault lagger"  # type: ignore[attr-defined]


@pytest.mark.parametrize("damage", ["cut", "flip", "empty", "folder", "nonsense"])
def test_a_damaged_cache_is_as_good_as_none(damage: str, many: Path, tmp_path: Path) -> None:
    plain = everything(many, Row, cache=True, workers=1)
    (path,) = (tmp_path / "cache" / "zeitbuch").glob("*.read")
    raw = path.read_bytes()
    path.unlink()
    if damage == "folder":
        path.mkdir()
    else:
        half = len(raw) // 2
        path.write_bytes(
            {"cut": raw[:half], "flip": raw[:half] + b"\xff" + raw[half + 1 :], "empty": b"", "nonsense": b"zz" * 900}[
                damage
            ]
        )
    assert everything(many, Row, cache=True, workers=1) == plain


def test_an_entry_of_another_form_is_read_anew(many: Path) -> None:
    plain = everything(many, Row, cache=True, workers=1)
    key = ReadingSetting(DIALECTS, Limits(), outline=True, texts=False).cache_key("Row")
    cache = caches.Cache(key)
    cache.fresh = dict.fromkeys(cache.contents(), b"\x93\x01\x02\x03")
    cache.save_cache()
    assert everything(many, Row, cache=True, workers=1) == plain


def test_a_damaged_or_huge_entry_costs_nothing_to_the_others(many: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    plain = everything(many, Row, cache=True, workers=1)
    key = ReadingSetting(DIALECTS, Limits(), outline=True, texts=False).cache_key("Row")
    before = caches.Cache(key)
    raw = bytearray(before.path.read_bytes())
    raw[-1] ^= 0xFF
    before.path.write_bytes(bytes(raw))
    cache = caches.Cache(key)
    whole = [content for content in cache.contents() if cache.entry_of(content) is not None]
    assert len(whole) == len(before.contents()) - 1 > 10
    assert everything(many, Row, cache=True, workers=1) == plain
    monkeypatch.setattr(caches, "MOST_ENTRY", 100)
    cache.put_entry("huge", b"huge", None, b"x" * 101)
    cache.put_entry("small", b"small", None, b"x" * 99)
    cache.save_cache()
    after = caches.Cache(key)
    assert after.entry_of(b"huge") is None and after.entry_of(b"small") == b"x" * 99
    assert all(after.entry_of(content) is not None for content in whole)


def test_a_cache_that_cannot_be_written_costs_only_the_cache(many: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", "/dev/null/nowhere")
    assert len(everything(many, Row, cache=True, workers=1)[0]) == 12 * 17


def test_runs_at_the_same_time_agree(many: Path, tmp_path: Path) -> None:
    words = [w for p in (ESTATE / "dialects").glob("*.toml") for w in ("--dialect", str(p))]
    command = [sys.executable, "-m", "zeitbuch", "inventory", str(many), *words, "-f", "csv", "-q"]
    running = [subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL) for _ in range(4)]
    outputs = [p.communicate(timeout=120)[0] for p in running]
    assert len(set(outputs)) == 1 and outputs[0].count(b"\n") == 12 * 17 + 1
    left = sorted(path.suffix for path in (tmp_path / "cache" / "zeitbuch").iterdir())
    assert left == [".key", ".read"], "nothing half written is left"


def test_no_cache_leaves_nothing(demo: Path, tmp_path: Path, run: Run) -> None:
    first = run("inventory", "--no-cache", "-f", "json", cwd=demo)
    assert not (tmp_path / "cache").exists()
    assert run("inventory", "-f", "json", cwd=demo).out == first.out
    assert list((tmp_path / "cache" / "zeitbuch").glob("*.read"))
    time.sleep(0.01)
    assert json.loads(run("inventory", "-f", "json", cwd=demo).out) == json.loads(first.out)


KILLED = """
import multiprocessing, os, time
from zeitbuch.readers.reading.worker_processes import Setting, Workers
with Workers(multiprocessing.get_context("fork"), 3, Setting(int, (), lambda _, piece: os.getpid())) as workers:
    print(*set(workers.share_pieces(range(40))), flush=True)
    print(*[process.pid for process in workers._running.values()], flush=True)
    time.sleep(60)
"""


@pytest.mark.skipif(not Path("/proc/self/stat").exists(), reason="nothing tells here which processes there are")
def test_workers_end_when_their_parent_is_killed() -> None:
    parent = subprocess.Popen([sys.executable, "-c", KILLED], stdout=subprocess.PIPE)
    assert parent.stdout is not None
    worked, running = ([int(pid) for pid in parent.stdout.readline().split()] for _ in range(2))
    assert len(running) == 3 and set(worked) <= set(running)
    parent.kill()
    parent.wait(10)
    deadline = time.monotonic() + 20
    while (alive := [pid for pid in running if _is_running(pid)]) and time.monotonic() < deadline:
        time.sleep(0.05)
    assert alive == []


def _is_running(pid: int) -> bool:
    """Whether a process is there and not only waiting to be asked how it ended."""
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except FileNotFoundError:
        return False

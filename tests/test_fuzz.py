"""Broken exports, packages, TOML files and books through whole commands: an answer or a message, never a fault, a hang or much memory.

``ZEITBUCH_FUZZ=20000 pytest tests/test_fuzz.py`` runs as many as are asked for; in the ordinary run a few, with a fixed seed.
"""

from __future__ import annotations

import os
import random
import shutil
import signal
from collections.abc import Callable
from pathlib import Path
from types import FrameType

import pytest

from conftest import ESTATE
from test_safety import broken
from zeitbuch.cli.main import main

RUNS = int(os.environ.get("ZEITBUCH_FUZZ", "240"))
SEED = int(os.environ.get("ZEITBUCH_FUZZ_SEED", "14"))
SECONDS = 10
TOMLS = sorted(ESTATE.rglob("*.toml"))


def damaged(raw: bytes, draw: random.Random) -> bytes:
    """Bytes with some put in, taken out, doubled or in another order."""
    for _ in range(draw.randrange(1, 4)):
        a, b = sorted(draw.randrange(len(raw) + 1) for _ in range(2))
        way = draw.randrange(6)
        if way == 0:
            raw = raw[:a] + bytes(draw.randrange(256) for _ in range(draw.randrange(1, 9))) + raw[a:]
        elif way == 1:
            raw = raw[:a] + raw[min(b, a + 40) :]
        elif way == 2:
            raw = raw[:b] + raw[a:b][:2000] + raw[b:]
        elif way == 3:
            raw = raw[:a]
        elif way == 4:
            lines = raw.split(b"\n")
            draw.shuffle(lines)
            raw = b"\n".join(lines)
        else:
            words = [
                b"9" * draw.choice((5, 30, 5000)),
                b"nan",
                b"-1e999",
                b"[" * 70,
                b"true",
                b'""',
                b"{}",
                b"\xff\xfe",
                b"1979-05-27",
            ]
            raw = raw[:a] + draw.choice(words) + raw[a + draw.randrange(8) :]
    return raw


def with_export(folder: Path, draw: random.Random) -> list[str]:
    """A broken export, and a command that reads it."""
    name, raw = broken(draw)
    (folder / name).write_bytes(raw)
    dialects = [word for path in sorted((ESTATE / "dialects").glob("*.toml")) for word in ("--dialect", str(path))]
    other = str(draw.choice(sorted((ESTATE / "october").rglob("*.json"))))
    return draw.choice(
        [
            ["inventory", name, *dialects], ["estimate", name, "--steps", *dialects], ["map", name, "-o", "maps", *dialects],
            ["convert", name, *dialects],
            ["convert", name, "-f", draw.choice(["bpmn", "serverless", "arazzo", "agent-spec"]), *dialects], ["document", name, "-o", "documents", *dialects],
            ["diff", other, name, *dialects], ["diff", name, "--clones", *dialects], ["record", name, "--book", "book.sqlite", *dialects],
            ["map", name, "--estate", "-o", "estate.html", *dialects], ["dialect", "suggest", name, "-o", "new.toml", "--force"],
        ]
    )  # fmt: skip


def with_toml(folder: Path, draw: random.Random) -> list[str]:
    """A broken file of rates, assumptions, a scenario, a dialect or the workspace, and a command that reads it."""
    path = draw.choice(TOMLS)
    (folder / "a.toml").write_bytes(damaged(path.read_bytes(), draw))
    source = str(ESTATE / "november" / "native")
    kind = path.parent.name
    if kind == "dialects":
        return draw.choice(
            [
                ["inventory", str(ESTATE / "november" / "strandline"), "--dialect", "a.toml"],
                ["dialect", "test", str(ESTATE / "november" / "strandline"), "--dialect", "a.toml"],
            ]
        )
    if kind == "scenarios":
        return ["compare", source, "--scenario", "a.toml", "--rates", str(ESTATE / "rates.toml")]
    if path.name == "zeitbuch.toml":
        shutil.copy(folder / "a.toml", folder / "zeitbuch.toml")
        return ["inventory", source]
    return ["estimate", source, f"--{path.stem}", "a.toml"]


def with_book(folder: Path, draw: random.Random) -> list[str]:
    """A broken book, or one exported and broken, and a command that reads it."""
    if draw.random() < 0.5:
        (folder / "b.sqlite").write_bytes(damaged((folder.parent / "whole.sqlite").read_bytes(), draw))
        return draw.choice(
            [
                ["history", "--book", "b.sqlite"],
                ["history", "--verify", "--book", "b.sqlite"],
                ["inventory", "@latest", "--book", "b.sqlite"],
            ]
        )
    (folder / "b.tar").write_bytes(damaged((folder.parent / "whole.tar").read_bytes(), draw))
    return ["history", "--import", "b.tar", "--book", "fresh.sqlite"]


WAYS: list[Callable[[Path, random.Random], list[str]]] = [with_export, with_export, with_toml, with_book]


def _memory(what: str) -> int:
    """Kilobytes that this process has (VmRSS), or has had at most (VmHWM; see proc(5))."""
    (line,) = [one for one in Path("/proc/self/status").read_text().splitlines() if one.startswith(f"{what}:")]
    return int(line.split()[1])


def test_broken_inputs_end_in_answers_or_messages(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capfd: pytest.CaptureFixture[str]
) -> None:
    def too_long(_signal: int, _frame: FrameType | None) -> None:
        raise TimeoutError(f"more than {SECONDS} seconds")

    monkeypatch.chdir(tmp_path)
    for words in (
        ["record", str(ESTATE / "november" / "native"), "--book", "whole.sqlite"],
        ["history", "--export", "whole.tar", "--book", "whole.sqlite"],
    ):
        assert main([*words, "-q"]) == 0
    signal.signal(signal.SIGALRM, too_long)
    # Begins to count the most anew: what other tests in this process took is none of this one.
    Path("/proc/self/clear_refs").write_text("5")
    begun = _memory("VmRSS")
    odd: list[str] = []
    for number in range(RUNS):
        draw = random.Random(SEED * 1_000_000 + number)
        folder = tmp_path / str(number)
        folder.mkdir()
        os.chdir(folder)
        words = WAYS[number % len(WAYS)](folder, draw)
        signal.alarm(SECONDS)
        try:
            status: object = main([*words, "--no-cache"] if words[0] not in ("dialect", "history") else words)
        except SystemExit as ended:
            status = ended.code
        except BaseException as error:
            status = f"{type(error).__name__}: {error}"
        signal.alarm(0)
        told = capfd.readouterr().err
        if status not in (0, 1, 2) or "fault of Zeitbuch" in told or "Traceback" in told:
            odd.append(f"{number}: {' '.join(words)[:150]} -> {status} {told[-300:]}")
        os.chdir(tmp_path)
        shutil.rmtree(folder)
    assert odd == []
    assert _memory("VmHWM") - begun < 800_000

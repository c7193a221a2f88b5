"""Record an estate again and again, 1 % of it changed each time: python benchmarks/growth.py [SNAPSHOTS] [FLOWS] [BYTES OF A FLOW].

Says how long a record takes, how much the book grows by a snapshot, beside the bytes of the files that changed, and how long it takes to
verify the book and to read its oldest and newest state back.
"""

from __future__ import annotations

import os
import random
import re
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from make_estate import write
from run import DIALECT, ZEITBUCH

DEMO = DIALECT.parent.parent


def change(folder: Path, state: int, share: float = 0.01) -> int:
    """Other words in a prompt of a few files; how many bytes these files have."""
    files = sorted(folder.iterdir())
    changed = 0
    for path in random.Random(state).sample(files, max(1, round(len(files) * share))):
        text = path.read_text()
        words = re.search(r'": "([a-z0-9 ]{60,})"', text)  # a prompt
        assert words is not None
        path.write_text(text[: words.end(1)] + f" s{state}" + text[words.end(1) :])
        changed += path.stat().st_size
    return changed


def main(snapshots: int, flows: int, size: int) -> None:
    with tempfile.TemporaryDirectory() as name:
        base = Path(name)
        env = {**os.environ, "XDG_CACHE_HOME": str(base / "cache")}
        write(base / "exports", flows, size)
        book = base / "book.sqlite"
        words = [
            ZEITBUCH,
            "record",
            str(base / "exports"),
            "--dialect",
            str(DIALECT),
            "--rates",
            str(DEMO / "rates.toml"),
        ]
        command = [*words, "--book", str(book), "--quiet"]
        times, grown, changed = [], [], []
        for state in range(snapshots):
            if state:
                changed.append(change(base / "exports", state))
            before = book.stat().st_size if book.exists() else 0
            begun = time.perf_counter()
            subprocess.run(command, env=env, check=True, stdout=subprocess.DEVNULL)
            times.append(time.perf_counter() - begun)
            grown.append(book.stat().st_size - before)
        print(
            f"{snapshots} snapshots of {flows:,} flows of {size:,} bytes; the first took {times[0]:.1f} s, {grown[0] / 1e6:.1f} MB"
        )
        print(
            f"a record with 1 % changed: median {statistics.median(times[1:]):.2f} s, the last twenty {statistics.median(times[-20:]):.2f} s; "
            f"{statistics.mean(grown[1:]) / 1e3:.1f} kB a snapshot, for {statistics.mean(changed) / 1e3:.1f} kB of changed files"
        )
        for what in (
            ["history", "--verify"],
            ["inventory", "@1", "-f", "json"],
            ["inventory", "@latest", "-f", "json"],
            ["history"],
        ):
            begun = time.perf_counter()
            options = ["--dialect", str(DIALECT)] if what[0] == "inventory" else []
            subprocess.run(
                [ZEITBUCH, *what, *options, "--book", str(book), "--quiet"],
                env=env,
                check=True,
                stdout=subprocess.DEVNULL,
            )
            print(f"{' '.join(what)}: {time.perf_counter() - begun:.2f} s")


if __name__ == "__main__":
    given = [int(word) for word in sys.argv[1:]] + [1000, 2000, 8000][len(sys.argv) - 1 :]
    main(*given)

"""Inventory, check and exact estimate of estates of growing size: python benchmarks/scale.py [FLOWS ...]. For docs/scale.md.

Each flow is a file of about 4 KB. Says wall and CPU seconds and the memory of all processes together at its highest, and the power with which
each grows between the first and the last size.
"""

from __future__ import annotations

import math
import os
import shutil
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

from make_estate import write
from run import DIALECT, ZEITBUCH

SIZE = 4_000
RATES = DIALECT.parent.parent / "rates.toml"
WORK = {
    "inventory": ["inventory", "-f", "csv"],
    "check": ["check", "-f", "csv"],
    "estimate": ["estimate", "--runs", "0", "-f", "csv"],
}


def memory_of(root: int) -> int:
    """Bytes that a process and all below it hold, what they share counted once as far as the system says (proportional set size)."""
    total, waiting = 0, [root]
    while waiting:
        process = waiting.pop()
        try:
            text = Path(f"/proc/{process}/smaps_rollup").read_text()
            total += next(int(line.split()[1]) for line in text.splitlines() if line.startswith("Pss:")) * 1024
            for task in Path(f"/proc/{process}/task").iterdir():
                waiting += map(int, (task / "children").read_text().split())
        except (OSError, StopIteration, ValueError):
            continue
    return total


def measured(words: list[str], env: dict[str, str], program: str = ZEITBUCH) -> tuple[float, float, float]:
    """Wall seconds, CPU seconds and megabytes of a run."""
    highest = 0
    before = os.times()
    begun = time.perf_counter()
    with subprocess.Popen([program, *words], env=env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as running:
        ended = threading.Event()

        def watch() -> None:
            nonlocal highest
            while not ended.wait(0.25):
                highest = max(highest, memory_of(running.pid))

        watcher = threading.Thread(target=watch)
        watcher.start()
        running.wait()
        ended.set()
        watcher.join()
    after = os.times()
    cpu = after.children_user + after.children_system - before.children_user - before.children_system
    return time.perf_counter() - begun, cpu, highest / 1e6


def main(sizes: list[int]) -> None:
    found: dict[str, list[tuple[float, float, float]]] = {name: [] for name in WORK}
    for flows in sizes:
        with tempfile.TemporaryDirectory() as name:
            base = Path(name)
            write(base / "exports", flows, SIZE)
            shutil.copy(RATES, base / "rates.toml")
            setting = f'sources = ["exports"]\ndialects = ["{DIALECT}"]\nrates = "rates.toml"\nmonth = "2026-11"\n'
            (base / "zeitbuch.toml").write_text(setting)
            env = {**os.environ, "XDG_CACHE_HOME": str(base / "cache"), "ZEITBUCH_WORKSPACE": name}
            for work, words in WORK.items():
                row = measured([*words, "--no-cache"], env)
                found[work].append(row)
                print(
                    f"{flows:>7,} flows  {work:<10} {row[0]:8.1f} s wall {row[1]:8.1f} s CPU {row[2]:8.0f} MB",
                    flush=True,
                )
    if len(sizes) > 1:
        for work, rows in found.items():
            powers = [math.log(rows[-1][at] / rows[0][at]) / math.log(sizes[-1] / sizes[0]) for at in range(3)]
            print(f"growth of {work:<10} wall {powers[0]:.2f}  CPU {powers[1]:.2f}  memory {powers[2]:.2f}")


if __name__ == "__main__":
    main([int(word.replace(",", "")) for word in sys.argv[1:]] or [1_000, 10_000])

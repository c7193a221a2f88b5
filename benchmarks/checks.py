"""What checking an estate costs beside reading it: python benchmarks/checks.py [FLOWS] [TIMES].

Both are processes of their own, by turns, nothing kept between them: one reads all flows and ends, the other is `zeitbuch check`. Said are CPU seconds of
all their processes (the machine may be busy with others) and wall seconds, each the least of its times, and the most memory that one process had.
"""

from __future__ import annotations

import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from make_estate import write
from run import DIALECT, ZEITBUCH

READ = """
import sys
from zeitbuch.app.session import Session
from zeitbuch.readers.dialects.rules import load_dialect
flows = Session(dialects=[load_dialect(sys.argv[2])], cache=False).estate([sys.argv[1]]).flows
print(len(flows))
"""


def measured(command: list[str], folder: Path) -> tuple[float, float, float]:
    """CPU seconds, wall seconds and megabytes of a command."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    begun = time.perf_counter()
    done = subprocess.run(command, cwd=folder, stdout=subprocess.DEVNULL, check=False)
    wall = time.perf_counter() - begun
    assert done.returncode in (0, 1)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    cpu = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
    return cpu, wall, after.ru_maxrss / 1024


def main(flows: int, times: int) -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        os.environ["XDG_CACHE_HOME"] = str(folder / "cache")
        write(folder / "exports", flows, 24_000)
        reading = [sys.executable, "-c", READ, "exports", str(DIALECT)]
        checking = [ZEITBUCH, "check", "exports", "--dialect", str(DIALECT), "--no-cache", "--quiet", "-f", "jsonl"]
        rows: dict[str, list[tuple[float, float, float]]] = {"reading": [], "checking": []}
        for _ in range(times):
            rows["reading"].append(measured(reading, folder))
            rows["checking"].append(measured(checking, folder))
    least = {key: tuple(min(row[place] for row in found) for place in range(3)) for key, found in rows.items()}
    for key, (cpu, wall, most) in least.items():
        print(f"{key:9} {flows:,} flows: {cpu:7.1f} s CPU, {wall:7.1f} s wall, {most:,.0f} MB")
    print(
        f"checking / reading: {least['checking'][0] / least['reading'][0]:.2f} CPU, {least['checking'][1] / least['reading'][1]:.2f} wall"
    )


if __name__ == "__main__":
    numbers = [int(word) for word in sys.argv[1:]]
    main(*(numbers + [2_000, 3][len(numbers) :]))

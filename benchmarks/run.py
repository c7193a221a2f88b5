"""Measure against baselines in one run: python benchmarks/run.py [FLOWS]. Prints the table that README shows."""

from __future__ import annotations

import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import shapes
from make_estate import write, write_one

HERE = Path(__file__).parent
DIALECT = HERE.parent / "src" / "zeitbuch" / "demo" / "estate" / "dialects" / "strandline.toml"
POINTERS = DIALECT.with_name("pilotline.toml")
ZEITBUCH = str(Path(sys.executable).parent / "zeitbuch")
BASELINE = """
import json, sys
from pathlib import Path
for path in sorted(Path(sys.argv[1]).iterdir()):
    json.loads(path.read_bytes())
"""
SHAPES = {"tidemark": "adjacency", "kvarte": "tree", "lockgate": "predecessors", "pilotline": "pointers"}
PEAK = """
import resource, subprocess, sys
subprocess.run(sys.argv[1:], check=True, stdout=subprocess.DEVNULL)
print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)
"""


def seconds(command: list[str]) -> float:
    begun = time.perf_counter()
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - begun


def paired(ours: list[str], theirs: list[str], rounds: int) -> tuple[float, float, float]:
    """Medians of both and of the ratio, runs taken in turn so that both meet the same machine."""
    seconds(ours), seconds(theirs)
    pairs = [(seconds(ours), seconds(theirs)) for _ in range(rounds)]
    return (
        statistics.median(a for a, _ in pairs),
        statistics.median(b for _, b in pairs),
        statistics.median(a / b for a, b in pairs),
    )


def cpu_seconds(command: list[str]) -> float:
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def cpu_ratio(ours: list[str], theirs: list[str], rounds: int) -> float:
    """The median ratio of CPU seconds, all processes together."""
    cpu_seconds(ours)
    return statistics.median(cpu_seconds(ours) / cpu_seconds(theirs) for _ in range(rounds))


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 2000
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "estate"
        size = write(folder, count) / count
        os.environ["XDG_CACHE_HOME"] = str(Path(name) / "cache")
        again = [ZEITBUCH, "inventory", str(folder), "--dialect", str(DIALECT), "--quiet"]
        inventory = [*again, "--no-cache"]
        baseline = [sys.executable, "-c", BASELINE, str(folder)]
        rows = [
            (
                f"inventory of {count:,} flows of {size / 1000:.0f} KB, cold, against `json.loads` of the same files",
                "at most 1.5",
                *paired(inventory, baseline, 9),
            ),
            ("the same again, nothing changed", "at most 0.35", *paired(again, baseline, 15)),
            (
                '`zeitbuch --help`, against `python -c "import argparse"`',
                "at most 2.5",
                *paired([ZEITBUCH, "--help"], [sys.executable, "-c", "import argparse"], 25),
            ),
        ]
        cpu = [(rows[0][0], "at most 2.5", cpu_ratio(inventory, baseline, 5))]
        for shape in shapes.SHAPES:
            other = Path(name) / shape
            each = shapes.write(other, shape, count) / count
            ours = [ZEITBUCH, "inventory", str(other), "--dialect", str(DIALECT.with_name(f"{shape}.toml")), "--quiet"]
            theirs = [sys.executable, "-c", BASELINE, str(other)]
            what = f"inventory of {count:,} flows of {each / 1000:.0f} KB as the builder {shape.title()} writes them ({SHAPES[shape]}), cold"
            rows.append((what, "at most 1.5", *paired([*ours, "--no-cache"], theirs, 5)))
            cpu.append((what, "at most 3.0", cpu_ratio([*ours, "--no-cache"], theirs, 5)))
        print("| what | wanted | ours | baseline | ratio |\n| --- | --- | --: | --: | --: |")
        for what, wanted, ours, theirs, ratio in rows:
            print(f"| {what} | {wanted} | {ours * 1000:,.0f} ms | {theirs * 1000:,.0f} ms | {ratio:.2f} |")
        done = subprocess.run([sys.executable, "-c", PEAK, *inventory], check=True, capture_output=True, text=True)
        print(f"| largest process of that inventory | under 250 MB | {int(done.stdout) / 1000:,.0f} MB | | |")
        big = Path(name) / "big.json"
        written = write_one(big, 200_000_000)
        one = [ZEITBUCH, "inventory", str(big), "--dialect", str(POINTERS), "--quiet", "--no-cache"]
        done = subprocess.run([sys.executable, "-c", PEAK, *one], check=True, capture_output=True, text=True)
        for what, wanted, ratio in cpu:
            print(f"| the same in CPU seconds: {what} | {wanted} | | | {ratio:.2f} |")
        print(f"| one export of {written / 1e6:.0f} MB | under 1,500 MB | {int(done.stdout) / 1000:,.0f} MB | | |")


if __name__ == "__main__":
    main()

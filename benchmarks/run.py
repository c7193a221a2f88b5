"""Measure against baselines in one run: python benchmarks/run.py [FLOWS]. Prints the table that README shows."""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from make_estate import write

HERE = Path(__file__).parent
DIALECT = HERE.parent / "src" / "zeitbuch" / "demo" / "estate" / "dialects" / "strandline.toml"
ZEITBUCH = str(Path(sys.executable).parent / "zeitbuch")
BASELINE = """
import json, sys
from pathlib import Path
for path in sorted(Path(sys.argv[1]).iterdir()):
    json.loads(path.read_bytes())
"""
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


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 2000
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "estate"
        size = write(folder, count) / count
        inventory = [ZEITBUCH, "inventory", str(folder), "--dialect", str(DIALECT), "--quiet"]
        rows = [
            (
                f"inventory of {count:,} flows of {size / 1000:.0f} KB, against `json.loads` of the same files",
                "at most 3.0",
                *paired(inventory, [sys.executable, "-c", BASELINE, str(folder)], 7),
            ),
            (
                '`zeitbuch --help`, against `python -c "import argparse"`',
                "at most 2.5",
                *paired([ZEITBUCH, "--help"], [sys.executable, "-c", "import argparse"], 25),
            ),
        ]
        print("| what | wanted | ours | baseline | ratio |\n| --- | --- | --: | --: | --: |")
        for what, wanted, ours, theirs, ratio in rows:
            print(f"| {what} | {wanted} | {ours * 1000:,.0f} ms | {theirs * 1000:,.0f} ms | {ratio:.2f} |")
        done = subprocess.run([sys.executable, "-c", PEAK, *inventory], check=True, capture_output=True, text=True)
        print(f"| largest process of that inventory | under 250 MB | {int(done.stdout) / 1000:,.0f} MB | | |")


if __name__ == "__main__":
    main()

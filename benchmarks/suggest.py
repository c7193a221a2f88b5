"""How long a proposal takes and how much memory: python benchmarks/suggest.py [FILES]. Held against reading the same files as JSON."""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path

import shapes
from run import BASELINE, PEAK, ZEITBUCH, paired

WANTED = "under 10 s, 500 MB"


def main() -> None:
    """One row a shape: whole processes, in turn with the baseline, medians."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    print("| what | wanted | ours | baseline | ratio | memory |\n| --- | --- | --: | --: | --: | --: |")
    with tempfile.TemporaryDirectory() as name:
        for shape in shapes.SHAPES:
            folder = Path(name) / shape
            size = shapes.write(folder, shape, count) / count
            command = [ZEITBUCH, "dialect", "suggest", str(folder), "--quiet", "-o", str(Path(name) / "made.toml")]
            ours, theirs, ratio = paired(command, [sys.executable, "-c", BASELINE, str(folder)], 3)
            done = subprocess.run([sys.executable, "-c", PEAK, *command], check=True, capture_output=True, text=True)
            memory = int(done.stdout) / 1000
            what = f"suggest on {count} files of {size / 1000:.0f} KB as {shape.title()} writes them"
            print(f"| {what} | {WANTED} | {ours:.1f} s | {theirs:.2f} s | {ratio:.0f} | {memory:,.0f} MB |")


if __name__ == "__main__":
    main()

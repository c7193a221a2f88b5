"""All that is wanted of speed and memory in one table, in one run: python benchmarks/table.py [PROGRAM OF ANOTHER VERSION] [--quick]

Every row is a whole process. Baselines are taken by turns with ours; with the `zeitbuch` of another environment its figures of the same work stand beside.
Seconds are CPU seconds of all processes together, or wall seconds where the row says so; memory is that of all processes.
"""

from __future__ import annotations

import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import NamedTuple

import shapes
from made_graphs import made_flow
from make_estate import write
from run import BASELINE, DIALECT, ZEITBUCH, cpu_seconds, seconds
from scale import measured

DIALECTS = DIALECT.parent
RATES = DIALECTS.parent / "rates.toml"


class Row(NamedTuple):
    """``words`` of the program, or another command; ``baseline`` a whole command; how many rounds; what is taken of each run."""

    what: str
    wanted: str
    words: Sequence[str]
    baseline: Sequence[str] | None
    rounds: int
    take: Callable[[list[str]], float]
    unit: str


def wall(command: list[str]) -> float:
    return seconds(command)


def memory(command: list[str]) -> float:
    """Megabytes of all processes together at their highest."""
    return measured(command[1:], dict(os.environ), command[0])[2]


def exact_means(command: list[str]) -> float:
    """Seconds in which the flows of estimate.py are worked out, by the interpreter beside the program."""
    python = str(Path(command[0]).parent / "python")
    done = subprocess.run(
        [python, str(Path(__file__).parent / "estimate.py"), *command[1:]], capture_output=True, text=True, check=True
    )
    return float(done.stdout.split('"seconds": ')[1].split(",")[0])


def reading_rows(base: Path, count: int) -> list[Row]:
    rows = []
    for name, file, most in [("flat", "strandline", 2.2), *[(name, name, 2.6) for name in shapes.SHAPES]]:
        folder = base / name
        size = write(folder, count) / count if name == "flat" else shapes.write(folder, name, count) / count
        words = ["inventory", str(folder), "--dialect", str(DIALECTS / f"{file}.toml"), "--quiet", "--no-cache"]
        theirs = [sys.executable, "-c", BASELINE, str(folder)]
        what = f"inventory of {count:,} files of {size / 1000:.0f} KB, {name}, cold, against `json.loads`"
        rows.append(Row(what, f"at most {most} times", words, theirs, 3, cpu_seconds, "s CPU"))
    flat = ["inventory", str(base / "flat"), "--dialect", str(DIALECT), "--quiet"]
    rows.append(Row("the same again, nothing changed", "", flat, None, 5, wall, "s"))
    return rows


def large_rows(base: Path, count: int) -> list[Row]:
    folder = base / "small"
    write(folder, count, 4_000)
    given = [str(folder), "--dialect", str(DIALECT), "--rates", str(RATES), "--no-cache", "--quiet", "-f", "csv"]
    rows = []
    for words in (["check"], ["estimate", "--runs", "0", "--month", "2026-11"]):
        what = f"{words[0]} of {count:,} flows of 4 KB, reading included"
        rows.append(Row(what, "", [*words, *given], None, 1, wall, "s"))
        rows.append(Row(f"memory of that {words[0]}", "20 KB a flow", [*words, *given], None, 1, memory, "MB"))
    return rows


def other_rows(base: Path, quick: bool) -> list[Row]:
    import msgspec

    flow = base / "large.json"
    flow.write_bytes(msgspec.json.encode({"zeitbuch": 1, "flows": [made_flow(3, 2000)]}))
    documents = 100 if quick else 500
    write(base / "documents", documents, 4_000)
    shapes.write(base / "asked", "tidemark", 200)
    common = ["--dialect", str(DIALECT), "--quiet", "--no-cache"]
    bare = [
        sys.executable,
        "-c",
        "import argparse; p = argparse.ArgumentParser(); p.add_argument('a'); p.format_help()",
    ]
    exact = ["one", "1000" if quick else "10000", "exact"]
    return [
        Row("`zeitbuch --help`, against bare argparse", "at most 1.5 times", ["--help"], bare, 15, wall, "s"),
        Row("inventory of one file, warm", "0.25 s", ["inventory", str(next((base / "documents").iterdir())), *common], None, 9, wall, "s"),
        Row(f"exact means of {int(exact[1]):,} flows of 30 steps, without reading", "6 s for 10,000", exact, None, 1, exact_means, "s"),
        Row("map of 2,000 steps as a page", "2 s", ["map", str(flow), "-o", str(base / "m.html"), "--quiet"], None, 3, wall, "s"),
        Row("map of 2,000 steps as SVG", "", ["map", str(flow), "-o", str(base / "m.svg"), "--quiet"], None, 3, wall, "s"),
        Row(f"documents of {documents} flows of 4 KB", "60 s for 1,000", ["document", str(base / "documents"), "-o", str(base / "pages"), *common], None, 1, wall, "s"),
        Row("a dialect proposed for 200 files of 22 KB", "10 s", ["dialect", "suggest", str(base / "asked"), "--quiet", "-o", str(base / "s.toml")], None, 1, wall, "s"),
    ]  # fmt: skip


def told(numbers: list[float], unit: str) -> str:
    return f"{statistics.median(numbers):,.{0 if unit == 'MB' else 2}f} {unit}" if numbers else ""


def show(row: Row, before: str) -> None:
    ours, theirs, former = [], [], []
    for _ in range(row.rounds):
        if before:
            former.append(row.take([before, *row.words]))
        ours.append(row.take([ZEITBUCH, *row.words]))
        if row.baseline is not None:
            theirs.append(row.take(list(row.baseline)))
    cells = [
        row.what,
        row.wanted,
        *([told(former, row.unit)] if before else []),
        told(ours, row.unit),
        told(theirs, row.unit),
    ]
    cells.append(f"{statistics.median(a / b for a, b in zip(ours, theirs, strict=True)):.2f}" if theirs else "")
    print("| " + " | ".join(cells) + " |", flush=True)


def main(given: list[str]) -> None:
    quick = "--quick" in given
    before = next((shutil.which(word) or word for word in given if not word.startswith("--")), "")
    began = time.time()
    with tempfile.TemporaryDirectory() as name:
        base = Path(name)
        os.environ["XDG_CACHE_HOME"] = str(base / "cache")
        rows = [
            *reading_rows(base, 200 if quick else 2_000),
            *other_rows(base, quick),
            *large_rows(base, 500 if quick else 10_000),
        ]
        head = ["what", "wanted", *(["before"] if before else []), "now", "baseline", "ratio"]
        print("| " + " | ".join(head) + " |\n| " + " | ".join(["---", "---"] + ["--:"] * (len(head) - 2)) + " |")
        for row in rows:
            show(row, before)
    print(f"\n{(time.time() - began) / 60:.0f} minutes")


if __name__ == "__main__":
    main(sys.argv[1:])

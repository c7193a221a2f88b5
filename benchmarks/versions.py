"""Measure comparison and recording against baselines in one run: python benchmarks/versions.py [FLOWS]. The figures of README."""

from __future__ import annotations

import json
import os
import random
import shutil
import statistics
import sys
import tempfile
import time
from pathlib import Path

from make_estate import write
from run import DIALECT, PEAK, ZEITBUCH, paired, seconds

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
DEMO = DIALECT.parent.parent
READ = """
import gc, sys
gc.set_threshold(200_000, 20, 100)
from zeitbuch.core.model.records import Flow
from zeitbuch.readers.dialects.rules import load_dialect
from zeitbuch.readers.input.limits import Limits
from zeitbuch.readers.reading.parallel import ReadingRun, ReadingSetting
from zeitbuch.readers.input.sources import list_files
def same(flow): return flow
held = []
for folder in sys.argv[2:]:
    run = ReadingRun(ReadingSetting([load_dialect(sys.argv[1])], Limits()), list_files([folder]), same, Flow, cache=False)
    held += [flow for _, found in run for flow in found]
print(len(held))
"""


def changed(old: Path, new: Path, share: float) -> int:
    """A copy with one prompt in a few files changed."""
    shutil.copytree(old, new)
    files = sorted(new.iterdir())
    picked = random.Random(5).sample(files, max(1, round(len(files) * share)))
    for path in picked:
        document = json.loads(path.read_text())
        text = json.dumps(document)
        path.write_text(text.replace("harbour", "quay", 1))
    return len(picked)


def stamped(folder: Path, moved: bool) -> None:
    """Other time stamps in every file, and boxes elsewhere: bytes differ, meaning does not."""
    for path in folder.iterdir():
        document = json.loads(path.read_text())
        document["sheet"]["touched"] = "2027-01-01T00:00:00Z"
        if moved:
            for i, station in enumerate(document["sheet"]["stations"]):
                station["spot"] = {"x": 7 * i, "y": 3}
        path.write_text(json.dumps(document))


def comparison(count: int) -> None:
    with tempfile.TemporaryDirectory() as name:
        base = Path(name)
        os.environ["XDG_CACHE_HOME"] = str(base / "cache")
        old, new = base / "old", base / "new"
        write(old, count)
        few = changed(old, new, 0.01)
        options = ["--dialect", str(DIALECT), "--quiet"]
        rates = ["--rates", str(DEMO / "rates.toml")]
        read = [sys.executable, "-c", READ, str(DIALECT), str(old), str(new)]
        diff = ["sh", "-c", '"$@" || test $? = 1', "sh", ZEITBUCH, "diff", str(old), str(new), *options]
        for words, more in (("text, with shares", rates), ("--summary", [*rates, "--summary"]), ("no rate card", [])):
            a, b, ratio = paired([*diff, *more, "--no-cache"], read, 3)
            print(
                f"diff of {count:,} flows, {few} changed ({words}): {a:.2f} s, reading both sides {b:.2f} s, ratio {ratio:.2f}",
                flush=True,
            )
        for words, moved in (("time stamps", False), ("time stamps and boxes", True)):
            other = base / words.replace(" ", "")
            changed(old, other, 0.01)
            stamped(other, moved)
            again = [str(other) if w == str(new) else w for w in diff]
            a, b, ratio = paired([*again, *rates, "--no-cache"], read, 2)
            print(
                f"the same, other {words} in every file: {a:.2f} s, reading both sides {b:.2f} s, ratio {ratio:.2f}",
                flush=True,
            )
        warm = statistics.median(seconds([*diff, *rates]) for _ in range(4))
        print(f"the same from the cache: {warm:.2f} s")
        peak = (
            int(
                os.popen(
                    f"{sys.executable} -c '{PEAK}' sh -c '{ZEITBUCH} diff {old} {new} --dialect {DIALECT} --no-cache || true'"
                ).read()
            )
            // 1024
        )
        print(f"largest process: {peak} MB")

        book = ["--book", str(base / "book.sqlite")]
        first = seconds([ZEITBUCH, "record", str(old), *options, *rates, *book])
        again = [ZEITBUCH, "record", str(old), *options, *book]
        inventory = [ZEITBUCH, "inventory", str(old), *options]
        size = (base / "book.sqlite").stat().st_size
        a, b, ratio = paired(again, inventory, 7)
        same = (base / "book.sqlite").stat().st_size == size
        print(
            f"record of the unchanged estate: {a:.2f} s, inventory from the cache {b:.2f} s, ratio {ratio:.2f}; the book is "
            f"{'as it was' if same else 'LARGER'} ({size / 1e6:.1f} MB for {sum(p.stat().st_size for p in old.iterdir()) / 1e6:.1f} MB of files)"
        )
        print(
            f"first record: {first:.1f} s; with 1 % changed: {seconds([ZEITBUCH, 'record', str(new), *options, *rates, *book]):.1f} s"
        )


def prompts() -> None:
    from scripts import WORDS
    from zeitbuch.core.diff.word_diff import word_changes

    rng = random.Random(3)
    vocabulary = [f"{w}{n}" for w in WORDS for n in ("", "s", "ing", "ed", "er")]
    for share in (0.02, 0.1, 0.5, 1.0):
        old = [rng.choice(vocabulary) for _ in range(3000)]
        new = [rng.choice(vocabulary) if rng.random() < share else w for w in old]
        begun = time.perf_counter()
        pieces = word_changes(" ".join(old), " ".join(new))
        print(
            f"3,000 words, {share:.0%} other: {time.perf_counter() - begun:.3f} s, {sum(p.mark != 'same' for p in pieces)} marks"
        )


def matching(count: int = 500) -> None:
    from scripts import scripted
    from zeitbuch.core.diff.estate_changes import flow_changes
    from zeitbuch.core.diff.matching import match_steps

    derived = ("rights widened", "rights narrowed")
    for words, renewed, names in (
        ("ids kept", False, 0.0),
        ("all ids renewed", True, 0.0),
        ("and 20 % of the names", True, 0.2),
    ):
        right = found = there = hit = said = true = exact = sure = surely = 0
        for seed in range(count):
            old, new, effects, truth = scripted(seed, renewed, names)
            pairs = match_steps(old, new).steps
            right += sum(truth.get(p.old) == p.new for p in pairs)
            found, there = found + len(pairs), there + len(truth)
            sure += sum(p.confidence >= 0.9 for p in pairs)
            surely += sum(p.confidence >= 0.9 and truth.get(p.old) == p.new for p in pairs)
            one = flow_changes(old, new)
            reported = {(c.type, c.step) for c in one.changes if c.type not in derived} if one is not None else set()
            hit, said, true = hit + len(reported & effects), said + len(reported), true + len(effects)
            exact += reported == effects
        print(
            f"{count} flows, {words}: matching precision {right / found:.4f} recall {right / there:.4f}; edits precision "
            f"{hit / said:.4f} recall {hit / true:.4f}; scripts told exactly {exact / count:.3f}; of {sure:,} pairs at 0.9 and more "
            f"sure {surely / max(1, sure):.4f} right",
            flush=True,
        )


if __name__ == "__main__":
    prompts()
    matching()
    comparison(int(sys.argv[1]) if len(sys.argv) > 1 else 2000)

"""Kill `zeitbuch record` at random moments, and let it run into a full disk: python benchmarks/book.py [TRIALS] [URL].

Every trial changes one export and records it into one of two lines, or notes something; the process is killed after a random time. Afterwards
the book must be whole, hold every entry that was told of, and take the next one. As root it also fills a small file system.
"""

from __future__ import annotations

import os
import random
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from run import DIALECT, ZEITBUCH

from zeitbuch.book.store import Book
from zeitbuch.book.verify import verify_book

DEMO = DIALECT.parent.parent


def estate(folder: Path, n: int) -> None:
    """One export of the estate, changed."""
    path = folder / "november" / "kvarte" / "letters.json"
    text = (DEMO / "november" / "kvarte" / "letters.json").read_text()
    path.write_text(text.replace('"name": "', f'"name": "{n} ', 1))


def kills(trials: int, url: str) -> None:
    rng = random.Random(11)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "demo"
        shutil.copytree(DEMO, folder)
        env = {**os.environ, "XDG_CACHE_HOME": name}
        place = url or str(folder / "book.sqlite")
        command = [ZEITBUCH, "record", "--book", place]
        ways = [
            command,
            [*command, "--line", "prod"],
            [ZEITBUCH, "history", "@1", "--note", "looked at", "--by", "tester", "--book", place],
        ]
        begun = time.perf_counter()
        subprocess.run(command, cwd=folder, env=env, check=True, stdout=subprocess.DEVNULL)
        most = time.perf_counter() - begun
        told, killed, lost = 1, 0, 0
        for n in range(trials):
            estate(folder, n)
            way = rng.choices(ways, (2, 1, 1))[0]
            process = subprocess.Popen(way, cwd=folder, env=env, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
            try:
                out, _ = process.communicate(timeout=rng.uniform(0.05, 1.1 * most))
            except subprocess.TimeoutExpired:
                process.send_signal(signal.SIGKILL)
                out, _ = process.communicate()
                killed += 1
            told += bool(re.match(rb"snapshot (prod:)?\d+ |@1: noted", out))
            book = Book(place)
            verdict = verify_book(book)
            lost += bool(verdict.wrong) or verdict.entries < told
            book.engine.dispose()
        estate(folder, trials)
        last = subprocess.run(command, cwd=folder, env=env, check=True, capture_output=True, text=True).stdout
        print(
            f"{trials} trials, {killed} killed, {lost} with something lost or half-written; then: {last.splitlines()[0]}"
        )


def full_disk() -> None:
    if os.getuid():
        print("not root: the full file system is left out")
        return
    with tempfile.TemporaryDirectory() as name:
        folder, small = Path(name) / "demo", Path(name) / "small"
        shutil.copytree(DEMO, folder)
        small.mkdir()
        subprocess.run(["mount", "-t", "tmpfs", "-o", "size=400k", "tmpfs", str(small)], check=True)
        try:
            command = [ZEITBUCH, "record", "--book", str(small / "book.sqlite")]
            count = 0
            while True:
                estate(folder, count)
                done = subprocess.run(command, cwd=folder, capture_output=True, text=True, check=False)
                if done.returncode:
                    break
                count += 1
            print(f"full after {count} snapshots: {done.stderr.strip().splitlines()[0]}")
            book = Book(str(small / "book.sqlite"))
            verdict = verify_book(book)
            print(f"the book: {verdict.entries} entries, {'whole' if not verdict.wrong else verdict.wrong}")
            book.engine.dispose()
            assert verdict.entries == count and not verdict.wrong
        finally:
            subprocess.run(["umount", str(small)], check=True)


if __name__ == "__main__":
    full_disk()
    kills(int(sys.argv[1]) if len(sys.argv) > 1 else 200, sys.argv[2] if len(sys.argv) > 2 else "")

"""What a site of documents costs, and how soon its start page stands: python benchmarks/site.py [FLOWS].

In one run: reading and estimating the flows alone (`estimate`), documenting them (`document`), the states of their reviews (`review status`, with two
signatures a flow, and with a third of the flows changed since), and the start page and the map
of the estate in Chromium, from the address to the first frame, each the best of three.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from checks import measured
from make_estate import write
from playwright.sync_api import sync_playwright
from run import DIALECT, ZEITBUCH

from zeitbuch.book.reviews import Review, add_review
from zeitbuch.book.store import Book

FRAME = "new Promise(done => requestAnimationFrame(() => setTimeout(done, 0)))"


def opened(file: Path) -> float:
    """Seconds until a page stands."""
    with sync_playwright() as play:
        browser = play.chromium.launch(executable_path=shutil.which("chromium"), args=["--no-sandbox"])
        times = []
        for _ in range(3):
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            begun = time.perf_counter()
            page.goto(file.as_uri())
            page.evaluate(FRAME)
            times.append(time.perf_counter() - begun)
            page.close()
        browser.close()
    return min(times)


def tell(words: list[str], folder: Path, flows: int, remark: str) -> None:
    cpu, wall, _ = measured([ZEITBUCH, *words, "--quiet"], folder)
    print(f"{' '.join(words):32} {flows:,} flows: {cpu:6.1f} s CPU, {wall:6.1f} s wall  {remark}")


def sign_all(folder: Path) -> None:
    """Two signatures for each flow, put into the book at once."""
    with Book(str(folder / "book.sqlite")).writing() as writing:
        for version in writing.versions():
            for role in ("owner", "auditor"):
                review = Review("sign", version.flow, version.number, version.fingerprint, role, "approved")
                add_review(writing, review, at="2026-11-29T08:00:00Z", who=role, note="", version=version)


def main(flows: int) -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        os.environ["XDG_CACHE_HOME"] = str(folder / "cache")
        write(folder / "exports", flows)
        shutil.copy(DIALECT, folder / "dialect.toml")
        shutil.copy(DIALECT.parent.parent / "rates.toml", folder)
        settings = 'sources = ["exports"]\ndialects = ["dialect.toml"]\nrates = "rates.toml"\nmonth = "2026-11"\n'
        (folder / "zeitbuch.toml").write_text(settings)
        subprocess.run([ZEITBUCH, "record", "--quiet"], cwd=folder, check=True, stdout=subprocess.DEVNULL)
        status = ["review", "status"]
        for words in (["estimate", "--no-cache"], ["document", "-o", "site", "--no-cache"]):
            tell(words, folder, flows, "")
        sign_all(folder)
        tell([*status, "--no-cache"], folder, flows, "all signed in two roles")
        tell(status, folder, flows, "all signed in two roles")
        for path in sorted((folder / "exports").glob("*.json"))[::3]:
            path.write_text(
                path.read_text().replace("fulmar-mini-2", "fulmar-mini-3").replace("fulmar-large-2", "fulmar-large-3")
            )
        tell([*status, "--no-cache"], folder, flows, "a third changed since")
        for page in ("index", "estate"):
            print(f"{page + '.html':32} {opened(folder / 'site' / (page + '.html')):.2f} s until it stands")


if __name__ == "__main__":
    main(*([int(word) for word in sys.argv[1:]] or [2_000]))

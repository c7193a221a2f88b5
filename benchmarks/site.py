"""What a site of documents costs, and how soon its start page stands: python benchmarks/site.py [FLOWS].

In one run: reading and estimating the flows alone (`estimate`), documenting them (`document`), the states of their reviews (`review status`), and the
start page and the map of the estate in Chromium, from the address to the first frame, each the best of three.
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
        for words in (
            ["estimate", "--no-cache"],
            ["document", "-o", "site", "--no-cache"],
            ["review", "status", "--no-cache"],
            ["review", "status"],
        ):
            cpu, wall, _ = measured([ZEITBUCH, *words, "--quiet"], folder)
            print(f"{' '.join(words):32} {flows:,} flows: {cpu:6.1f} s CPU, {wall:6.1f} s wall")
        for page in ("index", "estate"):
            print(f"{page + '.html':32} {opened(folder / 'site' / (page + '.html')):.2f} s until it stands")


if __name__ == "__main__":
    main(*([int(word) for word in sys.argv[1:]] or [2_000]))

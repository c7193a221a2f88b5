"""The page of a map with 1,000 steps in headless Chromium: time to open, frames a second while it moves, time to fold.

usage: python benchmarks/page.py [STEPS]     (needs chromium and playwright)
"""

from __future__ import annotations

import shutil
import sys
import tempfile
from pathlib import Path
from statistics import median

from made_graphs import made_flow
from playwright.sync_api import sync_playwright

MOVING = """async () => { const m = document.getElementById('map'); let n = 0; const begun = performance.now();
  return await new Promise((done) => { const step = () => { n++; m.scrollTop += 30; m.scrollLeft += n % 2 ? 9 : -9;
    if (performance.now() - begun < 2000) requestAnimationFrame(step); else done(n / ((performance.now() - begun) / 1000)); };
  requestAnimationFrame(step); }); }"""
SETTLED = "new Promise(r => requestAnimationFrame(() => requestAnimationFrame(r)))"


def main() -> None:
    from zeitbuch.core.graph.topology import Graph
    from zeitbuch.core.layout.cards import PLAIN
    from zeitbuch.core.layout.scene import draw_scene
    from zeitbuch.writers.map.map_page import to_map_page
    from zeitbuch.writers.theme.fonts import measure_text

    count = int(sys.argv[1]) if len(sys.argv) > 1 else 1000
    graph = Graph(made_flow(3, count))
    with tempfile.TemporaryDirectory() as folder, sync_playwright() as play:
        file = Path(folder) / "page.html"
        file.write_text(to_map_page(graph, draw_scene(graph, measure_text), PLAIN, None), "utf-8")
        browser = play.chromium.launch(executable_path=shutil.which("chromium"), args=["--no-sandbox"])
        opened, moved, folded = [], [], []
        for _ in range(5):
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            page.goto(file.as_uri())
            opened.append(page.evaluate("performance.timing.loadEventEnd - performance.timing.navigationStart"))
            moved.append(page.evaluate(MOVING))
            begun = page.evaluate("performance.now()")
            page.evaluate("document.getElementById('fold').click()")
            page.evaluate(SETTLED)
            folded.append(page.evaluate("performance.now()") - begun)
            page.close()
        browser.close()
        size = file.stat().st_size / 1e6
    print(f"{count} steps, {size:.1f} MB: opens in {median(opened):.0f} ms, moves at {median(moved):.0f} frames a second,"
          f" folds all in {median(folded):.0f} ms (medians of 5; slowest {max(opened):.0f} ms, {min(moved):.0f} frames)")  # fmt: skip


if __name__ == "__main__":
    main()

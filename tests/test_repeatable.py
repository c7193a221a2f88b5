"""Same input, same output, byte for byte, in whatever process: the order of no set may show."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

WORK = """
import contextlib, io, sys
from zeitbuch.cli.main import main
for words in (
    ["inventory", "november", "-f", "json"],
    ["estimate", "november", "--month", "2026-11", "-f", "json"],
    ["estimate", "november", "--month", "2026-11", "--by", "owner"],
    ["diff", "october", "november", "-f", "json"],
    ["diff", "copies", "--clones", "-f", "json"],
    ["map", "november", "--estate", "-f", "svg", "-o", "-"],
    ["explain", "letters", "--source", "november"],
    ["document", "november", "--flow", "letters", "-f", "markdown", "-o", "-", "--month", "2026-11"],
    ["dialect", "suggest", "november/tidemark", "november/kvarte", "-o", "-"],
):
    print("##", *words)
    sys.stdout.flush()
    print("->", main([*words, "--no-cache", "-q"] if words[0] != "dialect" else [*words, "-q"]))
"""


def printed(seed: str, folder: Path) -> str:
    env = {**os.environ, "PYTHONHASHSEED": seed, "COLUMNS": "140"}
    done = subprocess.run([sys.executable, "-c", WORK], cwd=folder, env=env, capture_output=True, text=True, check=True)
    return done.stdout


def test_no_order_of_a_set_shows(demo: Path) -> None:
    first, second = printed("1", demo), printed("2", demo)
    assert first.count("\n-> 0") + first.count("\n-> 1") == 9, [x for x in first.splitlines() if x[:2] in ("##", "->")]
    assert first == second

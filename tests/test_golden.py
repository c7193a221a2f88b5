"""What people read, as files: look at the difference, then write them anew with ZEITBUCH_GOLDEN=write."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from conftest import Run

GOLDEN = Path(__file__).parent / "golden"
CASES = {
    "explain.txt": ["explain", "Crew swap approvals"],
    "happens.txt": ["explain", "Lost property matching", "--empty", "Look up handed-in items"],
    "map.txt": ["map", "--flow", "Weather warnings", "--format", "text"],
    "estate.txt": ["map", "--estate", "--format", "text"],
    "diff.txt": ["diff", "october", "november"],
    "diff.md": ["diff", "october", "november", "-f", "markdown"],
    "estimate.txt": ["estimate"],
    "inventory.txt": ["inventory"],
    "document.md": ["document", "--flow", "Cargo papers screening", "-f", "markdown", "-o", "docs"],
}


@pytest.mark.parametrize("name", list(CASES))
def test_golden(name: str, demo: Path, run: Run) -> None:
    out = run(*CASES[name], cwd=demo, COLUMNS="120").out
    if name == "document.md":
        out = (demo / "docs" / "sh-1077.md").read_text()
    path = GOLDEN / name
    if os.environ.get("ZEITBUCH_GOLDEN") == "write":
        path.write_text(out)
    assert out == path.read_text()

"""The recipes for pipelines, run as written on the demo."""

from __future__ import annotations

import json
import os
import re
import subprocess
import xml.etree.ElementTree as ET
from pathlib import Path

import pytest
import yaml

from conftest import started

ROOT = Path(__file__).parent.parent
RECIPES = ROOT / "docs" / "recipes"


def run_recipe(demo: Path, name: str, *words: str, **env: str) -> subprocess.CompletedProcess[str]:
    own = {**os.environ, "PATH": started().path(), "XDG_CACHE_HOME": str(demo / "cache"), **env}
    command = ["sh", str(RECIPES / name), *words]
    return subprocess.run(command, cwd=demo, env=own, capture_output=True, text=True, timeout=280)


def test_the_gate_stops_a_risky_month_and_leaves_reports(demo: Path) -> None:
    done = run_recipe(demo, "gate.sh", "october", "november", "reports")
    assert done.returncode == 1 and "1 change to review (model)" in done.stderr
    found = json.loads((demo / "reports/findings.sarif").read_text())
    assert found["version"] == "2.1.0" and found["runs"][0]["results"]
    suites = ET.parse(demo / "reports/findings.junit.xml").getroot()
    assert suites.tag == "testsuites" and suites.findall(".//failure")
    assert "Cargo papers screening" in (demo / "reports/changes.md").read_text()
    assert "<html" in (demo / "reports/changes.html").read_text()


def test_the_gate_lets_pass_what_is_as_it_was_and_within_its_limit(demo: Path) -> None:
    kept = "november/kvarte/announcements.json"  # a flow without a high finding
    assert run_recipe(demo, "gate.sh", kept, kept, "reports").returncode == 0
    assert run_recipe(demo, "gate.sh", kept, kept, "reports", LIMIT_PER_MONTH="0.01").returncode == 1


def test_the_gate_tells_what_cannot_be_read_from_an_answer(demo: Path) -> None:
    assert run_recipe(demo, "gate.sh", "october", "nowhere", "reports").returncode == 2


def test_the_nightly_job_records_checks_documents_and_tells(demo: Path) -> None:
    first = run_recipe(demo, "nightly.sh", ".")
    assert first.returncode == 1 and "No snapshot yet: this is the first." in first.stdout
    assert "snapshot 1 (" in first.stdout and (demo / "documents/index.html").exists()
    letters = demo / "november/kvarte/letters.json"
    letters.write_text(letters.read_text().replace("fulmar-mini-2", "fulmar-large-2"))
    second = run_recipe(demo, "nightly.sh", ".")
    assert second.returncode == 1 and "model: " in second.stdout and "snapshot 2 (" in second.stdout
    signatures = second.stdout.partition("Signatures")[2]
    assert "no: Passenger announcements: owner: open" in signatures and signatures.count("no: ") == 20
    letters.write_text("{")
    broken = run_recipe(demo, "nightly.sh", ".")
    assert broken.returncode == 2 and "letters.json" in broken.stderr


def test_a_damaged_book_is_no_first_night(demo: Path) -> None:
    (demo / "book.sqlite").write_bytes(b"not a database" * 100)
    done = run_recipe(demo, "nightly.sh", ".")
    assert done.returncode == 2 and "No snapshot yet" not in done.stdout and "error: " in done.stdout


def test_hooks_that_write_the_book_bring_its_library() -> None:
    hooks = yaml.safe_load((ROOT / ".pre-commit-hooks.yaml").read_text())
    for hook in hooks:
        brings = any(name.startswith("SQLAlchemy") for name in hook.get("additional_dependencies", ()))
        assert brings == (" record" in hook["entry"]), hook["id"]


@pytest.mark.parametrize("name", ["gate.sh", "nightly.sh"])
def test_the_page_names_each_recipe_and_its_options_exist(name: str) -> None:
    page = (ROOT / "docs" / "pipelines.md").read_text()
    assert f"recipes/{name}" in page and os.access(RECIPES / name, os.X_OK)
    reference = (ROOT / "docs" / "commands.md").read_text()
    for option in re.findall(r"(?<= )--[a-z-]+", (RECIPES / name).read_text()):
        assert f"`{option}" in reference or f", {option}" in reference, option


def test_the_container_file_installs_extras_that_there_are() -> None:
    text = (RECIPES / "Containerfile").read_text()
    named = re.search(r"\[([a-z,]+)\]", text)
    assert named is not None
    extras = (ROOT / "pyproject.toml").read_text()
    assert all(f"\n{extra} = [" in extras for extra in named[1].split(",")) and 'ENTRYPOINT ["zeitbuch"]' in text

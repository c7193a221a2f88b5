"""Completion in real shells: commands, options, and the names of the flows and steps of the workspace."""

from __future__ import annotations

import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import Run

ASK = """
export PATH=$1:$PATH
eval "$(zeitbuch completion bash)"
COMP_LINE="$2"; COMP_POINT=${#2}; COMP_TYPE=9; COMPREPLY=()
read -ra COMP_WORDS <<< "$2"; [[ "$2" == *" " ]] && COMP_WORDS+=("")
COMP_CWORD=$((${#COMP_WORDS[@]}-1))
_python_argcomplete zeitbuch "${COMP_WORDS[$COMP_CWORD]}"
printf '%s\\n' "${COMPREPLY[@]}"
"""


def completed(line: str, folder: Path) -> list[str]:
    """What bash offers behind a line."""
    programs = str(Path(sys.executable).parent)
    done = subprocess.run(
        ["bash", "-c", ASK, "bash", programs, line], cwd=folder, capture_output=True, text=True, timeout=60
    )
    assert not done.stderr, done.stderr
    return [text.strip() for text in done.stdout.splitlines() if text.strip()]


@pytest.mark.parametrize(
    ("line", "offered"),
    [
        ("zeitbuch inv", ["inventory"]),
        ("zeitbuch help rec", ["reconcile", "record"]),
        ("zeitbuch map --sho", ["--show"]),
        ("zeitbuch map --show act", ["actual-cost"]),
        ("zeitbuch usage ", ["suggest", "test"]),
        ("zeitbuch explain Cre", ["Crew\\ swap\\ approvals"]),
        ("zeitbuch map --flow Safety", ["Safety\\ handbook\\ assistant"]),
        ("zeitbuch explain Crew\\ swap\\ approvals Sh", ["Shift\\ leader\\ approves"]),
        ("zeitbuch explain Nowhere Sh", []),
        ("zeitbuch map --flow Crew\\ swap\\ approvals --around Sh", ["Shift\\ leader\\ approves"]),
    ],
)
def test_bash(line: str, offered: list[str], demo: Path) -> None:
    assert sorted(completed(line, demo)) == offered


def test_a_folder_without_an_estate_is_no_fault(tmp_path: Path) -> None:
    assert completed("zeitbuch explain Cre", tmp_path) == []
    (tmp_path / "zeitbuch.toml").write_text("sources = [")
    assert completed("zeitbuch explain Cre", tmp_path) == []


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_the_script_of_each_shell(shell: str, run: Run, tmp_path: Path) -> None:
    made = run("completion", shell)
    assert made.code == 0 and "zeitbuch" in made.out
    (tmp_path / "script").write_text(made.out)
    if shutil.which(shell) is not None:  # read without being run
        assert subprocess.run([shell, "-n", str(tmp_path / "script")], check=False).returncode == 0
    assert run("completion", "cmd").code == 2


@pytest.mark.skipif(shutil.which("fish") is None, reason="fish is not installed")
def test_fish(demo: Path) -> None:
    asked = f'set -x PATH {Path(sys.executable).parent} $PATH; zeitbuch completion fish | source; complete -C "zeitbuch explain Cre"'
    assert (
        "Crew swap approvals" in subprocess.run(["fish", "-c", asked], cwd=demo, capture_output=True, text=True).stdout
    )

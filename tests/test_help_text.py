"""Help fits its terminal."""

from __future__ import annotations

import pytest

from conftest import Run
from zeitbuch.cli.command_table import COMMANDS
from zeitbuch.cli.shared.help_text import ParagraphHelp


def test_paragraphs_are_filled_and_examples_kept() -> None:
    text = "One two three four five six\nseven eight.\nNine\n\nexamples:\n  a long line of an example that is kept as it is written\nten"
    made = ParagraphHelp("x", width=24)._fill_text(text, 20, "")
    assert made.splitlines() == [
        "One two three four",
        "five six seven",
        "eight.",
        "Nine",
        "",
        "examples:",
        "  a long line of an example that is kept as it is written",
        "ten",
    ]


@pytest.mark.parametrize("width", [72, 100])
def test_no_running_text_of_any_help_is_wider_than_its_terminal(run: Run, width: int) -> None:
    wide = []
    parts = [("dialect", "suggest"), ("dialect", "test"), ("usage", "suggest"), ("usage", "test")]
    for name in [*[(name,) for name in COMMANDS], *parts]:
        said = run(*name, "--help", COLUMNS=str(width)).out
        wide += [(name, line) for line in said.splitlines() if not line.startswith(" ") and len(line) > width]
    assert wide == []

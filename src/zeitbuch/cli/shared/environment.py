# One table of the variables that the program looks at: read here, told by the manual page and docs/commands.md.
"""Variables of the environment."""

from __future__ import annotations

import os
from pathlib import Path
from typing import NamedTuple

from zeitbuch.core.model.problems import fail
from zeitbuch.readers.config import workspace


class Variable(NamedTuple):
    """A variable, and what it does in words for its users."""

    name: str
    about: str


VARIABLES = (
    Variable("ZEITBUCH_WORKSPACE", "the workspace file, or the folder that has a zeitbuch.toml, wherever a command is run; else the nearest "
             "zeitbuch.toml upwards from the working folder"),
    Variable("ZEITBUCH_BOOK", "the book, a file or a URL, in place of the workspace's; --book goes before it"),
    Variable("ZEITBUCH_LIMITS", "limits on inputs, as --limit takes them, parted by spaces: text=5000000 depth=300; --limit goes before it"),
    Variable("NO_COLOR", "when set to anything: no colours and no links on the terminal"),
    Variable("COLUMNS", "width of tables, in letters, in place of that of the terminal; 180 where there is none"),
    Variable("XDG_CACHE_HOME", "folder of what was read before (in it, zeitbuch); ~/.cache when not set"),
    Variable("XDG_CONFIG_HOME", "folder of dialects that hold everywhere (in it, zeitbuch/dialects); ~/.config when not set"),
)  # fmt: skip


def workspace_file(start: str = ".") -> str | None:
    """The workspace file that the environment names, or the nearest one upwards from ``start``. Raises ZeitbuchError where the one that
    is named is not there."""
    named = os.environ.get("ZEITBUCH_WORKSPACE", "")
    if not named:
        return workspace.find_workspace(start)
    path = Path(named, workspace.NAME) if Path(named).is_dir() else Path(named)
    if not path.is_file():
        raise fail(
            "workspace-unreadable",
            f"expected a workspace file at {path}, which ZEITBUCH_WORKSPACE names, found none",
            "correct the variable, or take it away: the nearest zeitbuch.toml is taken then",
        )
    return str(path)


def named_book() -> str:
    """The book that the environment names; empty when it names none."""
    return os.environ.get("ZEITBUCH_BOOK", "")


def named_limits() -> list[str]:
    """Limits that the environment raises, each as NAME=NUMBER."""
    return os.environ.get("ZEITBUCH_LIMITS", "").replace(",", " ").split()

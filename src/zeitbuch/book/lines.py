# A book may hold several lines (dev, prod, a team), each with snapshots and flows of its own. The line without a name is `main`;
# it is stored as no name, as books of one line have it.
"""Names of lines, and states named with them: @N, @LINE:N."""

from __future__ import annotations

import re

from zeitbuch.core.model.problems import fail

MAIN = "main"
_NAME = re.compile(r"[A-Za-z][A-Za-z0-9._-]{0,39}")


def line_key(name: str) -> str:
    """A line as it is stored. Raises ZeitbuchError for what is no name of one."""
    if name in ("", MAIN):
        return ""
    if not _NAME.fullmatch(name) or name == "latest":
        raise fail(
            "option",
            f"expected a line of the book (a letter, then letters, digits, '.', '_' or '-', at most 40), found '{name}'",
            "a line is named like dev, prod or team-north",
        )
    return name


def line_name(key: str) -> str:
    """A line as it is shown."""
    return key or MAIN


def split_state(text: str, line: str = "") -> tuple[str, str]:
    """What stands behind the @ of a state: the line (``line`` where none is named) and the key of a snapshot or version."""
    name, colon, key = text.partition(":")
    # A time has colons of its own.
    if not colon or name[:1].isdigit():
        return line, text
    return line_key(name), key


def state_name(entry_line: str, number: int) -> str:
    """A snapshot as it is named."""
    return f"@{entry_line}:{number}" if entry_line else f"@{number}"

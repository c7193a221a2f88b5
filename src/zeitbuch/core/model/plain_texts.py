# White space that says nothing: kinds of line ends, blanks at ends of lines, blank lines around a text, and in conditions runs of blanks
# outside quotes. A builder that saves a flow anew may write them otherwise; nobody changed anything by that.
"""Texts without white space that has no meaning."""

from __future__ import annotations

import re
from typing import Any

_LINE_END = re.compile(r"[ \t\f\v]*(?:\r\n|\r|\n)")
_PIECE = re.compile(r"""("(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*')|\s+""")


def plain_text(text: str) -> str:
    """A text with one kind of line end, without blanks at the ends of lines and without blank lines around it."""
    if "\r" in text or "\n" in text:
        text = _LINE_END.sub("\n", text)
    return text.strip()


def plain_condition(text: str) -> str:
    """A condition with single blanks, but for what is quoted."""
    return _PIECE.sub(lambda found: found.group(1) or " ", text).strip()


def plain_value(value: Any) -> Any:
    """A value with its texts of several lines plain; a short one may be a separator, and is what it is."""
    if isinstance(value, str):
        return plain_text(value) if "\n" in value.strip() else value
    if isinstance(value, dict):
        return {key: plain_value(item) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [plain_value(item) for item in value]
    return value

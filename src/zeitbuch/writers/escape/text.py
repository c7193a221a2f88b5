# Escape at the border: nothing from an export reaches a terminal as a control or escape sequence, and nothing
# reaches a spreadsheet as a formula.
"""Making text from exports inert for terminals and spreadsheets."""

from __future__ import annotations

import re

# C0 and C1 controls, bidirectional overrides and isolates, line and paragraph separators, interlinear marks; and what XML 1.0
# (section 2.2) has no place for.
_HARMFUL = re.compile(
    "[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028\u2029\u202a-\u202e\u2066-\u2069\ufff9-\ufffb\ufffe\uffff\ud800-\udfff]"
)


def make_inert(text: str, keep_lines: bool = True) -> str:
    """Text whose control characters are shown as their code, never executed."""
    if text.isascii() and text.isprintable():
        return text if keep_lines or ("  " not in text and text[:1] != " " != text[-1:]) else " ".join(text.split())
    if not keep_lines:
        text = " ".join(text.split())
    return _HARMFUL.sub(lambda m: f"<U+{ord(m[0]):04X}>", text)


def escape_json(json_text: str) -> str:
    """JSON whose control and direction characters (they stand within strings only) are written as escapes."""
    return _HARMFUL.sub(lambda m: f"\\u{ord(m[0]):04x}", json_text)


def formula_free(text: str) -> str:
    """Text that a spreadsheet will not run as a formula (OWASP: CSV injection)."""
    return "'" + text if text[:1] in ("=", "+", "-", "@", "\t", "\r") else text

# JSON pointers (RFC 6901), written and taken apart in one place.
"""Parts of JSON pointers."""

from __future__ import annotations


def escape_key(key: str) -> str:
    """One part of a JSON pointer (RFC 6901, section 3)."""
    return key.replace("~", "~0").replace("/", "~1") if "~" in key or "/" in key else key


def last_key(pointer: str) -> str:
    """The key under which the value at a JSON pointer stands."""
    last = pointer.rpartition("/")[2]
    return last.replace("~1", "/").replace("~0", "~") if "~" in last else last

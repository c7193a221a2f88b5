# Names of files made from the names and ids of exports: plain letters only, never a path or a name that some system keeps for a device.
"""Plain letters for names of files."""

from __future__ import annotations

import re
import unicodedata

DEVICES = frozenset({"con", "prn", "aux", "nul", *[f"{word}{place}" for word in ("com", "lpt") for place in range(10)]})
LONGEST = 60


def plain_name(text: str) -> str:
    """'Crew swap: Ærø' -> 'crew-swap-r'; 'flow' where nothing is left."""
    plain = unicodedata.normalize("NFKD", text[:300]).encode("ascii", "ignore").decode().lower()
    return re.sub(r"[^a-z0-9]+", "-", plain).strip("-")[:LONGEST].rstrip("-") or "flow"

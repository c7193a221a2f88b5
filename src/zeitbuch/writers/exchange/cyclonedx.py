# A bill of materials as JSON text: keys in the order of the bill, so that two of them can be held against each other line by line.
"""CycloneDX 1.6 (ECMA-424), JSON."""

from __future__ import annotations

import json
from typing import Any

from zeitbuch.writers.theme.terminal import TextLook


def write_cyclonedx(bill: dict[str, Any], look: TextLook) -> str:
    """The bill as text."""
    return json.dumps(bill, indent=1, ensure_ascii=False) + "\n"

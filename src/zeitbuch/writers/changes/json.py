# The comparison as typed JSON.
"""Changes as JSON."""

from __future__ import annotations

from zeitbuch.core.report.presentations import ChangesReport
from zeitbuch.writers.table.tables import to_json
from zeitbuch.writers.theme.terminal import TextLook


def write_json(report: ChangesReport, look: TextLook) -> str:
    """The changes with all that is known of them."""
    return to_json("diff", report.body)

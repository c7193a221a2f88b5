"""Days as options name them."""

from __future__ import annotations

from datetime import date

from zeitbuch.core.model.problems import fail


def day_of(text: str, option: str) -> date | None:
    """A day (YYYY-MM-DD) that an option names; None where it names none. Raises ZeitbuchError for anything else."""
    if not text:
        return None
    try:
        return date.fromisoformat(text)
    except ValueError:
        raise fail("option", f"expected a day as YYYY-MM-DD for {option}, found '{text}'") from None

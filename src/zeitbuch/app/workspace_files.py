# A workspace to begin with: the three files with comments, filled in with what is found in the exports.
"""Files of a new workspace."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

from zeitbuch.readers.input.sources import is_address, plain_address
from zeitbuch.writers.exchange import templates
from zeitbuch.writers.exchange.open_entries import grown_text

from .basis import EstimateBasis
from .open_entries import open_entries
from .session import Session


def workspace_files(
    session: Session, sources: Sequence[str], dialects: Sequence[str], folder: str, month: str
) -> dict[str, str]:
    """Name -> text of zeitbuch.toml, rates.toml and assumptions.toml, for ``folder``; with the models that the sources hold, and all that
    is left to declare of them for a ``month`` (YYYY-MM)."""
    models: list[str] = []
    assumptions = templates.assumptions_template()
    if sources:
        estate = session.estate(sources)
        used = {
            step.model.name
            for flow in estate.flows
            for step in flow.steps
            if step.model is not None and step.model.name
        }
        models = sorted(used)
        entries = open_entries(session, estate, EstimateBasis(month=month))
        assumptions, _ = grown_text(assumptions, entries, {}, "")
    return {
        "zeitbuch.toml": templates.workspace_template(_seen_from(folder, sources), _seen_from(folder, dialects)),
        "rates.toml": templates.rates_template(models),
        "assumptions.toml": assumptions,
    }


def _seen_from(folder: str, paths: Sequence[str]) -> list[str]:
    """Paths from the folder of the workspace; addresses as they are, without what is secret in them."""
    return [
        plain_address(path) if is_address(path) else Path(os.path.relpath(path, folder)).as_posix() for path in paths
    ]

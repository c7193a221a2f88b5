# A workspace to begin with: the three files with comments, filled in with what is found in the exports.
"""Files of a new workspace."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.estimate.estate import estimate_exactly
from zeitbuch.writers.exchange import templates

from .session import Session


def workspace_files(
    session: Session, sources: Sequence[str], dialects: Sequence[str], folder: str, month: str
) -> dict[str, str]:
    """Name -> text of zeitbuch.toml, rates.toml and assumptions.toml, for ``folder``; with the models and the flows of unknown
    volume that the sources hold: what no schedule tells in a ``month`` (YYYY-MM)."""
    models: list[str] = []
    volumes: list[str] = []
    if sources:
        estate = session.estate(sources)
        used = {
            step.model.name
            for flow in estate.flows
            for step in flow.steps
            if step.model is not None and step.model.name
        }
        models = sorted(used)
        volumes = [
            flow.name for flow in estimate_exactly(estate, None, Assumptions(), month).flows if flow.runs is None
        ]
    return {
        "zeitbuch.toml": templates.workspace_template(_seen_from(folder, sources), _seen_from(folder, dialects)),
        "rates.toml": templates.rates_template(models),
        "assumptions.toml": templates.assumptions_template(volumes),
    }


def _seen_from(folder: str, paths: Sequence[str]) -> list[str]:
    return [Path(os.path.relpath(path, folder)).as_posix() for path in paths]

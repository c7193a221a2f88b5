# Outputs of other packages: rows for the table of outputs, held to its form before anyone relies on them.
"""Outputs that plug-ins add."""

from __future__ import annotations

from typing import get_args

from zeitbuch.core.model.problems import Problem
from zeitbuch.plugins.entry_points import PlugIn, find_plugins, plugin_problem

from .rows import OUTPUTS, OutputRow, OutputSubject


def added_outputs() -> tuple[OutputRow, ...]:
    """The rows of all plug-ins that can be used."""
    return tuple(plugin.value for plugin in find_plugins("zeitbuch.outputs") if output_problem(plugin) is None)


def output_problem(plugin: PlugIn) -> Problem | None:
    """Why a plug-in cannot be used as an output; None when it can."""
    if plugin.problem is not None:
        return plugin.problem
    row = plugin.value
    hint = "an output is a zeitbuch.writers.outputs.rows.OutputRow: docs/plugins.md"
    if not isinstance(row, OutputRow):
        return plugin_problem(f"expected an OutputRow at {plugin.target}, found {type(row).__name__}", hint)
    if row.subject not in get_args(OutputSubject):
        subjects = ", ".join(get_args(OutputSubject))
        return plugin_problem(
            f"expected one of the subjects {subjects} in '{plugin.name}', found '{row.subject}'", hint
        )
    if any(known.subject == row.subject and known.name == row.name for known in OUTPUTS):
        return plugin_problem(f"expected a format that is new, found '{row.name}' of '{plugin.name}' again", hint)
    return None

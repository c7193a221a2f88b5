# What other packages add, and whether it can be used: one list over all groups.
"""Plug-ins of other packages."""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.sheet import Column, Sheet
from zeitbuch.core.report.presentations import TableResult
from zeitbuch.plugins.entry_points import GROUPS, PlugIn, PluginGroup, find_plugins
from zeitbuch.readers.input.decoder_plugins import decoder_problem
from zeitbuch.readers.reading.plugins import format_problem
from zeitbuch.writers.outputs.plugins import output_problem

CHECKS: dict[PluginGroup, Callable[[PlugIn], Problem | None]] = {
    "zeitbuch.formats": format_problem,
    "zeitbuch.decoders": decoder_problem,
    "zeitbuch.outputs": output_problem,
}


class PluginEntry(Struct, frozen=True):
    """One plug-in; ``problem`` says why it cannot be used."""

    group: str
    name: str
    package: str
    version: str
    target: str
    problem: Problem | None = None


class PluginsResult(Struct, frozen=True):
    """`list plugins --format json`."""

    plugins: tuple[PluginEntry, ...]


def list_plugins() -> list[PluginEntry]:
    """All plug-ins of all groups."""
    return [
        PluginEntry(group, p.name, p.package, p.version, p.target, CHECKS[group](p))
        for group in GROUPS
        for p in find_plugins(group)
    ]


def plugins_table(entries: list[PluginEntry]) -> TableResult:
    """Plug-ins as a table."""
    columns = (
        Column("group", "for"), Column("name", "name"), Column("package", "package"), Column("version", "version"),
        Column("target", "where"), Column("usable", "usable"),
    )  # fmt: skip
    rows = tuple(
        (
            e.group.removeprefix("zeitbuch."),
            e.name,
            e.package,
            e.version,
            e.target,
            "yes" if e.problem is None else "no",
        )
        for e in entries
    )
    notes = () if entries else ("no package adds anything; docs/plugins.md shows how to write one",)
    return TableResult("plugins", PluginsResult(tuple(entries)), lambda full: Sheet(columns, rows, notes=notes))

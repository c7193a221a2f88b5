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

from .check_rows import check_problem

CHECKS: dict[PluginGroup, Callable[[PlugIn], Problem | None]] = {
    "zeitbuch.formats": format_problem,
    "zeitbuch.decoders": decoder_problem,
    "zeitbuch.outputs": output_problem,
    "zeitbuch.checks": check_problem,
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
        PluginEntry(group, plug_in.name, plug_in.package, plug_in.version, plug_in.target, CHECKS[group](plug_in))
        for group in GROUPS
        for plug_in in find_plugins(group)
    ]


def plugins_table(entries: list[PluginEntry]) -> TableResult:
    """Plug-ins as a table."""
    columns = (
        Column("group", "for"), Column("name", "name"), Column("package", "package"), Column("version", "version"),
        Column("target", "where"), Column("usable", "usable"),
    )  # fmt: skip
    rows = tuple(
        (
            plugin_entry.group.removeprefix("zeitbuch."),
            plugin_entry.name,
            plugin_entry.package,
            plugin_entry.version,
            plugin_entry.target,
            "yes" if plugin_entry.problem is None else "no",
        )
        for plugin_entry in entries
    )
    notes = () if entries else ("no package adds anything; docs/plugins.md shows how to write one",)
    return TableResult("plugins", PluginsResult(tuple(entries)), lambda full: Sheet(columns, rows, notes=notes))

# Pieces of other packages, found through entry points. They are looked up only when something asks for them, loaded once, and
# one that cannot be loaded is named with its package: never swallowed, never fatal.
"""Plug-ins of other packages."""

from __future__ import annotations

from functools import lru_cache
from typing import TYPE_CHECKING, Any, Literal, get_args

from msgspec import Struct

from zeitbuch.core.model.problems import Problem

from .state import packages_add_plugins

if TYPE_CHECKING:
    from importlib.metadata import EntryPoint

PluginGroup = Literal["zeitbuch.formats", "zeitbuch.decoders", "zeitbuch.outputs", "zeitbuch.checks"]
GROUPS: tuple[PluginGroup, ...] = get_args(PluginGroup)


class PlugIn(Struct, frozen=True):
    """One piece of another package: ``value`` is what its entry point names, or ``problem`` says why it cannot be used."""

    group: PluginGroup
    name: str
    package: str
    version: str
    target: str
    value: Any
    problem: Problem | None


@lru_cache(maxsize=len(GROUPS))
def find_plugins(group: PluginGroup) -> tuple[PlugIn, ...]:
    """All plug-ins of a group, in the order of their names."""
    if not packages_add_plugins():
        return ()
    from importlib.metadata import entry_points  # takes longer to import than a small estate to read

    return tuple(
        _load_plugin(group, entry) for entry in sorted(entry_points(group=group), key=lambda entry: entry.name)
    )


def _load_plugin(group: PluginGroup, entry: EntryPoint) -> PlugIn:
    package = entry.dist.name if entry.dist is not None else ""
    version = entry.dist.version if entry.dist is not None else ""
    value, problem = None, None
    try:
        value = entry.load()
    except Exception as error:  # whatever a foreign package does while it is imported
        reason = f"{type(error).__name__}: {str(error)[:200]}"
        problem = plugin_problem(
            f"expected the plug-in '{entry.name}' of the package {package} to load {entry.value}, found {reason}",
            f"mend or remove it: pip uninstall {package}",
        )
    return PlugIn(group, entry.name, package, version, entry.value, value, problem)


def plugin_problem(message: str, hint: str) -> Problem:
    """What is wrong with a plug-in."""
    return Problem("plugin", "error", message, None, hint)


def lacking_problem(plugin: PlugIn, names: tuple[str, ...]) -> Problem | None:
    missing = [name for name in names if not callable(getattr(plugin.value, name, None))]
    if not missing:
        return None
    words = f"expected the functions {', '.join(names)} in {plugin.target} ({plugin.package}), found no {missing[0]}"
    return plugin_problem(words, "docs/plugins.md says what a plug-in offers")

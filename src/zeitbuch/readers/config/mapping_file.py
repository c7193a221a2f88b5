# The file that says what two lines call otherwise on purpose, and which differences are allowed.
"""Loading a mapping."""

from __future__ import annotations

from pathlib import Path

from zeitbuch.core.diff.mapping import Mapping, idle_entries, mapping_problems
from zeitbuch.core.model.problems import InputFaults, Problem
from zeitbuch.readers.input.toml_files import TomlKind, load_toml

from .figures import place_problems

_KIND = TomlKind("a mapping file", "mapping", "mapping-unreadable", "mapping-syntax", "mapping-key")


def load_mapping(path: str) -> tuple[Mapping, str]:
    """A mapping and its text. Raises ZeitbuchError when it cannot be read, InputFaults when an entry is wrong."""
    mapping, text = load_toml(path, Mapping, _KIND)
    if problems := place_problems(mapping_problems(mapping), path, text):
        raise InputFaults(problems)
    return mapping, text


def idle_mapping_entries(path: str, mapping: Mapping, used: list[int], allowed: list[int], today: str) -> list[Problem]:
    """Entries that fitted nothing or are out of date, with their lines."""
    found = idle_entries(mapping, used, allowed, today)
    return place_problems(found, path, Path(path).read_text(encoding="utf-8")) if found else []

# The file that says what a usage log holds, held against the rules before any log is opened.
"""Loading a usage mapping."""

from __future__ import annotations

from zeitbuch.core.actuals.usage_mapping import UsageMapping, mapping_faults
from zeitbuch.core.model.problems import InputFaults
from zeitbuch.readers.config.figures import place_problems
from zeitbuch.readers.input.toml_files import TomlKind, load_toml

from .standard_logs import settled_mapping

_KIND = TomlKind("a usage mapping", "usage-mapping", "usage-unreadable", "usage-syntax", "usage-key")


def load_usage_mapping(path: str) -> UsageMapping:
    """The mapping of a file. Raises ZeitbuchError when it cannot be read, InputFaults when an entry is wrong."""
    mapping, text = load_toml(path, UsageMapping, _KIND)
    if problems := place_problems(mapping_faults(settled_mapping(mapping)), path, text):
        raise InputFaults(problems)
    return mapping

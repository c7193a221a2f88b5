# The forms that are read without a dialect: our own, those of standards, those of plug-ins. By itself, so that who only
# asks for the name of a form loads no reader.
"""Naming the form of a document."""

from __future__ import annotations

from typing import Any

from zeitbuch.readers.standards import native

from .formats import recognising_standard
from .plugins import recognising_format


def name_form(value: Any) -> str:
    """The name of the form that a value has: native, of a standard or of a plug-in; empty when it has none."""
    if native.is_native(value):
        return "native"
    standard = recognising_standard(value)
    if standard is not None:
        return standard.name
    plugin, _ = recognising_format(value)
    return plugin.name if plugin is not None else ""

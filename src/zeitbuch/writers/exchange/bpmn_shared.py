# What several processes of a BPMN file refer to by name: messages, signals, errors, structures, stores. Each is written once, at
# the root of the file, before the processes.
"""Shared elements of a BPMN file, and ids that occur once in it."""

from __future__ import annotations

from collections.abc import Mapping
from xml.etree import ElementTree as ET

from zeitbuch.core.model import bpmn_terms as E

from .bpmn_names import B, clean_text, xml_name

_CODES = {
    (tag, word): attribute
    for attribute, word in E.SHARED_CODES
    for tag in E.HEARD
    if attribute.startswith(tag) or attribute.endswith("Ref")
}


class SharedElements:
    """The root elements of one file that are not processes."""

    def __init__(self, root: ET.Element) -> None:
        self.root = root
        self.taken: set[str] = {"definitions"}
        self.made: dict[tuple[str, str, tuple[tuple[str, str], ...]], str] = {}

    def unique_id(self, text: str) -> str:
        """An XML name made of a text that occurs once in the file."""
        base = xml_name(text)[:80]
        made, number = base, 2
        while made in self.taken:
            made, number = f"{base}_{number}", number + 1
        self.taken.add(made)
        return made

    def refer(self, tag: str, name: str, codes: Mapping[str, str] | None = None) -> str:
        """The id of a message, signal, error, escalation, item definition or data store with a name; ``codes`` are what else is
        known of it, by the words of the model."""
        key = (tag, name, tuple(sorted((codes or {}).items())))
        if key not in self.made:
            made = {"id": self.unique_id(f"{tag}_{name}"), "name": clean_text(name)}
            for word, value in key[2]:
                attribute = _CODES[tag, word]
                made[attribute] = self._item(value) if attribute.endswith("Ref") else clean_text(value)
            ET.SubElement(self.root, B + tag, made)
            self.made[key] = made["id"]
        return self.made[key]

    def _item(self, name: str) -> str:
        key = ("itemDefinition", name, ())
        if key not in self.made:
            self.made[key] = self.unique_id(name)
            ET.SubElement(self.root, B + "itemDefinition", {"id": self.made[key]})
        return self.made[key]

    def category_value(self, text: str) -> str:
        """The id of a category value, which names a group."""
        key = ("categoryValue", text, ())
        if key not in self.made:
            category = ET.SubElement(self.root, B + "category", {"id": self.unique_id("category")})
            self.made[key] = self.unique_id(f"group_{text}")
            ET.SubElement(category, B + "categoryValue", {"id": self.made[key], "value": clean_text(text)})
        return self.made[key]

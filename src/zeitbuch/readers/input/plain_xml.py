# XML of builders that nobody has seen is read through a dialect like any other export: as objects, lists and texts.
"""XML as plain values."""

from __future__ import annotations

from typing import Any

from .xml_tree import Element

TEXT = "@text"


def plain_document(root: Element) -> dict[str, Any]:
    """The tree of an element as plain values, under the name of its root. An element with attributes or elements is an object: its
    attributes by name, the elements in it by their names, always as lists, its own text as ``@text``. An element with nothing but
    text is that text; several of them with one name are a list."""
    made = _plain(root)
    return {root.tag: made if isinstance(made, dict) else {TEXT: made} if made else {}}


def _plain(element: Element) -> dict[str, Any] | str:
    text = element.text.strip()
    if not element.children and not element.attributes and not element.foreign:
        return text
    found: dict[str, Any] = dict(element.attributes)
    for name, value in element.foreign.items():
        found.setdefault(name, value)
    below: dict[str, list[Any]] = {}
    for child in element.children:
        below.setdefault(child.tag, []).append(_plain(child))
    for tag, items in below.items():
        only_text = all(isinstance(item, str) for item in items)
        key = f"@{tag}" if tag in found else tag  # an attribute and an element of one name
        found[key] = items[0] if only_text and len(items) == 1 else items
    if text:
        found[TEXT] = text
    return found

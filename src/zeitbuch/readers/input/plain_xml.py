# XML of builders that nobody has seen is read through a dialect like any other export: as objects, lists and texts.
"""XML as plain values."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

from .xml_tree import Element

TEXT = "@text"
EACH, NAME = "@each", "@name"  # of the elements in a sequence: their list, the name of each


def plain_document(root: Element, sequences: Collection[str] = ()) -> dict[str, Any]:
    """The tree of an element as plain values, under the name of its root. An element with attributes or elements is an object: its
    attributes by name, the elements in it by their names, always as lists, its own text as ``@text``. An element with nothing but
    text is that text; several of them with one name are a list. The elements in one of the ``sequences`` are a list ``@each`` of objects in
    the order in which they stand, whatever the ``@name`` of each."""
    made = _plain(root, sequences)
    return {root.tag: made if isinstance(made, dict) else {TEXT: made} if made else {}}


def _plain(element: Element, sequences: Collection[str]) -> dict[str, Any] | str:
    text = element.text.strip()
    if not element.children and not element.attributes and not element.foreign:
        return text
    found: dict[str, Any] = dict(element.attributes)
    for name, value in element.foreign.items():
        found.setdefault(name, value)
    if element.tag in sequences and element.children:
        found[EACH] = [_named(child, sequences) for child in element.children]
    else:
        _put_by_name(element, sequences, found)
    if text:
        found[TEXT] = text
    return found


def _put_by_name(element: Element, sequences: Collection[str], found: dict[str, Any]) -> None:
    below: dict[str, list[Any]] = {}
    for child in element.children:
        below.setdefault(child.tag, []).append(_plain(child, sequences))
    for tag, items in below.items():
        only_text = all(isinstance(item, str) for item in items)
        key = f"@{tag}" if tag in found else tag  # an attribute and an element of one name
        found[key] = items[0] if only_text and len(items) == 1 else items


def _named(element: Element, sequences: Collection[str]) -> dict[str, Any]:
    made = _plain(element, sequences)
    return {NAME: element.tag, **(made if isinstance(made, dict) else {TEXT: made} if made else {})}

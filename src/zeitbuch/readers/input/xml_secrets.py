# An element goes by its tag, or by what its attribute "name" says; what stands below a secret's name is one here too.
"""XML without secrets."""

from __future__ import annotations

from zeitbuch.readers.secrets.masker import Masker
from zeitbuch.readers.secrets.names import Secrecy, is_action

from .xml_tree import Element

_NAMED_BY = ("name", "key", "id", "param", "field", "property", "variable", "header")
_VALUES = frozenset({"value", "content", "val", "default", "data", "text"})


def mask_elements(root: Element, raw: bytes, masker: Masker) -> None:
    """Put marks in the place of secrets in the attributes and texts below an element, whose file has these bytes."""
    names = {name for element in root.walk_tree() for name in (element.tag, *element.attributes, *element.foreign)}
    if not masker.texts.look(None if _spells_otherwise(raw) else raw) and not any(
        [masker.names.secrecy(name) != "none" for name in names]
    ):
        return
    stack: list[tuple[Element, Secrecy]] = [(root, "none")]
    while stack:
        element, inherited = stack.pop()
        own = masker.secrecy_below(element.tag, inherited)
        named = _named_by(element, masker)
        _mask_element(element, own, named, masker)
        paired = named == "none" and any([_is_naming(child, masker) for child in element.children])
        for child in element.children:
            below: Secrecy = own if own in ("secret", "secrets", "holder") else "none"
            if child.tag.lower() in _VALUES and (named != "none" or (paired and not _is_naming(child, masker))):
                below = "secret"
            stack.append((child, below))


def _spells_otherwise(raw: bytes) -> bool:
    """Whether words of the file may not stand in its bytes as they are read: in another encoding, or by numbers of letters."""
    if b"&#" in raw:
        return True
    try:
        return "\0" in raw.decode("utf-8")
    except UnicodeDecodeError:
        return True


def _named_by(element: Element, masker: Masker) -> Secrecy:
    """What the element is by the name that an attribute gives it."""
    for key in _NAMED_BY:
        name = element.attributes.get(key)
        if name and len(name) <= 60 and not is_action(name):
            secrecy = masker.names.secrecy(name)
            if secrecy in ("secret", "secrets"):
                return "secret"
    return "none"


def _is_naming(child: Element, masker: Masker) -> bool:
    """Whether a child's text is the name of a secret that its sibling holds."""
    return child.tag.lower() in _NAMED_BY and masker.names.secrecy(child.text.strip()[:60]) in ("secret", "secrets")


def _mask_element(element: Element, own: Secrecy, named: Secrecy, masker: Masker) -> None:
    for held in (element.attributes, element.foreign):
        for key, value in held.items():
            secrecy = named if named != "none" and key.lower() in _VALUES else masker.secrecy_below(key, own)
            held[key] = masker.mask_part(value, secrecy, key)
    if element.text.strip():
        secrecy = named if named != "none" else own
        element.text = masker.mask_part(element.text, secrecy, element.tag)

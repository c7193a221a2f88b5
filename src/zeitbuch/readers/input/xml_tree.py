# XML -> a small tree with line and column of every element, in one pass of expat. Nothing outside the file is ever
# loaded and no entity is expanded: a document that declares entities is refused.
"""Reading XML safely into elements with positions."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any
from xml.parsers import expat

from zeitbuch.core.model.bpmn_terms import DIAGRAM_SPACE
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Origin

from .limits import Limits, too_large

# How an extension says where and in what colours a box is drawn: layout, not meaning.
_DRAWING = re.compile(
    r"(?i)(bg|background|border|text|font|fill|stroke|line)?[-_]?colou?r|fill|stroke|(font|stroke|fill)[-_]?\w+|zoom|icon"
)
_EXTENT = frozenset({"x", "y", "width", "height"})


class Element:
    """One element: ``tag`` without prefix, its ``space`` (namespace name), attributes by local name (``foreign`` are those in a
    namespace), text and children. It remembers what was taken of it; ``rest`` is what was not."""

    __slots__ = (
        "attributes",
        "children",
        "closed",
        "column",
        "foreign",
        "hushed",
        "line",
        "space",
        "tag",
        "taken",
        "text",
    )

    def __init__(self, tag: str, space: str, attributes: dict[str, str], line: int, column: int) -> None:
        self.tag = tag
        self.space = space
        self.attributes = attributes
        self.foreign: dict[str, str] = {}
        self.line = line
        self.column = column
        self.text = ""
        self.children: list[Element] = []
        self.taken: set[str] = set()
        self.hushed: set[str] = set()
        self.closed = False

    def attribute(self, name: str, default: str = "") -> str:
        """An attribute that is only looked at, or the default."""
        return self.attributes.get(name, default)

    def take(self, name: str, default: str = "") -> str:
        """An attribute, which counts as read, or the default."""
        self.taken.add(name)
        return self.attributes.get(name, default)

    def take_text(self) -> str:
        """The text, which counts as read, without the white space around it."""
        self.taken.add(_TEXT)
        return self.text.strip()

    def mark(self, *names: str) -> None:
        """Attributes that were read by other means."""
        self.taken.update(names)

    def noise(self, *names: str) -> None:
        """Attributes that carry no meaning."""
        self.taken.update(names)
        self.hushed.update(names)

    def expect(self, name: str, *values: str) -> None:
        """An attribute that carries no meaning as long as it has one of these values."""
        if self.attributes.get(name) in values:
            self.noise(name)

    def close(self) -> None:
        """All of the element is accounted for, here or elsewhere."""
        self.closed = True

    def children_with(self, *tags: str) -> list[Element]:
        """The children with one of the tags."""
        return [element for element in self.children if element.tag in tags]

    def first_child(self, *tags: str) -> Element | None:
        """The first child with one of the tags."""
        return next((element for element in self.children if element.tag in tags), None)

    def walk_tree(self) -> Iterator[Element]:
        """The element and all below it, in document order."""
        stack = [self]
        while stack:
            element = stack.pop()
            yield element
            stack += reversed(element.children)

    def as_plain(self) -> Any:
        """The element as plain values: attributes, texts and children by tag."""
        return _plain(self, False)

    def rest(self) -> dict[str, Any]:
        """What was not taken, as plain values."""
        left = _plain(self, True)
        return left if isinstance(left, dict) else {"text": left} if left else {}


_TEXT = "\x00text"


def noise_below(root: Element) -> dict[str, Any]:
    """The attributes at and below an element that were called noise, by element and name."""
    found: dict[str, Any] = {}
    counted: dict[str, int] = {}
    for element in _open_elements(root, all_of_them=True):
        values = {**element.attributes, **element.foreign}
        drawn = len(_EXTENT & values.keys()) > 1
        for name, value in values.items():
            if name not in element.hushed and (name in element.taken or not _is_drawing(name, drawn)):
                continue
            place = f"{element.tag}/@{name}"
            counted[place] = number = counted.get(place, 0) + 1
            found[place if number == 1 else f"{place}~{number}"] = value
    return found


def _plain(root: Element, untaken: bool) -> Any:
    """An element as plain values, all of it or only what was not taken; not by recursion, for elements may be nested deep."""
    order = list(root.walk_tree()) if not untaken else _open_elements(root)
    made: dict[int, Any] = {}
    for element in reversed(order):
        inner: dict[str, Any] = {}
        for child in element.children:
            value = made.pop(id(child), None)
            if value is None:
                continue
            held = inner.get(child.tag)
            inner[child.tag] = value if held is None else [*held, value] if isinstance(held, list) else [held, value]
        own = _own_values(element, untaken)
        words = "" if untaken and _TEXT in element.taken else element.text.strip()
        if own or inner:
            made[id(element)] = {**own, **inner, **({"text": words} if words else {})}
        elif words or not untaken:
            made[id(element)] = words
    return made.get(id(root), {})


def _open_elements(root: Element, all_of_them: bool = False) -> list[Element]:
    """Elements that are not accounted for elsewhere; with ``all_of_them`` all but the diagram, which nobody looks into."""
    found: list[Element] = []
    stack = [root]
    while stack:
        element = stack.pop()
        if (not element.closed or element is root) or (all_of_them and element.space != DIAGRAM_SPACE):
            found.append(element)
            stack += reversed(element.children)
    return found


def _own_values(element: Element, untaken: bool) -> dict[str, str]:
    values = {**element.attributes, **element.foreign}
    if not untaken:
        return values
    drawn = len(_EXTENT & values.keys()) > 1
    return {key: value for key, value in values.items() if key not in element.taken and not _is_drawing(key, drawn)}


def _is_drawing(name: str, drawn: bool) -> bool:
    """Whether an attribute says how something is drawn; ``drawn``: its element has an extent."""
    return _DRAWING.fullmatch(name) is not None or (drawn and name in _EXTENT)


def _local_name(raw: str) -> tuple[str, str]:
    space, _, tag = raw.rpartition(" ")
    return space, tag


class _Builder:
    """Handlers of the parser, with the limits they hold to."""

    def __init__(self, limits: Limits, parser: expat.XMLParserType) -> None:
        self.limits = limits
        self.parser = parser
        self.root: Element | None = None
        self.open: list[Element] = []
        self.texts: list[list[str]] = []
        self.values = 0
        self.keys: set[str] = set()

    def start(self, raw: str, attributes: dict[str, str]) -> None:
        space, tag = _local_name(raw)
        self.values += 1 + len(attributes)
        if self.values > self.limits.values:
            raise too_large("values", self.limits.values, f"more than {self.limits.values:,} values")
        line = self.parser.CurrentLineNumber
        own = {key: value for key, value in attributes.items() if " " not in key}
        element = Element(tag, space, own, line, self.parser.CurrentColumnNumber + 1)
        for key, value in attributes.items() if len(own) < len(attributes) else ():
            outer, local = _local_name(key)
            if outer and (local != "type" or not value.endswith("FormalExpression")):
                name = local if local not in own and local not in element.foreign else f"{local} ({outer})"
                element.foreign[name] = value
        if self.open:
            self.open[-1].children.append(element)
        else:
            self.root = element
        self.open.append(element)
        self.texts.append([])
        if len(self.open) > self.limits.depth:
            raise too_large("depth", self.limits.depth, "deeper nesting", f"line {line}")

    def end(self, _raw: str) -> None:
        element = self.open.pop()
        element.text = "".join(self.texts.pop())
        if len(element.text) > self.limits.text:
            raise too_large(
                "text", self.limits.text, f"a single text of {len(element.text):,} characters", f"line {element.line}"
            )

    def characters(self, text: str) -> None:
        if self.texts:
            self.texts[-1].append(text)

    def doctype(self, *_: Any) -> None:
        raise fail(
            "xml-doctype",
            f"expected XML without a document type, found one at line {self.parser.CurrentLineNumber}",
            "entities and outside definitions are never loaded: remove the <!DOCTYPE ...> if the file is to be trusted",
        )


def parse_xml(raw: bytes, limits: Limits) -> tuple[Element, int]:
    """The root element and the number of values (attributes and texts).

    Raises ZeitbuchError for wrong syntax, a document type, or a limit passed.
    """
    parser = expat.ParserCreate(namespace_separator=" ")
    parser.buffer_text = True
    builder = _Builder(limits, parser)
    parser.StartElementHandler = builder.start
    parser.EndElementHandler = builder.end
    parser.CharacterDataHandler = builder.characters
    parser.StartDoctypeDeclHandler = builder.doctype
    try:
        parser.Parse(raw, True)
    except expat.ExpatError as error:
        raise fail(
            "xml-syntax",
            f"expected XML, found {expat.ErrorString(error.code)} at line {error.lineno}, column {error.offset + 1}",
            "the download may have been cut off: export the file again",
            Origin("", line=error.lineno, column=error.offset + 1),
        ) from None
    except (ValueError, LookupError) as error:  # an encoding nobody knows
        raise fail(
            "xml-syntax", f"expected XML in a known encoding, found: {error}", "export the file again as UTF-8"
        ) from None
    assert builder.root is not None
    count = 0
    for element in builder.root.walk_tree():
        words = bool(element.text.strip())
        count += len(element.attributes) + len(element.foreign) + words
    return builder.root, count

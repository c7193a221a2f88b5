# XML -> a small tree with line and column of every element, in one pass of expat. Nothing outside the file is ever
# loaded and no entity is expanded: a document that declares entities is refused.
"""Reading XML safely into elements with positions."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any
from xml.parsers import expat

from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Origin

from .limits import Limits, too_large
from .secrets import masked_text


class Element:
    """One element: ``tag`` without prefix, its ``space`` (namespace name), attributes by local name, text and children."""

    __slots__ = ("attributes", "children", "column", "line", "space", "tag", "text")

    def __init__(self, tag: str, space: str, attributes: dict[str, str], line: int, column: int) -> None:
        self.tag = tag
        self.space = space
        self.attributes = attributes
        self.line = line
        self.column = column
        self.text = ""
        self.children: list[Element] = []

    def attribute(self, name: str, default: str = "") -> str:
        """An attribute, or the default."""
        return self.attributes.get(name, default)

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
        """The element as plain values: attributes, texts and children by tag. For what is kept as unread."""
        made: dict[str, Any] = dict(self.attributes)
        for child in self.children:
            value = child.as_plain()
            if child.tag in made:
                held = made[child.tag]
                made[child.tag] = [*held, value] if isinstance(held, list) else [held, value]
            else:
                made[child.tag] = value
        words = self.text.strip()
        if not made:
            return words
        if words:
            made["text"] = words
        return made


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
        element = Element(
            tag,
            space,
            {_local_name(key)[1]: value for key, value in attributes.items()},
            line,
            self.parser.CurrentColumnNumber + 1,
        )
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
    """The root element, secrets masked, and the number of values (attributes and texts).

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
        count += len(element.attributes) + words
        mask_element(element)
    return builder.root, count


def mask_element(element: Element) -> None:
    """Replace secrets in attributes and text of one element."""
    name = element.attributes.get("name") or element.attributes.get("key") or element.attributes.get("id") or ""
    for key, value in element.attributes.items():
        label = key if key not in ("value", "content") else name
        element.attributes[key] = masked_text(value, label)
    if element.text.strip():
        element.text = masked_text(element.text, name or element.tag)

# JSONPath queries (RFC 9535). The plain ones ($.a.b[*]) are walked directly: they are nearly all there are, and
# the general engine is imported only for the others.
"""JSONPath queries over decoded documents, with JSON pointers of what they select."""

from __future__ import annotations

import re
from typing import Any

from zeitbuch.core.model.problems import fail
from zeitbuch.readers.input.pointers import escape_key

_PLAIN = re.compile(r"\$(?:\.[A-Za-z_][A-Za-z0-9_]*|\['[^'\\*]+'\]|\[\*\])*")
_PART = re.compile(r"\.([A-Za-z_][A-Za-z0-9_]*)|\['([^']+)'\]|\[\*\]")


class Query:
    """One JSONPath query. Raises ZeitbuchError when the text is not one."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.parts: list[str] | None = None
        self.engine: Any = None
        if _PLAIN.fullmatch(text):
            self.parts = [matched[1] or matched[2] or "*" for matched in _PART.finditer(text)]
            return
        import jsonpath_rfc9535 as jsonpath

        try:
            self.engine = jsonpath.compile(text)
        except jsonpath.JSONPathError as error:
            raise fail(
                "query", f"expected a JSONPath query (RFC 9535), found '{text}': {error}", "example: $.steps[*]"
            ) from None

    def claimed_keys(self, document: Any) -> list[tuple[str, ...]]:
        """The keys that lead to what the query selects, as claims name them; those of a plain query hold for every document."""
        if self.parts is not None:
            return [tuple(self.parts)]
        return [tuple(str(part) for part in node.location) for node in self.engine.find(document)]

    def find_all(self, document: Any) -> list[tuple[str, Any]]:
        """What the query selects: pairs of JSON pointer and value, in document order."""
        if self.parts is None:
            return [
                ("".join(f"/{escape_key(str(part))}" for part in node.location), node.value)
                for node in self.engine.find(document)
            ]
        found: list[tuple[str, Any]] = [("", document)]
        for part in self.parts:
            below: list[tuple[str, Any]] = []
            for place, value in found:
                if part != "*":
                    if type(value) is dict and part in value:
                        below.append((f"{place}/{escape_key(part)}", value[part]))
                elif type(value) is list:
                    below += [(f"{place}/{index}", item) for index, item in enumerate(value)]
                elif type(value) is dict:
                    below += [(f"{place}/{escape_key(key)}", item) for key, item in value.items()]
            found = below
        return found

    def find_values(self, document: Any) -> list[Any]:
        """What the query selects, without pointers."""
        if self.parts is None:
            return [value for _, value in self.find_all(document)]
        found = [document]
        for part in self.parts:
            if part != "*":
                found = [value[part] for value in found if type(value) is dict and part in value]
            elif len(found) == 1 and type(found[0]) is list:
                found = found[0]
            else:
                found = [
                    inner
                    for value in found
                    for inner in (value if type(value) is list else value.values() if type(value) is dict else ())
                ]
        return found

    def selects_any(self, document: Any) -> bool:
        """Whether the query selects anything."""
        if self.parts is not None and "*" not in self.parts:
            value = document
            for part in self.parts:
                if type(value) is not dict or part not in value:
                    return False
                value = value[part]
            return True
        return bool(self.find_all(document))

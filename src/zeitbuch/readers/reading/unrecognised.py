# A document in no known form: what it looks like, and what would make it readable.
"""The problem of a document that nothing recognises."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Origin
from zeitbuch.readers.dialects.flows import DialectReader
from zeitbuch.readers.input.xml_tree import Element


def unrecognised_problem(value: Any, origin: Origin, dialects: Sequence[DialectReader]) -> Problem:
    """What the document looks like, and the dialect that comes closest."""
    found = f"expected a flow definition in the native form or an active dialect, found {_look_of(value)}"
    propose = f"to have one proposed: zeitbuch dialect suggest {origin.source}"
    if not dialects:
        active = "no dialect is active: name one with --dialect FILE or under `dialects` in zeitbuch.toml, or have"
        hint = f"{active} {propose.removeprefix('to have ')}"
        return Problem("unrecognised", "error", found, origin, hint)
    document = {} if isinstance(value, Element) else value
    missing = [
        (len(signs), index, reader, signs)
        for index, reader in enumerate(dialects)
        if (signs := reader.recogniser.missing_signs(document))
    ]
    _, _, nearest, lacks = min(missing, key=lambda m: m[:2])
    hint = f"closest is dialect '{nearest.dialect.name}', which also expects {' and '.join(lacks)}; {propose}"
    return Problem("unrecognised", "error", found, origin, hint)


def _look_of(value: Any) -> str:
    if isinstance(value, Element):
        return f"XML with the root <{value.tag}>"
    if isinstance(value, dict):
        keys = ", ".join(f"'{key}'" for key in list(value)[:6])
        return f"an object with the keys {keys}" if keys else "an empty object"
    return f"a list of {len(value)} values" if isinstance(value, list) else f"a single {type(value).__name__}"

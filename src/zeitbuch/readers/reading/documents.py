# From bytes to a document that the later stages may look at: decoded once, measured, masked once.
"""Documents."""

from __future__ import annotations

from typing import Any, NamedTuple

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Origin
from zeitbuch.readers.input.decode import Decoded, decode_bytes, mask_decoded
from zeitbuch.readers.input.limits import Limits
from zeitbuch.readers.secrets.masker import Masker

from .embedded import Embedded, find_embedded, might_embed


class Document(NamedTuple):
    """A decoded file, or a definition that stands as text in one; ``counted`` scalar values."""

    value: Any
    counted: int
    origin: Origin
    raw: bytes
    yaml: bool
    problems: tuple[Problem, ...] = ()


class Opening(NamedTuple):
    """How documents are opened: their limits, what masks them, and whether later stages mask what they keep."""

    limits: Limits
    masker: Masker
    unmasked: bool

    def open_file(self, origin: Origin, raw: bytes) -> Document:
        """The document in a file. Raises ZeitbuchError when it cannot be decoded or is too large."""
        decoded = decode_bytes(origin.member or origin.source, raw, self.limits)
        value, count, repeated = mask_decoded(decoded, self.limits, self.masker, self.unmasked)
        problems = (_repeated_problem(repeated, origin),) if repeated else ()
        return Document(value, count, origin, decoded.raw, decoded.form == "yaml", problems)

    def open_embedded(self, one: Embedded, origin: Origin) -> Document:
        """The document that a text of another holds. Raises ZeitbuchError when it is too large."""
        decoded = Decoded(one.value, "json", one.raw)
        value, count, _ = mask_decoded(decoded, self.limits, self.masker, self.unmasked)
        return Document(value, count, origin, one.raw, False)


def _repeated_problem(keys: list[str], origin: Origin) -> Problem:
    names = ", ".join(f"'{key[:40]}'" for key in keys[:3]) + (f" and {len(keys) - 3} more" if len(keys) > 3 else "")
    message = f"expected keys that occur once in an object, found {names} again"
    hint = "the last value counts, and what stood there before is lost: mend the export"
    return Problem("key-twice", "finding", message, origin, hint)


def embedded_in(document: Document) -> list[Embedded]:
    """All texts of a document that hold JSON objects."""
    return list(find_embedded(document.value)) if might_embed(document.raw, document.yaml) else []

# From bytes to a document that the later stages may look at: decoded once, measured, masked once.
"""Documents."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, NamedTuple

from zeitbuch.core.model.problems import Problem, ZeitbuchError, place_within
from zeitbuch.core.model.records import Origin
from zeitbuch.readers.input.decode import Decoded, decode_bytes, mask_decoded
from zeitbuch.readers.input.limits import Limits, too_large
from zeitbuch.readers.input.tables import ROWS
from zeitbuch.readers.secrets.masker import Masker

from .embedded import Embedded, find_embedded, might_embed


class Document(NamedTuple):
    """A decoded file, or a definition that stands as text in one; ``counted`` scalar values; ``joined``: the documents of a file as rows."""

    value: Any
    counted: int
    origin: Origin
    raw: bytes
    yaml: bool
    problems: tuple[Problem, ...] = ()
    joined: bool = False


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

    def open_together(self, origin: Origin, parts: Iterable[tuple[Origin, bytes]], raw: bytes) -> Document:
        """The documents of a file as the rows of one, with an error for each that cannot be decoded. Raises ZeitbuchError when they are too
        large together."""
        opened: list[Document] = []
        problems: list[Problem] = []
        counted = 0
        for place, part in parts:
            try:
                opened.append(self.open_file(place, part))
            except ZeitbuchError as error:
                problems.append(place_within(error.problem, place))
                continue
            problems += opened[-1].problems
            counted += opened[-1].counted
            if counted > self.limits.values:
                raise too_large("values", self.limits.values, "more values in all documents of the file")
        rows, yaml = [one.value for one in opened], any(one.yaml for one in opened)
        return Document({ROWS: rows}, counted, origin, raw, yaml, tuple(problems), joined=True)

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

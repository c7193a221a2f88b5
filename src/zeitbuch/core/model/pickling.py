# The encoder leaves out a field that holds its default, and takes a text for it only where it is the very same object. A record that came from
# another process with a copy of it would be written with one field more, and have another fingerprint.
"""Records that come out of another process as they went in."""

from __future__ import annotations

import copyreg
from collections.abc import Iterable
from functools import cache
from typing import Any

from msgspec import Struct, structs


@cache
def _defaults(kind: type[Struct]) -> dict[str, Any]:
    return {one.name: one.default for one in structs.fields(kind)}


def _made_anew(kind: type[Struct], values: dict[str, Any]) -> Struct:
    return kind(**values)


def _reduced(record: Struct) -> tuple[Any, ...]:
    defaults = _defaults(type(record))
    values = {name: getattr(record, name) for name in record.__struct_fields__}
    return _made_anew, (type(record), {name: value for name, value in values.items() if value is not defaults[name]})


def keep_defaults(kinds: Iterable[type[Struct]]) -> None:
    """Has records of these kinds travel without the fields that are their defaults."""
    for kind in kinds:
        copyreg.pickle(kind, _reduced)

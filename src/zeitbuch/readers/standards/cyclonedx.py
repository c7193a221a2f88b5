# Bills of materials as JSON (CycloneDX, ECMA-424): told from exports by the one key that the standard asks for.
"""Reading bills of materials."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from msgspec import structs

from zeitbuch.core.model.problems import Problem, ZeitbuchError, fail
from zeitbuch.core.model.records import Origin
from zeitbuch.readers.input.decode import decode_bytes
from zeitbuch.readers.input.limits import Limits, measure_tree
from zeitbuch.readers.input.sources import load_input

_HEAD = 4096  # every maker writes the key among the first


def is_bill(source: str) -> bool:
    """Whether a source is a file that says it is a bill of materials."""
    if not source.endswith(".json") or not Path(source).is_file():
        return False
    with Path(source).open("rb") as file:
        return b'"bomFormat"' in file.read(_HEAD)


def read_bill(source: str, limits: Limits) -> dict[str, Any]:
    """The bill in a file, as decoded JSON. Raises ZeitbuchError, with the file, when it cannot be read or is no bill."""
    item = load_input(source, limits)
    if isinstance(item.data, Problem):
        raise ZeitbuchError(item.data)
    try:
        bill = decode_bytes(source, item.data or b"", limits).value
        measure_tree(bill, limits, None, plain=True)
    except ZeitbuchError as error:
        told = error.problem
        origin = structs.replace(told.origin or Origin(source), source=source)
        raise ZeitbuchError(structs.replace(told, origin=origin)) from error
    if not isinstance(bill, dict) or bill.get("bomFormat") != "CycloneDX":
        found = bill.get("bomFormat", "none") if isinstance(bill, dict) else "none"
        raise fail(
            "bill", f"expected a bill of materials with bomFormat CycloneDX, found {found!r}", origin=Origin(source)
        )
    return bill

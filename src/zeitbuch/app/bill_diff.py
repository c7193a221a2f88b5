# Bills of materials held against each other, or a bill against flows as they are now: whoever signed a bill can ask whether it still holds.
"""Comparing bills of materials."""

from __future__ import annotations

from typing import Any

import msgspec

from zeitbuch.core.diff.bill_changes import BillComparison, compare_bills
from zeitbuch.core.report.bill_table import bill_sheet
from zeitbuch.core.report.presentations import TableResult
from zeitbuch.readers.secrets.labels import replace_marks
from zeitbuch.readers.secrets.masker import Masker
from zeitbuch.readers.standards.cyclonedx import is_bill, read_bill

from .inventory import estate_bill
from .session import Session


def names_bill(old: str, new: str | None) -> bool:
    """Whether one of the two is a bill of materials."""
    return is_bill(old) or (new is not None and is_bill(new))


def compare_bill_files(session: Session, old: str, new: str | None) -> TableResult:
    """What differs between two bills; a side that is no bill is read as flows, and their bill is made. Raises ZeitbuchError for a bill that
    cannot be read."""
    masker = Masker(session.workspace.secret_words)
    first, second = (_bill(session, source, masker) for source in (old, new))
    marked = compare_bills(first, second)  # with marks: two secrets in one place are two texts
    found = msgspec.convert(replace_marks(msgspec.to_builtins(marked), {}), BillComparison)
    return TableResult("bill-changes", found, lambda full: bill_sheet(found, full))


def _bill(session: Session, source: str | None, masker: Masker) -> dict[str, Any]:
    """The bill of one side without secrets; that of flows has none."""
    if source is None or not is_bill(source):
        return estate_bill(session, [source] if source is not None else [])
    found: dict[str, Any] = masker.mask_document(read_bill(source, session.limits), None)
    return found

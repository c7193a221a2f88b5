# A log keeps the names that flows had when it was written. The book knows them: a version stands there under the name and id that it had.
"""Names that flows once had."""

from __future__ import annotations

from msgspec import structs

from zeitbuch.book.place import open_book
from zeitbuch.core.model.problems import ZeitbuchError
from zeitbuch.core.model.records import Estate

from .session import Session


def former_names(session: Session, estate: Estate) -> dict[str, tuple[str, ...]]:
    """Names and ids of earlier versions of each flow, by its id now; none without a book, or with one that cannot be read, which is told."""
    try:
        with open_book(session.book).reading() as reading:
            versions = sorted(reading.versions(line=session.line), key=lambda one: (one.flow, one.number))
    except ZeitbuchError as error:
        if error.problem.code != "book-none":
            session.problems.append(structs.replace(error.problem, severity="warning"))
        return {}
    now = {flow.id: flow.name for flow in estate.flows}
    last = {one.flow: one.id for one in versions}
    found: dict[str, dict[str, None]] = {}
    for one in versions:
        key = last[one.flow]
        if key in now:
            names = {name: None for name in (one.name, one.id) if name and name not in (now[key], key)}
            found.setdefault(key, {}).update(names)
    return {key: tuple(names) for key, names in found.items() if names}

"""The people whom flows name: owners, approvers, accounts."""

from __future__ import annotations

from collections.abc import Iterator

from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.model.sheet import Column

from .records import Catalogue, Entry, Uses


class _Person:
    """What one person is named for."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.owns, self.approves, self.accounts = Uses(), Uses(), Uses()
        self.alone = 0


def _rows(estate: EstateView) -> Iterator[Entry]:
    found: dict[str, _Person] = {}

    def person(name: str) -> _Person:
        known = estate.people.get(name.casefold())
        key = known.name if known is not None else name
        return found.setdefault(key.casefold(), _Person(key))

    for known in estate.facts.people:
        person(known.name)
    for flow in estate.flows:
        for owner in flow.owners:
            person(owner).owns.add(flow)
            person(owner).alone += len(flow.owners) == 1
        for step in flow.steps:
            for name in step.approval.approvers if step.enabled and step.approval is not None else ():
                if "{" not in name:
                    person(name).approves.add(flow, step)
        for one in flow.connections:
            if one.account.casefold() in estate.people:
                person(one.account).accounts.add(flow)
    for named in found.values():
        yield _row(estate, named)


def _row(estate: EstateView, one: _Person) -> Entry:
    known = estate.people.get(one.name.casefold())
    uses = Uses()
    for part in (one.owns, one.approves, one.accounts):
        uses.flows |= part.flows
        uses.places |= part.places
    marks = [f"only owner of {one.alone}"] if one.alone else []
    marks += ["not among the workspace's people"] if known is None and estate.people and one.owns.flows else []
    marks += ["has left"] if known is not None and known.left and uses.flows else []
    marks += ["flows act under the account"] if one.accounts.flows else []
    return {
        "name": one.name, "team": known.team if known is not None else "", "mail": known.mail if known is not None else "",
        "owns": len(one.owns.flows), "approves": len(one.approves.places), **uses.columns, "marks": marks,
    }  # fmt: skip


CATALOGUE = Catalogue(
    "people", "owners, approvers and whose accounts flows use", (
        Column("name", "person"), Column("team", "team", rank=1), Column("mail", "address", rank=3), Column("owns", "owns", "count"),
        Column("approves", "approves", "count"),
    ), _rows,
)  # fmt: skip

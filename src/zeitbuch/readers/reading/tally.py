# What a reading leaves behind beside the flows: problems, and the facts that only the whole estate can be judged by.
"""Problems, facts and packages of a reading."""

from __future__ import annotations

from typing import NamedTuple

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Origin
from zeitbuch.readers.input.sources import Held


class Fact(NamedTuple):
    """What the end of a reading must know of a flow that may be gone by then."""

    id: str
    title: str
    origin: Origin | None
    triggered: bool
    calls: tuple[str, ...]


class Package(NamedTuple):
    """What a package held: members that are flows, other objects, members that could not be read."""

    name: str
    flows: int
    members: int
    others: int
    unreadable: int


class Tally:
    """What was wrong, in order, and what the end of a reading must know."""

    def __init__(self) -> None:
        self.problems: list[Problem] = []
        self.facts: list[Fact] = []
        self.packages: list[Package] = []
        self.kept: dict[str, Held] = {}  # standard input, which cannot be read again for the place of a message
        self.untriggered: set[str] = set()  # flows that nothing starts
        self.called: set[str] = set()  # embedded flows: the step that holds one calls it

    def finish_reading(self) -> None:
        """The problems that only the whole estate shows: ids that occur twice, flows that nothing sets off."""
        seen: dict[str, Origin | None] = {}
        called = {name for fact in self.facts for name in fact.calls} | self.called
        for fact in self.facts:
            if fact.id in seen:
                self.problems.append(
                    Problem(
                        "flow-id",
                        "warning",
                        f"expected flow ids that occur once, found '{fact.id}' again (first in {seen[fact.id]})",
                        fact.origin,
                        "the same export may be in the folder twice",
                    )
                )
            seen.setdefault(fact.id, fact.origin)
            if not fact.triggered and fact.id not in called and fact.title not in called:
                from zeitbuch.core.model.validation import no_trigger

                self.problems.append(no_trigger(fact.title, fact.origin))
                self.untriggered.add(fact.id)

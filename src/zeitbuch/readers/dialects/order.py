# Where an export has no links, and the builder runs its steps as they stand.
"""Links that follow from the order of steps."""

from __future__ import annotations

from collections.abc import Container
from itertools import pairwise
from typing import Any

from zeitbuch.core.model.records import Link

from .link_rules import OrderRule
from .paths import as_number, make_getter
from .query import Query

Placed = tuple[str, str, str, dict[str, Any]]  # of a step: where it stands, its id, its kind, its record


class Order:
    """One compiled rule."""

    def __init__(self, rule: OrderRule) -> None:
        self.groups = Query(rule.groups) if rule.groups else None
        self.by = make_getter(rule.by) if rule.by else None

    def links_of(self, raw: dict[str, Any], found: list[Placed]) -> list[Link]:
        """The links between steps: from all of one group to all of the next."""
        steps = [one for one in found if one[2] not in ("note", "group")]
        deciding = {key for _, key, kind, _ in found if kind == "decide"}
        return [
            Link(source=source, target=target, role="case" if source in deciding else "next")
            for before, after in pairwise(self._groups_of(raw, steps))
            for source in before
            for target in after
        ]

    def _groups_of(self, raw: dict[str, Any], steps: list[Placed]) -> list[list[str]]:
        if self.by is not None:
            numbered: dict[float, list[str]] = {}
            for _, key, _, item in steps:
                number = as_number(self.by(item))
                if number is not None:  # what has none stands outside the order
                    numbered.setdefault(number, []).append(key)
            return [numbered[number] for number in sorted(numbered)]
        if self.groups is None:
            return [[key] for _, key, _, _ in steps]
        inside: dict[str, list[str]] = {place: [] for place, _ in self.groups.find_all(raw)}
        for place, key, _, _ in steps:
            home = _group_around(place, inside)
            if home:
                inside[home].append(key)
        return [keys for keys in inside.values() if keys]


def _group_around(place: str, groups: Container[str]) -> str:
    while place and place not in groups:
        place = place.rpartition("/")[0]
    return place

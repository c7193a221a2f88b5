# Where an export has no links, and the builder runs its steps as they stand.
"""Links that follow from the order of steps."""

from __future__ import annotations

from itertools import pairwise
from typing import Any

from zeitbuch.core.model.records import Link

from .link_rules import OrderRule
from .query import Query


class Order:
    """One compiled rule."""

    def __init__(self, rule: OrderRule) -> None:
        self.groups = Query(rule.groups) if rule.groups else None

    def links_of(self, raw: dict[str, Any], found: list[tuple[str, str, str]]) -> list[Link]:
        """The links between steps, given with their places and kinds: from all of one group to all of the next."""
        steps = [(place, key) for place, key, kind in found if kind not in ("note", "group")]
        groups = [[key] for _, key in steps]
        if self.groups is not None:
            inside: dict[str, list[str]] = {place: [] for place, _ in self.groups.find_all(raw)}
            for place, key in steps:
                home = place
                while home and home not in inside:
                    home = home.rpartition("/")[0]
                if home:
                    inside[home].append(key)
            groups = [keys for keys in inside.values() if keys]
        deciding = {key for _, key, kind in found if kind == "decide"}
        return [
            Link(source=source, target=target, role="case" if source in deciding else "next")
            for before, after in pairwise(groups)
            for source in before
            for target in after
        ]

# Compiled rules for links that stand apart from the steps: lists of records, and objects from step to targets.
"""Lists of links, and objects of links."""

from __future__ import annotations

from typing import Any

from .field_checks import WORDS, make_field, refused_values, with_refused
from .link_rules import AdjacencyRule, LinkRule
from .paths import Claims, Getter, claim_paths, is_words, make_getter, unclaimed_part
from .query import Query
from .reshape_rules import Paths


def record_of(item: Any) -> dict[str, Any] | None:
    """The record of a link: an object, or a list, whose places then are its keys; None when it is neither."""
    if type(item) is list:
        return {str(place): value for place, value in enumerate(item)}
    return item if type(item) is dict else None


class Target:
    """Where in a target that is an object the name of the step stands, and what else of it is understood."""

    def __init__(self, path: Paths) -> None:
        self.get: Getter | None = make_getter(path) if path else None
        self.claims: Claims = {}
        claim_paths(self.claims, path)


class Adjacency:
    """One compiled rule for an object from step to targets."""

    def __init__(self, rule: AdjacencyRule) -> None:
        self.rule = rule
        self.at = Query(rule.at)
        self.target = Target(rule.target)


class LinkList:
    """One compiled rule for a list of links."""

    def __init__(self, rule: LinkRule) -> None:
        self.rule = rule
        self.at = Query(rule.at)
        self.ends = make_getter(rule.source), make_getter(rule.target)
        self.outlet, self.label, self.condition = (
            make_getter(rule.outlet),
            make_getter(rule.label),
            make_getter(rule.condition),
        )
        self.claims: Claims = {}
        paths = (rule.source, rule.target, rule.outlet, rule.label, rule.condition)
        for path in (*paths, *rule.noise):
            claim_paths(self.claims, path)
        self.fields = [make_field(path, WORDS) for path in paths if path]
        self.noise = [(path, make_getter(path)) for path in rule.noise]
        self.is_quick = rule.by == "id" and not rule.reversed and rule.role is None and not rule.noise
        self._whole: set[Any] = set()  # shapes of records that are understood whole
        self._claimed = frozenset(key for key, held in self.claims.items() if held is True)

    def rest_of_record(self, item: dict[str, Any]) -> dict[str, Any]:
        """What of the record of a link has no place in the model."""
        # Most links of a flow are alike: what was whole once is so again.
        shape = tuple(item), tuple(map(type, item.values()))
        if shape in self._whole:
            return {}
        if item.keys() <= self._claimed and all(map(is_words, item.values())):
            if len(self._whole) < 1000 and list not in shape[1]:
                self._whole.add(shape)
            return {}
        return with_refused(unclaimed_part(item, self.claims), refused_values(item, self.fields))

# Compiled rules for links that stand apart from the steps: lists of records, and objects from step to targets.
"""Lists of links, and objects of links."""

from __future__ import annotations

from operator import attrgetter
from typing import Any

from msgspec import ValidationError, convert, defstruct

from .field_checks import WORDS, make_field
from .link_rules import AdjacencyRule, LinkRule
from .paths import Claims, Getter, claim_paths, make_getter, path_keys
from .query import Query
from .record_forms import RecordForms
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
        self.forms = RecordForms(self.claims, self.fields)
        self._plain = _type_of_plain(rule) if self.is_quick else None

    def plain_ends(self, items: list[Any]) -> list[tuple[str, str | None, str]] | None:
        """(source, outlet, target) of all links at once, when nothing in any of them is unread and each end is a text."""
        if self._plain is None:
            return None
        try:
            found = convert(items, self._plain)
        except ValidationError:
            return None
        return list(map(_ENDS, found)) if self.rule.outlet else [(one.source, None, one.target) for one in found]

    def rest_of_record(self, item: dict[str, Any]) -> dict[str, Any]:
        """What of the record of a link has no place in the model."""
        return self.forms.rest_of(item)


_ENDS = attrgetter("source", "outlet", "target")
_SAID: Any = str | int | float | bool | None


def _type_of_plain(rule: LinkRule) -> Any:
    """The type of a list of links whose ends stand right in them; None when the rule says otherwise."""
    places = {
        "source": rule.source,
        "target": rule.target,
        "outlet": rule.outlet,
        "label": rule.label,
        "condition": rule.condition,
    }
    named = {name: path for name, path in places.items() if path}
    if not all([type(path) is str and len(path_keys(path)) == 1 and path != "*" for path in named.values()]):
        return None
    keys = {name: path_keys(str(path))[0] for name, path in named.items()}
    if len(set(keys.values())) < len(keys):
        return None
    fields = [(name, str) if name in ("source", "target") else (name, _SAID, None) for name in keys]
    return list[defstruct("PlainLink", fields, rename=keys, forbid_unknown_fields=True, gc=False)]  # type: ignore[misc]

# What was found of the names of ways out, as rules of a dialect.
"""Rules for outlets."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zeitbuch.readers.dialects.link_rules import OutletRule, WayRole

from .evidence import literal_pattern
from .outlets import Outlet
from .survey import STAR

if TYPE_CHECKING:
    from .evidence import Evidence

_MOST_SHOWN = 8


def outlet_rules(e: Evidence) -> list[OutletRule]:
    """A rule for each outlet that has a name, with one claim for all of them."""
    rules = [_rule_of(outlet, meaning) for outlet, meaning in sorted(e.outlets.items()) if outlet]
    if rules:
        e.add_claim("outlets", ", ".join(f"'{rule.match}' = {rule.role}" for rule in rules[:_MOST_SHOWN]), {})
    return rules


def _rule_of(outlet: str, meaning: Outlet) -> OutletRule:
    role: WayRole = meaning.role  # type: ignore[assignment]
    label = ("otherwise" if outlet == STAR else outlet) if role in ("error", "case") else ""
    return OutletRule(
        match=literal_pattern(outlet), role=role, label=label, after=["failure"] if role == "error" else [], reversed=meaning.reversed,
    )  # fmt: skip

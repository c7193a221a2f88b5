# What is told before any single change: how much changed, what it does to the month, what could not be compared, and what to look at
# first. All writers take these sentences from here.
"""The head of a comparison, in words."""

from __future__ import annotations

from collections.abc import Iterable

from zeitbuch.core.assumptions.money import Money, money_words
from zeitbuch.core.diff.records import AffectedFlow, EstateChanges, FirstChange, MonthTotals, UnreadableFlow
from zeitbuch.core.model.sheet import number_text
from zeitbuch.core.model.words import count_words

from .change_tables import SIGN, change_line, changes_summary, signed_money

SHOWN = 5  # names in one sentence
FEW = 3  # changes that need no list of their own


def head_sentences(found: EstateChanges, currency: str) -> list[str]:
    """What changed, what the month was and is, what moved with it, what could not be read, what is not shown."""
    said = [changes_summary(found)]
    if found.totals is not None:
        said.append(totals_words(found.totals, currency))
        if found.totals.affected:
            said.append(_affected_words(found.totals.affected, currency))
    for side in ("new", "old"):
        lost = [flow for flow in found.unreadable if flow.missing_in == side]
        if lost:
            said.append(_unreadable_words(lost, side))
    if found.left_out:
        said.append(f"{count_words(found.left_out, 'change')} of other topics not shown.")
    return said


def totals_words(totals: MonthTotals, currency: str) -> str:
    """'The month (2026-11): 16,385 → 20,470 model calls; 118.88 → 137.90 EUR (+19.02 EUR).'"""
    first, second = totals.before, totals.after
    whose = "The estate" if totals.scope == "estate" else "The changed flows and those around them"
    calls = f"{number_text(first.calls)} → {number_text(second.calls)} model calls"
    if number_text(first.calls) == number_text(second.calls):
        calls = f"{number_text(first.calls)} model calls as before"
    parts = [calls]
    if first.cost is not None and second.cost is not None:
        parts.append(_cost_words(first.cost, second.cost, currency))
    unknown = max(first.unknown_volume, second.unknown_volume)
    left = f"; not counted: {count_words(unknown, 'flow')} of unknown volume" if unknown else ""
    only = "; models only, without meters and fees" if totals.scope == "changed" and first.cost is not None else ""
    return f"{whose} per month ({totals.month}): {'; '.join(parts)}{left}{only}."


def _cost_words(first: Money, second: Money, currency: str) -> str:
    old, new = money_words(first), money_words(second)
    if old == new:
        return f"{old} {currency} as before"
    more = Money(second.amount - first.amount, tuple(dict.fromkeys((*first.unknown, *second.unknown))))
    return f"{old} → {new} {currency} ({signed_money(more, currency)})"


def _affected_words(flows: tuple[AffectedFlow, ...], currency: str) -> str:
    names = _some(_affected_flow(flow, currency) for flow in flows)
    return f"Moved with them, unchanged themselves: {names}."


def _affected_flow(flow: AffectedFlow, currency: str) -> str:
    calls = [number_text(calls) if calls is not None else "?" for calls in (flow.calls_before, flow.calls_after)]
    parts = [f"{calls[0]} → {calls[1]} calls"] if calls[0] != calls[1] else []
    if flow.before is not None and flow.after is not None and currency:
        old, new = money_words(flow.before), money_words(flow.after)
        parts += [f"{old} → {new} {currency}"] if old != new else []
    return f"‘{flow.name}’ {', '.join(parts)}" if parts else f"‘{flow.name}’"


def _unreadable_words(flows: list[UnreadableFlow], side: str) -> str:
    names = _some(f"‘{flow.name}’ ({flow.origin.source})" if flow.origin else f"‘{flow.name}’" for flow in flows)
    what = "neither removed nor unchanged" if side == "new" else "neither added nor unchanged"
    return f"Could not be read in the {side} version, so {what}: {names}."


def _some(names: Iterable[str]) -> str:
    listed = list(names)
    more = f" and {len(listed) - SHOWN} more" if len(listed) > SHOWN else ""
    return "; ".join(listed[:SHOWN]) + more


def first_lines(found: EstateChanges) -> list[str]:
    """The changes to look at first, a line each; none where there are few anyway."""
    if sum(len(flow.changes) for flow in found.flows) <= FEW:
        return []
    return [first_line(one) for one in found.first]


def first_line(one: FirstChange, most: int = 160) -> str:
    """'! Customer letters: approval removed: ...'."""
    words = f"{SIGN[one.change.weight]} {one.flow}: {change_line(one.change)}"
    return words if len(words) <= most else words[: most - 1] + "…"

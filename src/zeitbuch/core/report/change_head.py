# What is told before any single change: how much changed, what it does to the month, what could not be compared, and what to look at
# first. All writers take these sentences from here.
"""The head of a comparison, in words."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from zeitbuch.core.assumptions.money import Money, money_words
from zeitbuch.core.diff.change_cost import subtract_money
from zeitbuch.core.diff.records import (
    AffectedFlow,
    AllowedDifference,
    EstateChanges,
    FirstChange,
    MonthSide,
    MonthTotals,
    UnreadableFlow,
)
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
    for side, files in (("old", found.unread_old), ("new", found.unread_new)):
        if files:
            what = count_words(len(files), "file")
            said.append(f"{what} of the {side} version not read, or not whole: {_some(files)}.")
    if found.allowed:
        said.append(f"Allowed and not shown: {_some(_allowed_words(one) for one in found.allowed)}.")
    if found.left_out:
        said.append(f"{count_words(found.left_out, 'change')} of other topics not shown.")
    return said


def totals_words(totals: MonthTotals, currency: str) -> str:
    """'The month (2026-11): 16,385 → 20,470 model calls; 118.88 → 137.90 EUR (+19.02 EUR).'"""
    first, second = totals.before, totals.after
    whose = "The estate" if totals.scope == "estate" else "The changed flows and those around them"
    unknown = max(first.unknown_volume, second.unknown_volume)
    if unknown and not (first.known and second.known):
        return f"{whose} per month ({totals.month}): unknown, no flow has a known volume."
    more = [" + ?" if side.unknown_volume else "" for side in (first, second)]
    before, after = f"{number_text(first.calls)}{more[0]}", f"{number_text(second.calls)}{more[1]}"
    parts = [f"{before} model calls as before" if before == after else f"{before} → {after} model calls"]
    if first.cost is not None and second.cost is not None:
        parts.append(_cost_words(first, second, currency, more))
    left = f"; not counted: {count_words(unknown, 'flow')} of unknown volume" if unknown else ""
    only = "; models only, without meters and fees" if totals.scope == "changed" and first.cost is not None else ""
    return f"{whose} per month ({totals.month}): {'; '.join(parts)}{left}{only}."


def _cost_words(first: MonthSide, second: MonthSide, currency: str, unknown: Sequence[str]) -> str:
    before, after = first.cost or Money(), second.cost or Money()
    old, new = f"{money_words(before)}{unknown[0]}", f"{money_words(after)}{unknown[1]}"
    if old == new:
        return f"{old} {currency} as before"
    more = subtract_money(after, before) or Money()
    metered = subtract_money(second.metered, first.metered) or Money()
    told = signed_money(more, currency)
    if round(metered.amount, 2):
        models = Money(more.amount - metered.amount, more.unknown)
        told += f": models {signed_money(models, currency)}, meters and fees {signed_money(metered, currency)}"
    return f"{old} → {new} {currency} ({told})"


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


def _allowed_words(one: AllowedDifference) -> str:
    until = f" until {one.until}" if one.until is not None else ""
    return f"{count_words(one.changes, 'change')} by {one.by}{until} ({one.reason})"


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

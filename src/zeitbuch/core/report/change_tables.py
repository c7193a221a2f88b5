# The sentences of a comparison, without any look: what changed in one line, what it adds, how sure the matching is, and
# where it stands in the two exports.
"""Changes in words, and their sheet."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from decimal import Decimal
from typing import Any

from msgspec import Struct

from zeitbuch.core.assumptions.money import Money, money_words
from zeitbuch.core.diff.change_types import CHANGE_KINDS
from zeitbuch.core.diff.flow_matching import rival_words
from zeitbuch.core.diff.records import (
    AllowedDifference,
    Change,
    ChangeFigures,
    EstateChanges,
    FirstChange,
    FlowChanges,
    MonthTotals,
    UnreadableFlow,
)
from zeitbuch.core.model.sheet import Column, Sheet, number_text
from zeitbuch.core.model.words import count_words

from .finding_changes import FindingChanges

STATUS = {"added": "added flow", "removed": "removed flow", "changed": "changed"}
SIGN = {"risk": "!", "meaning": "*", "note": "."}
SURE = 0.995  # a matching below this says how sure it is


def change_line(change: Change) -> str:
    """'model: ‘Translate’: a → b'; of a change told by words only what is changed."""
    head = f"{change.type}: {change.where}"
    if change.words:
        return head
    if change.old and change.new:
        return f"{head}: {change.old} → {change.new}"
    return f"{head}: {change.old or change.new}" if change.old or change.new else head


def changes_summary(found: EstateChanges) -> str:
    """'6 flows changed, 1 added, 4 unchanged; 5 changes need review (!).'"""
    counts: Counter[str] = Counter(flow_changes.status for flow_changes in found.flows)
    risks = sum(change.weight == "risk" for flow_changes in found.flows for change in flow_changes.changes)
    anew = "".join(_renumbered_words(source, count) for source, count in found.renumbered.items())
    unread = f", {len(found.unreadable)} could not be read" if found.unreadable else ""
    if not found.flows and not found.unchanged and (found.unread_old or found.unread_new):
        return f"Nothing could be compared{unread}."
    if not found.flows and not found.left_out:
        return f"No change of meaning; {count_words(found.unchanged, 'flow')} compared{unread}.{anew}"
    parts = [f"{count_words(counts['changed'], 'flow')} changed"]
    parts += [f"{counts[text]} {word}" for text, word in (("added", "added"), ("removed", "removed")) if counts[text]]
    return f"{', '.join(parts)}, {found.unchanged} unchanged{unread}; {count_words(risks, 'change')} {'needs' if risks == 1 else 'need'} review (!).{anew}"


def _renumbered_words(source: str, count: int) -> str:
    """Said once of a file whose flows were numbered anew."""
    where = f" in {source}" if source else ""
    return f" The ids of {count_words(count, 'flow')} were given anew{where}: they are matched by name and content."


def signed_number(value: float) -> str:
    """'+1.5', '−2'."""
    return ("+" if value > 0 else "−" if value < 0 else "±") + number_text(abs(value))


def signed_money(value: Money, currency: str) -> str:
    """'+0.12 EUR'; what has no price stays a question mark."""
    sign = "+" if value.amount > 0 else "−" if value.amount < 0 else "±"
    return f"{sign}{money_words(Money(abs(value.amount), value.unknown))} {currency}"


def _is_moved(value: Money | None) -> bool:
    return value is not None and (value.amount != Decimal(0) or bool(value.unknown))


def share_words(share: ChangeFigures | None, currency: str) -> str:
    """'+1 pass, +340 tokens, +0.0012 EUR a run, +2.10 EUR a month'; empty when nothing moves."""
    if share is None:
        return ""
    parts = []
    if share.calls:
        parts.append(f"{signed_number(share.calls)} calls")
    elif share.passes:
        parts.append(f"{signed_number(share.passes)} passes")
    if share.tokens:
        parts.append(f"{signed_number(share.tokens)} tokens")
    if share.run is not None and _is_moved(share.run):
        parts.append(f"{signed_money(share.run, currency)} per run")
    if share.month is not None and _is_moved(share.month):
        parts.append(f"{signed_money(share.month, currency)} per month for models")
    return ", ".join(parts)


def figures_words(flow: FlowChanges, currency: str) -> str:
    """Calls and cost of a flow before and after; empty when nothing is known."""
    first, second = flow.before, flow.after
    if first is None and second is None:
        return ""

    def pair(old: str, new: str, unit: str) -> str:
        return f"{old} {unit} as before" if old == new else f"{old} → {new} {unit}"

    def calls(f: ChangeFigures | None) -> str:
        return "none" if f is None else number_text(f.calls)

    parts = [pair(calls(first), calls(second), "calls per run")]
    if any(figures is not None and figures.run is not None for figures in (first, second)):
        run = ["none" if figures is None else money_words(figures.run) for figures in (first, second)]
        month = [money_words(figures.month) if figures is not None else "none" for figures in (first, second)]
        parts += [
            pair(run[0], run[1], f"{currency} per run"),
            pair(month[0], month[1], f"{currency} per month for models"),
        ]
    return "; ".join(parts)


def match_words(flow: FlowChanges) -> str:
    """How the two versions were found to be one, where that is not plain."""
    parts = []
    if flow.status == "changed" and flow.matched != "id" and not flow.renumbered:
        parts.append(f"has another id; taken for the same by {flow.matched} ({flow.confidence:.2f} sure)")
    elif flow.status == "changed" and flow.matched == "id" and flow.confidence < SURE:
        parts.append(f"has another name; taken for the same by its id ({flow.confidence:.2f} sure)")
    if flow.rival:
        parts.append(rival_words(flow.rival))
    if flow.renewed:
        parts.append(f"{count_words(flow.renewed, 'step')} with other ids, matched by content")
    unsure = sorted({(change.step, change.confidence) for change in flow.changes if change.confidence < SURE})
    if unsure:
        parts.append(f"the least sure match of a step is {min(cost for _, cost in unsure):.2f}")
    return "; ".join(parts)


def change_places(change: Change) -> str:
    """Where a change stands: 'old.json#/steps/3 → new.json#/steps/4'."""
    ends = [str(origin) for origin in (change.old_origin, change.new_origin) if origin is not None]
    return " → ".join(dict.fromkeys(ends))


def summary_sheet(found: EstateChanges, currency: str, notes: Sequence[str] = ()) -> Sheet:
    """One line a flow, with notes below."""
    rows: list[tuple[Any, ...]] = []
    for flow_changes in found.flows:
        _summary_row(flow_changes, rows)
    for lost in found.unreadable:
        figures = (None,) * 4
        rows.append(("?", lost.name, lost.id, f"unreadable in the {lost.missing_in} version", 0, 0, [], *figures))
    columns = (
        Column("sign", ""),
        Column("flow", "flow", least=14),
        Column("id", "id", rank=5),
        Column("status", "status"),
        Column("risks", "need review", "count", rank=3),
        Column("changes", "changes", "count", rank=4),
        Column("what", "what", "list"),
        Column("calls_before", "calls before", "number", rank=2),
        Column("calls_after", "after", "number", rank=1),
        Column("month_before", f"{currency or 'cost'} per month for models, before", "money"),
        Column("month_after", "after", "money"),
    )
    return Sheet(columns, tuple(rows), notes=tuple(notes))


def _summary_row(
    flow_changes: FlowChanges,
    rows: list[tuple[Any, ...]],
) -> None:
    weights = Counter(change.weight for change in flow_changes.changes)
    kinds = Counter(change.type for change in flow_changes.changes)
    about = [
        key if number == 1 else f"{key} ({number})"
        for key, number in sorted(kinds.items(), key=lambda k: _kind_rank(k[0]))
    ]
    first, second = flow_changes.before, flow_changes.after
    rows.append(
        (
            "!" if weights["risk"] else "*" if weights["meaning"] else ".",
            flow_changes.name,
            flow_changes.id,
            flow_changes.status,
            weights["risk"],
            len(flow_changes.changes),
            about,
            first.calls if first else None if flow_changes.status == "changed" else 0.0,
            second.calls if second else None if flow_changes.status == "changed" else 0.0,
            _month_cell(first, flow_changes.status == "added"),
            _month_cell(second, flow_changes.status == "removed"),
        )
    )


def changes_sheet(found: EstateChanges) -> Sheet:
    """One line a change."""
    columns = tuple(
        Column(key, key)
        for key in ("flow", "id", "status", "type", "topic", "weight", "where", "old", "new", "step")
    )  # fmt: skip
    rows = tuple(
        (
            flow_changes.name,
            flow_changes.id,
            flow_changes.status,
            change.type,
            change.topic,
            change.weight,
            change.where,
            change.old,
            change.new,
            change.step,
        )
        for flow_changes in found.flows
        for change in flow_changes.changes
    )
    return Sheet(
        (*columns, Column("confidence", "confidence", "number")),
        tuple((*row, cost) for row, cost in zip(rows, _confidences(found), strict=True)),
    )


def _confidences(found: EstateChanges) -> list[float]:
    return [change.confidence for flow_changes in found.flows for change in flow_changes.changes]


def _kind_rank(kind: str) -> tuple[int, str]:
    return {"risk": 0, "meaning": 1, "note": 2}[CHANGE_KINDS[kind].weight], kind


def _month_cell(f: ChangeFigures | None, nothing: bool) -> object:
    if f is None:
        return Decimal(0) if nothing else None
    if f.month is None:
        return None
    return money_words(f.month) if f.month.unknown else f.month.amount


class DiffResult(Struct, frozen=True):
    """`diff --format json`. ``refused`` says why the exit status is 1, a sentence each; ``left_out`` how many changes a selection of
    topics does not show."""

    changed: bool
    currency: str
    flows: tuple[FlowChanges, ...]
    unchanged: int
    renumbered: dict[str, int] = {}
    refused: tuple[str, ...] = ()
    unreadable: tuple[UnreadableFlow, ...] = ()
    totals: MonthTotals | None = None
    first: tuple[FirstChange, ...] = ()
    left_out: int = 0
    unread_old: tuple[str, ...] = ()
    unread_new: tuple[str, ...] = ()
    allowed: tuple[AllowedDifference, ...] = ()
    findings: FindingChanges | None = None

# What a reader of an estimate must know beside its numbers: what is unknown, what was left out, what is said of single flows.
"""Notes under estimates."""

from __future__ import annotations

import re

from zeitbuch.core.estimate.records import EstateEstimate
from zeitbuch.core.model.sheet import money_text


def estimate_notes(result: EstateEstimate, fees: bool = True) -> tuple[str, ...]:
    """What a reader of the table must know."""
    found = [] if result.flows else ["no flow was read: 0 says nothing of what is not there"]
    if result.total.unknown_volume:
        found.append(
            "? runs: no volume is known for " + ", ".join(result.total.unknown_volume) + "; the totals leave them out"
        )
    unknown = sorted({name for flow_estimate in result.flows for name in flow_estimate.cost.unknown})
    if unknown:
        found.append("? cost: the rate card has no price for " + ", ".join(unknown))
    metered = sorted({name for host_bill in result.hosts for name in host_bill.cost.unknown + host_bill.fee.unknown})
    if metered:
        found.append("? meters: the rate card has no price or rate of exchange for " + ", ".join(metered))
    if fees and result.total.fees_month.amount:
        on_top = money_text(result.total.fees_month.amount)
        found.append(f"fees of the hosts are on top: {on_top} {result.currency} per month")
    return (*found, *_folded_notes(result))


def _folded_notes(result: EstateEstimate) -> list[str]:
    """What is said of single flows; what is said of several in the same words but for names and numbers is said once."""
    alike: dict[str, list[tuple[str, str]]] = {}
    for flow in result.flows:
        for note in flow.notes:
            alike.setdefault(_NAMES.sub("…", note), []).append((flow.name, note))
    found = []
    for some in alike.values():
        (name, note), more = some[0], len({flow for flow, _ in some}) - 1
        found += (
            [f"{flow}: {said}" for flow, said in some] if len(some) < _FOLDED else [f"{name} and {more} more: {note}"]
        )
    return found


_NAMES, _FOLDED = re.compile(r"'[^']*'|‘[^’]*’|[\d.,]+"), 3

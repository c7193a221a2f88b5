# What a comparison is held against where it decides something: in a pipeline, before a release. The command's exit status
# follows from this and from nothing else.
"""Selection of changes by topic, and limits on risk and cost."""

from __future__ import annotations

import re
from collections.abc import Iterable
from decimal import Decimal
from typing import Literal

from msgspec import Struct, structs

from zeitbuch.core.assumptions.money import money_words
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.sheet import percent_text
from zeitbuch.core.model.words import count_words

from .change_cost import sum_figures
from .change_types import TOPICS
from .consequence import first_changes
from .records import ChangeFigures, EstateChanges, FlowChanges

FailOn = Literal["any", "risk", "cost"]


def parse_topics(words: Iterable[str]) -> list[str]:
    """The topics named in 'trigger,prompt'. Raises ZeitbuchError for an unknown one."""
    found = [text.strip() for word in words for text in word.split(",") if text.strip()]
    for topic in found:
        if topic not in TOPICS:
            raise fail("option", f"expected topics of {', '.join(TOPICS)} after --only, found '{topic}'")
    return found


def select_topics(found: EstateChanges, wanted: list[str]) -> EstateChanges:
    """The changes of these topics: what is shown, with the figures of all. Flows without any are left out."""
    if not wanted:
        return found
    flows: list[FlowChanges] = []
    for flow in found.flows:
        kept = tuple(change for change in flow.changes if change.topic in wanted)
        if kept:
            flows.append(structs.replace(flow, changes=kept))
    shown = sum(len(flow.changes) for flow in flows)
    left_out = sum(len(flow.changes) for flow in found.flows) - shown
    return structs.replace(found, flows=tuple(flows), first=first_changes(flows), left_out=left_out)


class Limit(Struct, frozen=True):
    """The most that cost may grow: a ``share`` for each changed flow, or an ``amount`` a month for all together."""

    share: float | None = None
    amount: Decimal | None = None


def parse_limit(text: str) -> Limit:
    """'10%' or '25' (in the rate card's currency). Raises ZeitbuchError for anything else."""
    matched = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*(%?)\s*", text)
    if matched is None:
        raise fail("option", f"expected --max-increase PERCENT% or AMOUNT (10%, 25), found '{text}'")
    if matched.group(2):
        return Limit(share=float(matched.group(1)) / 100)
    return Limit(amount=Decimal(matched.group(1)))


def _growth_of(flow: FlowChanges) -> tuple[Decimal, Decimal, str] | None:
    """Before and after in money, a month where it is known on both sides and else a run; None when neither is."""
    none = ChangeFigures(0, 0, 0, None, None)
    first, second = flow.before or none, flow.after or none
    for word in ("month", "run"):
        item, other = getattr(first, word), getattr(second, word)
        if flow.status == "changed" and item is not None and other is not None:
            return item.amount, other.amount, word
        one = other if flow.status == "added" else item
        if flow.status != "changed" and one is not None:
            return (Decimal(0), one.amount, word) if flow.status == "added" else (one.amount, Decimal(0), word)
    return None


def _newly_unpriced(flow: FlowChanges) -> str:
    """What of a flow has no price now and had one, or was not there, before."""
    now = flow.after.run.unknown if flow.after is not None and flow.after.run is not None else ()
    was = flow.before.run.unknown if flow.before is not None and flow.before.run is not None else ()
    return ", ".join(name for name in now if name not in was)


def refusals(
    found: EstateChanges, fail_on: FailOn, most: Limit | None, currency: str, whole: EstateChanges | None = None
) -> list[str]:
    """Why the answer is no, a sentence each; empty when it is yes. ``found`` has figures when cost is asked about; what it costs is asked of
    the ``whole`` where ``found`` is a selection."""
    said: list[str] = []
    if found.unreadable:
        said.append(f"{count_words(len(found.unreadable), 'flow')} could not be read in one of the versions")
    if fail_on == "any" and found.flows and most is None:
        said.append(f"{count_words(len(found.flows), 'flow')} changed")
    if fail_on == "risk":
        _risk_refusals(found, said)
    if fail_on == "cost" or most is not None:
        said += _cost_refusals(whole or found, most or Limit(share=0.0), currency)
    return said


def _risk_refusals(found: EstateChanges, said: list[str]) -> None:
    for flow in found.flows:
        risky = [change for change in flow.changes if change.weight == "risk"]
        if risky:
            kinds = ", ".join(dict.fromkeys(change.type for change in risky))
            said.append(f"'{flow.name}': {count_words(len(risky), 'change')} to review ({kinds})")


def _cost_refusals(found: EstateChanges, most: Limit, currency: str) -> list[str]:
    said: list[str] = []
    for flow in found.flows:
        _flow_refusal(most, currency, flow, said)
    if most.amount is not None:
        _total_refusal(found, most.amount, currency, said)
    return said


def _total_refusal(found: EstateChanges, most: Decimal, currency: str, said: list[str]) -> None:
    before_all, after_all, out = sum_figures(found.flows)
    assert before_all.month is not None and after_all.month is not None
    more_all = after_all.month.amount - before_all.month.amount
    if more_all > most:
        left = f"; {count_words(out, 'flow')} of unknown volume not counted" if out else ""
        said.append(
            f"the changed flows together: {money_words(before_all.month)} → {money_words(after_all.month)} "
            f"{currency} per month{left}"
        )


def _flow_refusal(most: Limit, currency: str, flow: FlowChanges, said: list[str]) -> None:
    missing = _newly_unpriced(flow)
    if missing:
        said.append(f"'{flow.name}': no price for {missing}, so its cost may have grown")
        return
    grown = _growth_of(flow)
    if grown is None or most.share is None or grown[1] <= grown[0]:
        return
    before, after, word = grown
    if before and float(after / before) - 1 <= most.share + 1e-9:
        return
    more = f"{percent_text(float(after / before) - 1)} more" if before else "nothing before"
    said.append(f"'{flow.name}': {before:.4f} → {after:.4f} {currency} per {word} ({more})")

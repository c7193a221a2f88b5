# An assumptions file is begun, and goes on, with what the estimate stands on: what nobody has declared yet.
"""Assumptions files with what is left to declare."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from decimal import Decimal
from pathlib import Path

from msgspec import Struct, structs

from zeitbuch.core.estimate.open_entries import OpenEntry, find_open_entries
from zeitbuch.core.model.records import Estate
from zeitbuch.core.pricing.rate_card import ModelRate, Price, RateCard
from zeitbuch.readers.config.figures import idle_rules, load_assumptions
from zeitbuch.writers.exchange.open_entries import grown_text
from zeitbuch.writers.exchange.templates import assumptions_template

from .basis import EstimateBasis, refuse_errors
from .estimate import ids_of_flows, runs_of_estate
from .session import Session


class GrownFile(Struct, frozen=True):
    """An assumptions file as it is to be: its text, entries added, and entries that fit nothing any more."""

    text: str
    added: int
    idle: int


def grow_assumptions(
    session: Session, estate: Estate, basis: EstimateBasis, path: str, names: Sequence[str] = ()
) -> GrownFile:
    """The file at a path (begun where there is none) with every assumption on some flows (ids or names; all without any) that is not made
    yet, what moves the bill most first. What stands in it stays as it is written. Raises InputFaults where it holds what is no assumption."""
    text, faults = assumptions_template(), {}
    if Path(path).exists():
        text = Path(path).read_bytes().decode("utf-8")  # with the ends of lines that it has
        assumed, problems = load_assumptions(path)
        refuse_errors(problems)
        idle = idle_rules(estate.flows, assumed, path, whole=True)
        faults = {p.origin.line: p.message for p in idle if p.origin is not None and p.origin.line is not None}
    entries = open_entries(session, estate, basis, names)
    grown, added = grown_text(text, entries, faults, basis.currency)
    return GrownFile(grown, added, len(faults))


def open_entries(session: Session, estate: Estate, basis: EstimateBasis, names: Sequence[str] = ()) -> list[OpenEntry]:
    """What is left to declare of some flows (ids or names; all without any). Without a rate card all models are taken to cost the same, to tell what moves the bill most."""
    if basis.card is None:
        basis = structs.replace(basis, card=_any_card(basis.month))
    runs = runs_of_estate(session, estate, basis, names=names)
    wanted = ids_of_flows(estate, names)
    named = Counter(flow.name for flow in estate.flows)
    with session.progress(len(runs.by), "looking for what to declare") as advance:
        return find_open_entries(runs, basis.assumptions, advance, wanted, named)


def _any_card(month: str) -> RateCard:
    from zeitbuch.core.assumptions.days import month_bounds
    from zeitbuch.core.assumptions.volume import parse_month

    price = Price(
        since=month_bounds(parse_month(month))[0], input=Decimal(1), output=Decimal(4), image=Decimal("0.001")
    )
    return RateCard("XXX", model=(ModelRate("*", also=("*", ""), price=(price,)),))

# A scenario: changes of flows, assumptions and hosts under one name. One row a change: its fields are those of the file.
"""Scenarios as records."""

from __future__ import annotations

from datetime import date
from typing import Literal

from msgspec import Struct, field

from zeitbuch.core.assumptions.rules import Assumptions, Rule
from zeitbuch.core.model.records import Estate
from zeitbuch.core.pricing.rate_card import RateCard


class Change(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True, tag_field="do"):
    """Base of all changes; ``flow`` is a pattern of ids or names."""

    flow: str = "*"


class SwapModel(Change, frozen=True, tag="model"):
    """Use model ``to`` in the steps that fit (and use a model that fits ``instead_of``)."""

    step: str = "*"
    instead_of: str = "*"
    to: str = ""


class SetParameter(Change, frozen=True, tag="setting"):
    """Set the cap of an answer (tokens), the cap of an agent's turns, or the repetitions after a failure."""

    step: str = "*"
    max_output: int | None = None
    max_turns: int | None = None
    retries: int | None = None


class Admit(Change, frozen=True, tag="admit"):
    """The condition of a trigger lets ``share`` of the events through."""

    trigger: str = "*"
    share: float = 1.0


class Poll(Change, frozen=True, tag="poll"):
    """Polling triggers look every so many seconds. ``hit_rate`` says what share of the checks then finds something; without
    it finds that come between two checks are taken together, as if they came independently."""

    trigger: str = "*"
    every: float = 3600.0
    hit_rate: float | None = None


class Batch(Change, frozen=True, tag="batch"):
    """At most so many items are handed to one run."""

    trigger: str = "*"
    size: int = 1


class Cache(Change, frozen=True, tag="cache"):
    """So much of the fixed part of prompts is read from the vendor's cache."""

    step: str = "*"
    share: float = 0.9


class Defer(Change, frozen=True, tag="defer"):
    """So much of the calls is sent at the price of deferred batches."""

    step: str = "*"
    share: float = 1.0


class Move(Change, frozen=True, tag="host"):
    """The flows run on host ``to``, from a date on or from the beginning."""

    to: str = ""
    since: date | None = field(name="from", default=None)


class PlainCall(Change, frozen=True, tag="plain call"):
    """Agents become one plain call of their model, without tools and memory."""

    step: str = "*"


class Drop(Change, frozen=True, tag="drop"):
    """A step goes, with all that only it leads to."""

    step: str = ""


class Assume(Change, frozen=True, tag="assume"):
    """Other assumptions, in front of all others; ``rule`` is like one ``[[assume]]`` table."""

    rule: Rule = Rule()


AnyChange = SwapModel | SetParameter | Admit | Poll | Batch | Cache | Defer | Move | PlainCall | Drop | Assume


class Scenario(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A scenario file: a name and changes, applied in order."""

    name: str
    scenario: Literal[1] = 1
    note: str = ""
    change: tuple[AnyChange, ...] = ()


class Applied(Struct):
    """What a scenario makes of the base; ``touched`` are the ids of the flows it changes."""

    estate: Estate
    card: RateCard | None
    assumptions: Assumptions
    touched: set[str]

# What the export does not say: probabilities, sizes, volumes. Every value says whether it is a default, declared
# or measured, and where it came from. The most specific rule wins; among equals the later one.
"""Assumptions: rules with patterns, and what is wrong with them."""

from __future__ import annotations

from datetime import date
from typing import Literal, get_args

from msgspec import UNSET, Struct, UnsetType, field

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Origin

from .quantities import MONTHS, QUANTITIES
from .values import Figure, range_problems

Weekday = Literal["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"]
WEEKDAYS: tuple[Weekday, ...] = get_args(Weekday)  # as `date.weekday` counts them


class Rule(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One `[[assume]]` table: where it applies (patterns with ``*``; ids or names; flows of one ``environment``), on which days (from
    ``from`` on, before ``until``, on some ``weekdays``; without any on all), and one or more quantities."""

    flow: str = "*"
    environment: str = ""
    step: str = ""
    case: str = ""
    trigger: str = ""
    placeholder: str = ""
    since: date | None = field(default=None, name="from")
    until: date | None = None
    weekdays: tuple[Weekday, ...] = ()
    share: Figure | UnsetType = UNSET
    failure: Figure | UnsetType = UNSET
    timeout: Figure | UnsetType = UNSET
    hit_rate: Figure | UnsetType = UNSET
    accept_rate: Figure | UnsetType = UNSET
    items: Figure | UnsetType = UNSET
    rounds: Figure | UnsetType = UNSET
    turns: Figure | UnsetType = UNSET
    input: Figure | UnsetType = UNSET
    fixed_input: Figure | UnsetType = UNSET
    output: Figure | UnsetType = UNSET
    tool_call: Figure | UnsetType = UNSET
    tool_frame: Figure | UnsetType = UNSET
    tool_share: Figure | UnsetType = UNSET
    messages: Figure | UnsetType = UNSET
    message_size: Figure | UnsetType = UNSET
    page_size: Figure | UnsetType = UNSET
    letters_per_token: Figure | UnsetType = UNSET
    letters_per_second: Figure | UnsetType = UNSET
    reasoning: Figure | UnsetType = UNSET
    size: Figure | UnsetType = UNSET
    chunk: Figure | UnsetType = UNSET
    overlap: Figure | UnsetType = UNSET
    batch_size: Figure | UnsetType = UNSET
    image_tokens: Figure | UnsetType = UNSET
    images: Figure | UnsetType = UNSET
    video: Figure | UnsetType = UNSET
    pages: Figure | UnsetType = UNSET
    sound: Figure | UnsetType = UNSET
    seconds: Figure | UnsetType = UNSET
    megabytes: Figure | UnsetType = UNSET
    cached: Figure | UnsetType = UNSET
    cached_input: Figure | UnsetType = UNSET
    batched: Figure | UnsetType = UNSET
    events: Figure | UnsetType = UNSET
    runs: Figure | UnsetType = UNSET
    evidence: Literal["declared", "measured"] = "declared"
    note: str = ""

    def given_quantities(self) -> list[tuple[str, Figure]]:
        """The quantities of the rule."""
        found = [(quantity, getattr(self, quantity)) for quantity in QUANTITIES]
        return [(quantity, value) for quantity, value in found if value is not UNSET]

    @property
    def dated(self) -> bool:
        """Whether it holds on some days only."""
        return self.since is not None or self.until is not None or bool(self.weekdays)

    def holds_on(self, day: date) -> bool:
        if (self.since is not None and day < self.since) or (self.until is not None and day >= self.until):
            return False
        return not self.weekdays or WEEKDAYS[day.weekday()] in self.weekdays

    def days_words(self) -> str:
        """'from 2026-11-16, until 2026-12-01, saturday and sunday'; nothing for all days."""
        said = [f"{word} {day}" for word, day in (("from", self.since), ("until", self.until)) if day is not None]
        return ", ".join([*said, *([" and ".join(self.weekdays)] if self.weekdays else [])])

    def where_words(self) -> str:
        place = "/".join(p for p in (self.flow, self.step or self.trigger, self.case or self.placeholder) if p)
        return f"{place} ({self.days_words()})" if self.dated else place


class Season(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One `[[season]]` table: how the declared volume of flows goes over the year; 12 factors, January first."""

    factors: tuple[float, ...]
    flow: str = "*"
    note: str = ""


class Assumptions(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """An assumptions file. ``month`` (YYYY-MM) is the calendar month that monthly figures are for."""

    assumptions: Literal[1] = 1
    month: str = ""
    season: tuple[Season, ...] = ()
    assume: tuple[Rule, ...] = ()


class Overlaid(Assumptions, frozen=True):
    """Assumptions with rules of a scenario, which come before all others."""

    overlay: tuple[Rule, ...] = ()


def rules_of(assumptions: Assumptions) -> tuple[Rule, ...]:
    """All rules, those of a scenario too."""
    return assumptions.assume + (assumptions.overlay if isinstance(assumptions, Overlaid) else ())


def assumption_problems(assumptions: Assumptions) -> list[Problem]:
    """Values out of their range or in no order, and rules that say nothing."""
    found: list[Problem] = []
    for position, season in enumerate(assumptions.season):
        _season_problems(season, found, position)
    for position, rule in enumerate(assumptions.assume):
        _rule_problems(position, rule, found)
    return found


def _season_problems(season: Season, found: list[Problem], position: int) -> None:
    wrong = [factor for factor in season.factors if not 0 <= factor < float("inf")]
    if len(season.factors) != MONTHS or wrong or not sum(season.factors):
        message = f"expected {MONTHS} factors of 0 or more, January first, found {len(season.factors)}"
        message += f" with {wrong[0]:g} among them" if wrong else ""
        found.append(Problem("assume-season", "error", message, Origin("", f"/season/{position}/factors")))


def _rule_problems(position: int, rule: Rule, found: list[Problem]) -> None:
    place = Origin("", f"/assume/{position}")
    given = rule.given_quantities()
    if not given:
        words = ", ".join(QUANTITIES)
        found.append(Problem("assume-empty", "error", f"expected one of {words}, found none", place))
    for quantity, figure in given:
        found += range_problems(quantity, figure, place.at(f"/assume/{position}/{quantity}"))
    if rule.since is not None and rule.until is not None and rule.until <= rule.since:
        message = f"expected `until` after `from` ({rule.since}), found {rule.until}"
        hint = "`until` is the first day on which the rule holds no more"
        found.append(Problem("assume-range", "error", message, place.at(f"/assume/{position}/until"), hint))
    if rule.share is not UNSET and not rule.case:
        hint = "name the case that the share is for"
        found.append(Problem("assume-empty", "error", "expected `case` beside `share`, found none", place, hint))


def overlay_rules(assumptions: Assumptions, rules: tuple[Rule, ...]) -> Overlaid:
    """The assumptions with more rules above them."""
    had = assumptions.overlay if isinstance(assumptions, Overlaid) else ()
    base = {name: getattr(assumptions, name) for name in Assumptions.__struct_fields__}
    return Overlaid(**base, overlay=(*had, *rules))

# What the export does not say: probabilities, sizes, volumes. Every value says whether it is a default, declared
# or measured, and where it came from. The most specific rule wins; among equals the later one.
"""Assumptions: rules with patterns, defaults, and lookup with evidence."""

from __future__ import annotations

from fnmatch import fnmatchcase
from typing import Literal

from msgspec import UNSET, Struct, UnsetType, structs

from .model import Flow, Origin, Step
from .problems import Problem
from .quantities import DEFAULTS, MONTHS, QUANTITIES, SPREAD_OF_DEFAULTS

Evidence = Literal["default", "declared", "measured", "read"]
EVIDENCE: tuple[Evidence, ...] = ("default", "declared", "measured", "read")  # from weak to strong
_STRENGTH: dict[str, int] = {e: i for i, e in enumerate(EVIDENCE)}


class Range(Struct, frozen=True, forbid_unknown_fields=True):
    """Low, likely and high: a PERT distribution with mean (low + 4 likely + high) / 6."""

    low: float
    likely: float
    high: float


Figure = float | Range


class Rule(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One `[[assume]]` table: where it applies (patterns with ``*``; ids or names) and one or more quantities."""

    flow: str = "*"
    step: str = ""
    case: str = ""
    trigger: str = ""
    placeholder: str = ""
    share: Figure | UnsetType = UNSET
    failure: Figure | UnsetType = UNSET
    timeout: Figure | UnsetType = UNSET
    hits: Figure | UnsetType = UNSET
    admitted: Figure | UnsetType = UNSET
    items: Figure | UnsetType = UNSET
    rounds: Figure | UnsetType = UNSET
    turns: Figure | UnsetType = UNSET
    output: Figure | UnsetType = UNSET
    reasoning: Figure | UnsetType = UNSET
    size: Figure | UnsetType = UNSET
    chunk: Figure | UnsetType = UNSET
    overlap: Figure | UnsetType = UNSET
    together: Figure | UnsetType = UNSET
    images: Figure | UnsetType = UNSET
    pages: Figure | UnsetType = UNSET
    seconds: Figure | UnsetType = UNSET
    megabytes: Figure | UnsetType = UNSET
    cached: Figure | UnsetType = UNSET
    batched: Figure | UnsetType = UNSET
    events: Figure | UnsetType = UNSET
    runs: Figure | UnsetType = UNSET
    evidence: Literal["declared", "measured"] = "declared"
    note: str = ""

    def given(self) -> list[tuple[str, Figure]]:
        """The quantities of the rule."""
        found = [(q, getattr(self, q)) for q in QUANTITIES]
        return [(q, v) for q, v in found if v is not UNSET]

    def where(self) -> str:
        return "/".join(p for p in (self.flow, self.step or self.trigger, self.case or self.placeholder) if p)


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


class Value(Struct, frozen=True):
    """A number with its evidence and, for people, where it came from.

    ``amount`` is the mean. ``low`` and ``high`` are the ends of its range; equal to the amount for a point.
    """

    amount: float
    evidence: Evidence
    why: str = ""
    low: float = float("nan")
    high: float = float("nan")

    @property
    def ranged(self) -> bool:
        return self.high > self.low

    @property
    def variance(self) -> float:
        """Variance of the PERT distribution: (mean - low)(high - mean) / 7; 0 for a point."""
        return (self.amount - self.low) * (self.high - self.amount) / 7 if self.high > self.low else 0.0


def value_of(figure: Figure, evidence: Evidence, why: str = "") -> Value:
    """A figure of a rule as a value."""
    if isinstance(figure, Range):
        mean = (figure.low + 4 * figure.likely + figure.high) / 6
        return Value(mean, evidence, f"{why} ({figure.low:g} to {figure.high:g})", figure.low, figure.high)
    return Value(figure, evidence, why)


def spread_default(amount: float, why: str) -> Value:
    """A default size: it varies from run to run by a part of itself either way, so that its mean stays."""
    part = amount * SPREAD_OF_DEFAULTS
    return Value(amount, "default", why, amount - part, amount + part)


def problems(assumptions: Assumptions) -> list[Problem]:
    """Values out of their range or in no order, rules that say nothing, shares of cases that sum over 1."""
    found: list[Problem] = []
    cases: dict[tuple[str, str], dict[str, tuple[float, int]]] = {}
    for at, season in enumerate(assumptions.season):
        wrong = [f for f in season.factors if not 0 <= f < float("inf")]
        if len(season.factors) != MONTHS or wrong or not sum(season.factors):
            message = f"expected {MONTHS} factors of 0 or more, January first, found {len(season.factors)}"
            message += f" with {wrong[0]:g} among them" if wrong else ""
            found.append(Problem("assume-season", "error", message, Origin("", f"/season/{at}/factors")))
    for at, rule in enumerate(assumptions.assume):
        place = Origin("", f"/assume/{at}")
        given = rule.given()
        if not given:
            words = ", ".join(QUANTITIES)
            found.append(Problem("assume-empty", "error", f"expected one of {words}, found none", place))
        for quantity, figure in given:
            found += _in_range(quantity, figure, place.at(f"/assume/{at}/{quantity}"))
        if rule.share is not UNSET:
            if not rule.case:
                hint = "name the case that the share is for"
                found.append(
                    Problem("assume-empty", "error", "expected `case` beside `share`, found none", place, hint)
                )
            elif not any(c in rule.flow + rule.step + rule.case for c in "*?["):
                mean = value_of(rule.share, "declared").amount
                cases.setdefault((rule.flow, rule.step), {})[rule.case] = (mean, at)
    for (flow, step), by in cases.items():
        total = sum(share for share, _ in by.values())
        if total > 1 + 1e-9:
            last = max(at for _, at in by.values())
            message = f"expected shares of the cases of '{step}' in '{flow}' that sum to at most 1, found {total:g}"
            hint = 'is it a decision where several cases may be taken? Then give the shares with a pattern, e.g. step = "Name*"'
            found.append(Problem("assume-shares", "error", message, Origin("", f"/assume/{last}/share"), hint))
    return found


def _in_range(quantity: str, figure: Figure, place: Origin) -> list[Problem]:
    low, high, meaning = QUANTITIES[quantity]
    top = f" to {high:g}" if high is not None else " upwards"
    numbers = (figure.low, figure.likely, figure.high) if isinstance(figure, Range) else (figure,)
    hint = "nothing is computed from this value; correct it"
    for value in numbers:
        if not low <= value <= (float("inf") if high is None else high) or value != value or value == float("inf"):
            message = f"expected {quantity} ({meaning}) from {low:g}{top}, found {value:g}"
            return [Problem("assume-range", "error", message, place, hint)]
    if list(numbers) != sorted(numbers):
        words = ", ".join(f"{n:g}" for n in numbers)
        return [
            Problem(
                "assume-range", "error", f"expected low <= likely <= high for {quantity}, found {words}", place, hint
            )
        ]
    return []


def _hit(pattern: str, *names: str) -> bool:
    if pattern == "*":
        return True
    low = pattern.casefold()
    return any(fnmatchcase(n.casefold(), low) for n in names if n)


def _rank(pattern: str) -> int:
    if not pattern or pattern == "*":
        return 0
    return 1 if any(c in pattern for c in "*?[") else 2


Rank = tuple[int, int, int, int]


class Book:
    """Looks assumptions up for one flow."""

    def __init__(self, assumptions: Assumptions, flow: Flow) -> None:
        self.by: dict[str, list[tuple[Rule, Figure, bool]]] = {}
        self.season = next((s for s in reversed(assumptions.season) if _hit(s.flow, flow.id, flow.name)), None)
        overlay = assumptions.overlay if isinstance(assumptions, Overlaid) else ()
        for above, rules in ((False, assumptions.assume), (True, overlay)):
            for rule in rules:
                if _hit(rule.flow, flow.id, flow.name):
                    for quantity, figure in rule.given():
                        self.by.setdefault(quantity, []).append((rule, figure, above))

    def find(
        self,
        quantity: str,
        step: tuple[str, ...] = (),
        case: tuple[str, ...] = (),
        trigger: tuple[str, ...] = (),
        placeholder: tuple[str, ...] = (),
    ) -> Value | None:
        """The most specific declared or measured value, or None. Names are ids and titles."""
        rules = self.by.get(quantity)
        if rules is None:
            return None
        best: tuple[Rank, Rule, Figure] | None = None
        for rule, figure, above in rules:
            if (
                (rule.step and not (step and _hit(rule.step, *step)))
                or (rule.case and not (case and _hit(rule.case, *case)))
                or (rule.trigger and not (trigger and _hit(rule.trigger, *trigger)))
                or (rule.placeholder and not (placeholder and _hit(rule.placeholder, *placeholder)))
            ):
                continue
            inner = _rank(rule.case) + _rank(rule.placeholder)
            rank = (int(above), _rank(rule.step) + _rank(rule.trigger), inner, _rank(rule.flow))
            if best is None or rank >= best[0]:
                best = (rank, rule, figure)
        if best is None:
            return None
        rule = best[1]
        words = f"scenario for {rule.where()}" if best[0][0] else f"assumptions for {rule.where()}"
        return value_of(best[2], rule.evidence, words + (f": {rule.note}" if rule.note else ""))

    def of_step(self, quantity: str, step: Step, default: float | None = None) -> Value:
        """A quantity of a step, or its default."""
        found = self.find(quantity, (step.id, step.name)) if quantity in self.by else None
        if found is not None:
            return found
        return Value(DEFAULTS[quantity] if default is None else default, "default", "default")

    def factor(self, month: int) -> float:
        """Seasonal factor of a month (1..12); an average month has 1. Month 0 stands for the average."""
        if self.season is None or not month:
            return 1.0
        return self.season.factors[month - 1] * MONTHS / sum(self.season.factors)


def weaker(*evidence: Evidence) -> Evidence:
    """The weakest of several."""
    return min(evidence, key=_STRENGTH.__getitem__) if evidence else "read"


def overlaid(assumptions: Assumptions, rules: tuple[Rule, ...]) -> Overlaid:
    """The assumptions with more rules above them."""
    had = assumptions.overlay if isinstance(assumptions, Overlaid) else ()
    base = {f: getattr(assumptions, f) for f in Assumptions.__struct_fields__}
    return Overlaid(**base, overlay=(*had, *rules))


def with_month(assumptions: Assumptions, month: str) -> Assumptions:
    """The assumptions for another month."""
    return structs.replace(assumptions, month=month)

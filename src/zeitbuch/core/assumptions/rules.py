# What the export does not say: probabilities, sizes, volumes. Every value says whether it is a default, declared
# or measured, and where it came from. The most specific rule wins; among equals the later one.
"""Assumptions: rules with patterns, defaults, and lookup with evidence."""

from __future__ import annotations

from typing import Literal

from msgspec import UNSET, Struct, UnsetType

from zeitbuch.core.model.name_patterns import Fits, compile_pattern, pattern_fits, pattern_rank
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Flow, Origin, Step

from .quantities import DEFAULTS, MONTHS, QUANTITIES, SPREAD_OF_DEFAULTS

Evidence = Literal["default", "declared", "measured", "export"]
# From weak to strong, with the words that users read.
EVIDENCE_WORDS: dict[Evidence, str] = {
    "default": "default", "declared": "declared", "measured": "measured", "export": "from the export",
}  # fmt: skip
EVIDENCE: tuple[Evidence, ...] = tuple(EVIDENCE_WORDS)
_STRENGTH: dict[str, int] = {name: index for index, name in enumerate(EVIDENCE)}


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
    hit_rate: Figure | UnsetType = UNSET
    accept_rate: Figure | UnsetType = UNSET
    items: Figure | UnsetType = UNSET
    rounds: Figure | UnsetType = UNSET
    turns: Figure | UnsetType = UNSET
    output: Figure | UnsetType = UNSET
    reasoning: Figure | UnsetType = UNSET
    size: Figure | UnsetType = UNSET
    chunk: Figure | UnsetType = UNSET
    overlap: Figure | UnsetType = UNSET
    batch_size: Figure | UnsetType = UNSET
    images: Figure | UnsetType = UNSET
    video: Figure | UnsetType = UNSET
    pages: Figure | UnsetType = UNSET
    seconds: Figure | UnsetType = UNSET
    megabytes: Figure | UnsetType = UNSET
    cached: Figure | UnsetType = UNSET
    batched: Figure | UnsetType = UNSET
    events: Figure | UnsetType = UNSET
    runs: Figure | UnsetType = UNSET
    evidence: Literal["declared", "measured"] = "declared"
    note: str = ""

    def given_quantities(self) -> list[tuple[str, Figure]]:
        """The quantities of the rule."""
        found = [(quantity, getattr(self, quantity)) for quantity in QUANTITIES]
        return [(quantity, value) for quantity, value in found if value is not UNSET]

    def where_words(self) -> str:
        return "/".join(part for part in (self.flow, self.step or self.trigger, self.case or self.placeholder) if part)


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


class Value(Struct, frozen=True, gc=False):
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


_DEFAULT = {quantity: Value(amount, "default", "default") for quantity, amount in DEFAULTS.items()}


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
        found += _in_range(quantity, figure, place.at(f"/assume/{position}/{quantity}"))
    if rule.share is not UNSET and not rule.case:
        hint = "name the case that the share is for"
        found.append(Problem("assume-empty", "error", "expected `case` beside `share`, found none", place, hint))


def _in_range(quantity: str, figure: Figure, place: Origin) -> list[Problem]:
    low, high, meaning = QUANTITIES[quantity]
    top = f" to {high:g}"
    numbers = (figure.low, figure.likely, figure.high) if isinstance(figure, Range) else (figure,)
    hint = "nothing is computed from this value; correct it"
    for value in numbers:
        if not low <= value <= high:
            message = f"expected {quantity} ({meaning}) from {low:g}{top}, found {value:g}"
            return [Problem("assume-range", "error", message, place, hint)]
    if list(numbers) != sorted(numbers):
        words = ", ".join(f"{number:g}" for number in numbers)
        return [
            Problem(
                "assume-range", "error", f"expected low <= likely <= high for {quantity}, found {words}", place, hint
            )
        ]
    return []


Rank = tuple[int, int, int, int]


class ReadyRule(Struct):
    """A quantity of a rule, ready to be asked for."""

    rule: Rule
    value: Value
    flow: Fits | None
    step: Fits | None
    case: Fits | None
    trigger: Fits | None
    placeholder: Fits | None
    rank: Rank
    narrow: bool  # whether it is for a case, a trigger or a placeholder


_ready: list[tuple[Assumptions, list[tuple[str, ReadyRule]]]] = []  # of the assumptions used last


def _compile_rules(assumptions: Assumptions) -> list[tuple[str, ReadyRule]]:
    """All quantities of all rules with their patterns compiled; kept for the assumptions used last."""
    for kept, compiled in _ready:
        if kept is assumptions:
            return compiled
    overlay = assumptions.overlay if isinstance(assumptions, Overlaid) else ()
    found: list[tuple[str, ReadyRule]] = []
    for above, rules in ((0, assumptions.assume), (1, overlay)):
        words = "scenario" if above else "assumptions"
        for rule in rules:
            _compile_rule(above, rule, words, found)
    _ready[:] = [*_ready[-7:], (assumptions, found)]
    return found


def _compile_rule(above: int, rule: Rule, words: str, found: list[tuple[str, ReadyRule]]) -> None:
    weight = (
        above,
        pattern_rank(rule.step) + pattern_rank(rule.trigger),
        pattern_rank(rule.case) + pattern_rank(rule.placeholder),
        pattern_rank(rule.flow),
    )
    first, second, function, d, e = (
        compile_pattern(part) if part else None
        for part in (rule.flow, rule.step, rule.case, rule.trigger, rule.placeholder)
    )
    why = f"{words} for {rule.where_words()}" + (f": {rule.note}" if rule.note else "")
    for quantity, figure in rule.given_quantities():
        found.append(
            (
                quantity,
                ReadyRule(
                    rule,
                    value_of(figure, rule.evidence, why),
                    first,
                    second,
                    function,
                    d,
                    e,
                    weight,
                    bool(function or d or e),
                ),
            )
        )


class AssumptionLookup:
    """Looks assumptions up for one flow."""

    def __init__(self, assumptions: Assumptions, flow: Flow) -> None:
        names = (flow.id, flow.name)
        self.by: dict[str, list[ReadyRule]] = {}
        self.season = next(
            (season for season in reversed(assumptions.season) if pattern_fits(season.flow, *names)), None
        )
        for quantity, ready in _compile_rules(assumptions):
            if ready.flow is None or ready.flow(names):
                self.by.setdefault(quantity, []).append(ready)

    def find(
        self, quantity: str, step: tuple[str, ...] = (), *more: tuple[str, ...], **where: tuple[str, ...]
    ) -> Value | None:
        """The most specific declared or measured value, or None. Names are ids and titles."""
        best = self.find_rule(quantity, step, *more, **where)
        return best.value if best is not None else None

    def find_rule(
        self,
        quantity: str,
        step: tuple[str, ...] = (),
        case: tuple[str, ...] = (),
        trigger: tuple[str, ...] = (),
        placeholder: tuple[str, ...] = (),
    ) -> ReadyRule | None:
        """The rule that ``find`` takes its value from."""
        best: ReadyRule | None = None
        for r in self.by.get(quantity, ()):
            if best is not None and r.rank < best.rank:
                continue
            if (
                (r.step is not None and not r.step(step))
                or (r.case is not None and not r.case(case))
                or (r.trigger is not None and not r.trigger(trigger))
                or (r.placeholder is not None and not r.placeholder(placeholder))
            ):
                continue
            best = r
        return best

    def of_step(self, quantity: str, step: Step, default: float | None = None) -> Value:
        """A quantity of a step, or its default."""
        best: ReadyRule | None = None
        names = (step.id, step.name)
        for ready in self.by.get(quantity, ()):
            if (
                not ready.narrow
                and (ready.step is None or ready.step(names))
                and (best is None or ready.rank >= best.rank)
            ):
                best = ready
        if best is not None:
            return best.value
        return _DEFAULT[quantity] if default is None else Value(default, "default", "default")

    def factor(self, month: int) -> float:
        """Seasonal factor of a month (1..12); an average month has 1. Month 0 stands for the average."""
        if self.season is None or not month:
            return 1.0
        return self.season.factors[month - 1] * MONTHS / sum(self.season.factors)


def weakest_evidence(*evidence: Evidence) -> Evidence:
    """The weakest of several."""
    if len(evidence) == 2:
        first, second = evidence
        return first if _STRENGTH[first] <= _STRENGTH[second] else second
    return min(evidence, key=_STRENGTH.__getitem__) if evidence else "export"


def overlay_rules(assumptions: Assumptions, rules: tuple[Rule, ...]) -> Overlaid:
    """The assumptions with more rules above them."""
    had = assumptions.overlay if isinstance(assumptions, Overlaid) else ()
    base = {name: getattr(assumptions, name) for name in Assumptions.__struct_fields__}
    return Overlaid(**base, overlay=(*had, *rules))

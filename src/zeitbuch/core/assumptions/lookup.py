# Rules with patterns, ready to be asked: the most specific one wins, among equals the later. What is in doubt is looked up with what it
# is in every drawn world, where there are any.
"""Looking assumptions up for one flow."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from copy import copy
from operator import is_
from typing import Protocol

from msgspec import Struct

from zeitbuch.core.model.name_patterns import Fits, compile_pattern, pattern_fits, pattern_rank
from zeitbuch.core.model.records import Flow, Step

from .days import Days, holds_throughout
from .quantities import DEFAULTS, MONTHS
from .rules import Assumptions, Overlaid, Rule
from .values import Value, value_of

Rank = tuple[int, int, int, int, bool]


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
    key: str  # of what it says: one unknown, whatever it applies to


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
        pattern_rank(rule.flow) + pattern_rank(rule.environment),
        rule.dated,
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
                    value_of(quantity, figure, rule.evidence, why),
                    first,
                    second,
                    function,
                    d,
                    e,
                    weight,
                    bool(function or d or e),
                    _key_of(quantity, rule),
                ),
            )
        )


def _key_of(quantity: str, rule: Rule) -> str:
    where = (rule.flow, rule.step, rule.case, rule.trigger, rule.placeholder, rule.environment, rule.days_words())
    return "|".join((quantity, *where))


_DEFAULT = {quantity: Value(amount, "default", "default") for quantity, amount in DEFAULTS.items()}


def has_rules_for(assumptions: Assumptions, *quantities: str) -> bool:
    """Whether any rule, declared or measured, says one of these quantities."""
    return any(quantity in quantities for quantity, _ in _compile_rules(assumptions))


class InWorlds(Protocol):
    """Drawn worlds, as a lookup needs them (see ``worlds.Worlds``)."""

    def in_worlds(self, key: str, quantity: str, value: Value) -> Value: ...

    def in_equal_parts(self, key: str, what: Sequence[str], whole: float) -> list[float]: ...


class AssumptionLookup:
    """Looks assumptions up for one flow. With ``worlds`` every value that is in doubt comes with what it is in each of them. ``days``:
    the days that rules are to hold on, and that volumes are of; without any, rules of whatever days. ``counted``: items of steps, by id, that follow from something else
    (pieces of a text), and hold where none are declared."""

    def __init__(
        self, assumptions: Assumptions, flow: Flow, worlds: InWorlds | None = None, days: Days | None = None
    ) -> None:
        names = (flow.id, flow.name)
        self.days = days
        self.counted: dict[str, Value] = {}
        self.flow_id = flow.id
        self.worlds = worlds
        self.by: dict[str, list[ReadyRule]] = {}
        # As of rules, the most specific one holds, among equals the later.
        fitting = [season for season in reversed(assumptions.season) if pattern_fits(season.flow, *names)]
        self.season = max(fitting, key=lambda season: pattern_rank(season.flow), default=None)
        for quantity, ready in _compile_rules(assumptions):
            wanted = ready.rule.environment
            if (ready.flow is None or ready.flow(names)) and (not wanted or pattern_fits(wanted, flow.environment)):
                if days is not None and ready.rule.dated and not holds_throughout(ready.rule, days):
                    continue
                self.by.setdefault(quantity, []).append(ready)

    def says_as(self, other: AssumptionLookup) -> bool:
        """Whether the same rules hold as for another lookup of the same flow: then all but volumes is the same."""
        if self.worlds is not other.worlds or self.by.keys() != other.by.keys():
            return False
        pairs = [(rules, other.by[quantity]) for quantity, rules in self.by.items()]
        return all([len(a) == len(b) and all(map(is_, a, b)) for a, b in pairs])

    def find(
        self, quantity: str, step: tuple[str, ...] = (), *more: tuple[str, ...], **where: tuple[str, ...]
    ) -> Value | None:
        """The most specific declared or measured value, or None. Names are ids and titles."""
        best = self.find_rule(quantity, step, *more, **where)
        return self._said(quantity, best) if best is not None else None

    def _said(self, quantity: str, ready: ReadyRule) -> Value:
        if self.worlds is None:
            return ready.value
        return self.worlds.in_worlds(ready.key, quantity, ready.value)

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

    def of_step(self, quantity: str, step: Step) -> Value:
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
            return self._said(quantity, best)
        if quantity == "items" and step.id in self.counted:
            return self.counted[step.id]
        return self.default_of(quantity)

    def default_of(self, quantity: str, value: Value | None = None, name: str = "") -> Value:
        """A default of a quantity: its own, or that of a certain ``name``."""
        value = value or _DEFAULT[quantity]
        if self.worlds is None:
            return value
        return self.worlds.in_worlds(f"default {quantity} {name}", quantity, value)

    def equal_parts(self, name: str, count: int, whole: float, what: Callable[[], Sequence[str]]) -> list[float]:
        """What so many parts of a ``whole`` are when nothing tells them apart; ``what`` says in words what each is."""
        if self.worlds is None or count < 2:
            return [whole / count] * count
        return self.worlds.in_equal_parts(f"{self.flow_id} {name}", what(), whole)

    def factor(self, month: int) -> tuple[float, str]:
        """By what a declared volume of a month (1..12; 0 for the average one) is multiplied, and in words why: its season, and the
        part of the month that the days are."""
        factor, words = 1.0, ""
        if self.season is not None and month:
            factor = self.season.factors[month - 1] * MONTHS / sum(self.season.factors)
            words = f", season x {factor:.2f}" if factor != 1 else ""
        if self.days is not None and self.days.words:
            factor, words = factor * self.days.share, f"{words}, {self.days.words}"
        return factor, words

    def dated_rules(self, *quantities: str) -> list[Rule]:
        """The rules of some days only that give one of some quantities, each once."""
        ready = [one.rule for quantity in quantities for one in self.by.get(quantity, ()) if one.rule.dated]
        return list({id(rule): rule for rule in ready}.values())

    def beside(self, dated: Rule | None) -> AssumptionLookup:
        """The same with the rules of all days, and with one of some days beside them."""
        found = copy(self)
        found.by = {q: [r for r in ready if not r.rule.dated or r.rule is dated] for q, ready in self.by.items()}
        return found

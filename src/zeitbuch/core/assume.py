# What the export does not say: probabilities, sizes, volumes. Every value says whether it is a default, declared
# or measured, and where it came from. The most specific rule wins; among equals the later one.
"""Assumptions: rules with patterns, defaults, and lookup with evidence."""

from __future__ import annotations

from fnmatch import fnmatchcase
from typing import Literal

from msgspec import Struct

from .model import Flow, Step
from .problems import Problem

Evidence = Literal["default", "declared", "measured", "read"]
EVIDENCE: tuple[Evidence, ...] = ("default", "declared", "measured", "read")  # from weak to strong

QUANTITIES: dict[str, tuple[float, float | None, str]] = {
    "share": (0.0, 1.0, "probability that a case is taken"),
    "failure": (0.0, 1.0, "probability that one attempt of a step fails"),
    "hits": (0.0, 1.0, "share of the checks of a polling trigger that find something"),
    "items": (0.0, None, "items that a loop goes over"),
    "rounds": (1.0, None, "rounds of a loop that ends on a condition"),
    "turns": (1.0, None, "turns of an agent: model calls per pass"),
    "output": (0.0, None, "tokens that a model step answers with"),
    "size": (0.0, None, "tokens of what a step or trigger hands on"),
    "images": (0.0, None, "images that a step hands to a model"),
    "runs": (0.0, None, "runs per month that a trigger or all triggers of a flow cause"),
}


class Rule(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One `[[assume]]` table: where it applies (patterns with ``*``; ids or names) and one or more quantities."""

    flow: str = "*"
    step: str = ""
    case: str = ""
    trigger: str = ""
    share: float | None = None
    failure: float | None = None
    hits: float | None = None
    items: float | None = None
    rounds: float | None = None
    turns: float | None = None
    output: float | None = None
    size: float | None = None
    images: float | None = None
    runs: float | None = None
    evidence: Literal["declared", "measured"] = "declared"
    note: str = ""


class Assumptions(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """An assumptions file. ``month`` (YYYY-MM) is the calendar month that monthly figures are for."""

    assumptions: Literal[1] = 1
    month: str = ""
    assume: tuple[Rule, ...] = ()


class Value(Struct, frozen=True):
    """A number with its evidence and, for people, where it came from."""

    amount: float
    evidence: Evidence
    why: str = ""


OUTPUT_BY_TASK: dict[str, float] = {
    "label": 10, "extract": 150, "summary": 180, "draft": 350, "rewrite": 350, "long text": 1200,
}  # fmt: skip
OUTPUT_OTHERWISE = 250.0
SIZE_BY_KIND: dict[str, float] = {
    "read": 300, "http": 400, "parse": 1500, "retrieve": 1200, "loop": 200, "code": 150, "shape": 150, "approve": 30,
    "subflow": 200,
}  # fmt: skip
SIZE_OTHERWISE = 100.0
SIZE_OF_TRIGGER = 250.0
DEFAULTS: dict[str, float] = {"items": 10, "rounds": 3, "failure": 0, "hits": 0.25, "images": 1}
TURNS_LOW, TURNS_LIKELY, TURNS_HIGH = 1.0, 3.0, 10.0
TOOL_CALL_TOKENS = 40.0
TOOL_FRAME_TOKENS = 30.0
MESSAGE_TOKENS = 150.0
CYCLE_ROUNDS = 100
LETTERS_PER_TOKEN = 4.0


def problems(assumptions: Assumptions, source: str) -> list[Problem]:
    """Values out of their range, and rules that say nothing."""
    found: list[Problem] = []
    for at, rule in enumerate(assumptions.assume, 1):
        where = f"{source}: [[assume]] number {at}"
        given = [(q, getattr(rule, q)) for q in QUANTITIES if getattr(rule, q) is not None]
        if not given:
            found.append(
                Problem("assume-empty", "error", f"{where}: expected one of {', '.join(QUANTITIES)}, found none")
            )
        for quantity, value in given:
            low, high, meaning = QUANTITIES[quantity]
            if not low <= value <= (float("inf") if high is None else high) or value != value or value == float("inf"):
                top = f" to {high:g}" if high is not None else " upwards"
                message = f"{where}: expected {quantity} ({meaning}) from {low:g}{top}, found {value:g}"
                found.append(
                    Problem("assume-range", "error", message, hint="nothing is computed from this value; correct it")
                )
        if rule.share is not None and not rule.case:
            message = f"{where}: expected `case` beside `share`, found none"
            found.append(Problem("assume-empty", "error", message, hint="name the case that the share is for"))
    return found


def _hit(pattern: str, *names: str) -> bool:
    low = pattern.casefold()
    return any(fnmatchcase(n.casefold(), low) for n in names if n)


def _rank(pattern: str) -> int:
    if not pattern or pattern == "*":
        return 0
    return 1 if any(c in pattern for c in "*?[") else 2


class Book:
    """Looks assumptions up for one flow."""

    def __init__(self, assumptions: Assumptions, flow: Flow) -> None:
        self.rules = [r for r in assumptions.assume if _hit(r.flow, flow.id, flow.name)]

    def find(
        self, quantity: str, step: tuple[str, ...] = (), case: tuple[str, ...] = (), trigger: tuple[str, ...] = ()
    ) -> Value | None:
        """The most specific declared or measured value, or None. Names are ids and titles."""
        best: tuple[tuple[int, int, int], Rule] | None = None
        for rule in self.rules:
            if getattr(rule, quantity) is None:
                continue
            if (rule.step and not (step and _hit(rule.step, *step))) or (
                rule.case and not (case and _hit(rule.case, *case))
            ):
                continue
            if rule.trigger and not (trigger and _hit(rule.trigger, *trigger)):
                continue
            rank = (_rank(rule.step) + _rank(rule.trigger), _rank(rule.case), _rank(rule.flow))
            if best is None or rank >= best[0]:
                best = (rank, rule)
        if best is None:
            return None
        rule = best[1]
        where = "/".join(p for p in (rule.flow, rule.step or rule.trigger, rule.case) if p)
        return Value(
            getattr(rule, quantity), rule.evidence, f"assumptions for {where}" + (f": {rule.note}" if rule.note else "")
        )

    def of_step(self, quantity: str, step: Step, default: float | None = None) -> Value:
        """A quantity of a step, or its default."""
        found = self.find(quantity, (step.id, step.name))
        if found is not None:
            return found
        return Value(DEFAULTS[quantity] if default is None else default, "default", "default")


def weaker(*evidence: Evidence) -> Evidence:
    """The weakest of several."""
    return min(evidence, key=EVIDENCE.index) if evidence else "read"

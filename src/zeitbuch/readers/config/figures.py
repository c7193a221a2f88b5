# The files that estimates rest on: rate card, assumptions, scenarios. All TOML, checked on loading, faults with lines.
"""Loading rate cards, assumptions and scenarios."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from decimal import Decimal
from pathlib import Path

from msgspec import structs

from zeitbuch.core.assumptions import rules, shares
from zeitbuch.core.assumptions.idle_rules import idle_problems
from zeitbuch.core.assumptions.quantities import RENAMED
from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.estimate import scenario
from zeitbuch.core.estimate.scenario_records import Assume, Scenario
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Flow, Origin
from zeitbuch.core.pricing import rate_validation
from zeitbuch.core.pricing.idle_rates import idle_rates
from zeitbuch.core.pricing.rate_card import RateCard
from zeitbuch.readers.input.toml_files import TomlKind, load_toml
from zeitbuch.readers.input.toml_lines import line_of

RATES = TomlKind("a rate card", "rates", "figures-unreadable", "figures-syntax", "figures-key", Decimal)
ASSUMPTIONS = TomlKind("an assumptions file", "assumptions", "figures-unreadable", "figures-syntax", "figures-key")
SCENARIO = TomlKind("a scenario", "scenario", "figures-unreadable", "figures-syntax", "figures-key")


def place_problems(problems: list[Problem], path: str, text: str) -> list[Problem]:
    """The problems with file and line."""
    found = []
    for problem in problems:
        pointer = problem.origin.pointer if problem.origin is not None else ""
        found.append(structs.replace(problem, origin=Origin(path, line=line_of(text, pointer))))
    return found


def load_rates(path: str) -> tuple[RateCard, list[Problem]]:
    """A rate card and what is wrong in it. Raises ZeitbuchError when it cannot be read at all."""
    card, text = load_toml(path, RateCard, RATES, RENAMED)
    return card, place_problems(rate_validation.rate_problems(card), path, text)


def load_assumptions(path: str) -> tuple[Assumptions, list[Problem]]:
    """An assumptions file and what is wrong in it. Raises ZeitbuchError when it cannot be read at all."""
    found, text = load_toml(path, Assumptions, ASSUMPTIONS, RENAMED)
    return found, place_problems(rules.assumption_problems(found), path, text)


def share_problems(flows: Iterable[Flow], assumptions: Assumptions, path: str) -> list[Problem]:
    """Shares of the cases of the flows' decisions that sum to more than 1, or leave something out, with the line of the last rule."""
    found = shares.share_problems(flows, assumptions)
    return place_problems(found, path, Path(path).read_text(encoding="utf-8")) if found else []


def idle_rules(flows: Sequence[Flow], assumptions: Assumptions, path: str, whole: bool) -> list[Problem]:
    """Rules that fit nothing in the flows, with their lines."""
    found = idle_problems(flows, assumptions, whole)
    return place_problems(found, path, Path(path).read_text(encoding="utf-8")) if found else []


def idle_prices(flows: Sequence[Flow], card: RateCard, path: str, whole: bool) -> list[Problem]:
    """Entries of a rate card that fit nothing in the flows, with their lines."""
    found = idle_rates(flows, card, whole)
    return place_problems(found, path, Path(path).read_text(encoding="utf-8")) if found else []


def load_scenario(path: str, card: RateCard | None) -> tuple[Scenario, list[Problem]]:
    """A scenario and what is wrong in it. Raises ZeitbuchError when it cannot be read at all."""
    found, text = load_toml(path, Scenario, SCENARIO, RENAMED)
    problems = [*scenario.scenario_problems(found, card)]
    declared = [(place, child.rule) for place, child in enumerate(found.change) if isinstance(child, Assume)]
    for place, rule in declared:
        for problem in rules.assumption_problems(Assumptions(assume=(rule,))):
            if problem.code != "assume-empty":
                problems.append(structs.replace(problem, origin=Origin("", f"/change/{place}/rule")))
    return found, place_problems(problems, path, text)

# The files that estimates rest on: rate card, assumptions, scenarios. All TOML, checked on loading, faults with lines.
"""Loading rate cards, assumptions and scenarios."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable, Iterable
from decimal import Decimal
from pathlib import Path
from typing import Any, TypeVar

import msgspec
from msgspec import structs

from zeitbuch.core.assumptions import rules
from zeitbuch.core.assumptions.quantities import RENAMED
from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.estimate import scenario
from zeitbuch.core.estimate.scenario_records import Assume, Scenario
from zeitbuch.core.model.problems import Problem, fail
from zeitbuch.core.model.records import Flow, Origin
from zeitbuch.core.pricing import rate_validation
from zeitbuch.core.pricing.rate_card import RateCard

from .toml_lines import line_of

T = TypeVar("T")


def _pointer_in_message(message: str) -> str:
    """The place in a message of the decoder ('... - at `$.model[0].price`') as a pointer; an unknown key itself."""
    place = re.search(r"at `\$([^`]*)`", message)
    path = re.sub(r"\[(\d+)\]", r"/\1", (place[1] if place else "").replace(".", "/"))
    key = re.search(r"unknown field `([^`]*)`", message)
    return path + (f"/{key[1]}" if key else "")


def _renamed_hint(message: str) -> str:
    """What an unknown key is called now, where it was a key once."""
    key = re.search(r"unknown field `([^`]*)`", message)
    return f"`{key[1]}` is called `{RENAMED[key[1]]}` now" if key and key[1] in RENAMED else ""


def decode_toml(path: str, kind: type[T], schema: str, parse_float: Callable[[str], Any]) -> tuple[T, str]:
    """The records of a TOML file and its text. Raises ZeitbuchError with the line when it is none."""
    try:
        text = Path(path).read_text(encoding="utf-8")
    except OSError as error:
        raise fail("figures-unreadable", f"{path}: expected a readable file, found: {error.strerror}") from None
    except UnicodeDecodeError:
        raise fail("figures-unreadable", f"{path}: expected UTF-8 text, found other bytes") from None
    try:
        return msgspec.convert(tomllib.loads(text, parse_float=parse_float), kind), text
    except tomllib.TOMLDecodeError as error:
        found = re.search(r"line (\d+), column (\d+)", str(error))
        line, column = (int(found[1]), int(found[2])) if found else (None, None)
        origin = Origin(path, line=line, column=column)
        raise fail("figures-syntax", f"expected TOML, found: {error}", "mend the file at that line", origin) from None
    except msgspec.ValidationError as error:
        origin = Origin(path, line=line_of(text, _pointer_in_message(str(error))))
        hint = _renamed_hint(str(error)) or f"`zeitbuch schema {schema}` prints what the file may hold"
        raise fail("figures-key", str(error), hint, origin) from None


def place_problems(problems: list[Problem], path: str, text: str) -> list[Problem]:
    """The problems with file and line."""
    found = []
    for problem in problems:
        pointer = problem.origin.pointer if problem.origin is not None else ""
        found.append(structs.replace(problem, origin=Origin(path, line=line_of(text, pointer))))
    return found


def load_rates(path: str) -> tuple[RateCard, list[Problem]]:
    """A rate card and what is wrong in it. Raises ZeitbuchError when it cannot be read at all."""
    card, text = decode_toml(path, RateCard, "rates", Decimal)
    return card, place_problems(rate_validation.rate_problems(card), path, text)


def load_assumptions(path: str) -> tuple[Assumptions, list[Problem]]:
    """An assumptions file and what is wrong in it. Raises ZeitbuchError when it cannot be read at all."""
    found, text = decode_toml(path, Assumptions, "assumptions", float)
    return found, place_problems(rules.assumption_problems(found), path, text)


def share_problems(flows: Iterable[Flow], assumptions: Assumptions, path: str) -> list[Problem]:
    """Shares of the cases of the flows' decisions that sum to more than 1, with the line of the last rule."""
    found = rules.share_problems(flows, assumptions)
    return place_problems(found, path, Path(path).read_text(encoding="utf-8")) if found else []


def load_scenario(path: str, card: RateCard | None) -> tuple[Scenario, list[Problem]]:
    """A scenario and what is wrong in it. Raises ZeitbuchError when it cannot be read at all."""
    found, text = decode_toml(path, Scenario, "scenario", float)
    problems = [*scenario.scenario_problems(found, card)]
    declared = [(place, child.rule) for place, child in enumerate(found.change) if isinstance(child, Assume)]
    for place, rule in declared:
        for problem in rules.assumption_problems(Assumptions(assume=(rule,))):
            if problem.code != "assume-empty":
                problems.append(structs.replace(problem, origin=Origin("", f"/change/{place}/rule")))
    return found, place_problems(problems, path, text)

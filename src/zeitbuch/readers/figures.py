# The two files that estimates rest on: rate card and assumptions. Both TOML, checked on loading.
"""Loading rate cards and assumptions."""

from __future__ import annotations

import tomllib
from decimal import Decimal
from pathlib import Path
from typing import Any, TypeVar

import msgspec

from zeitbuch.core import assume, rates
from zeitbuch.core.assume import Assumptions
from zeitbuch.core.problems import Problem, fail
from zeitbuch.core.rates import RateCard

T = TypeVar("T")


def _decode(path: str, kind: type[T], schema: str, parse_float: Any) -> T:
    try:
        text = Path(path).read_text(encoding="utf-8")
        data = tomllib.loads(text, parse_float=parse_float)
        return msgspec.convert(data, kind)
    except OSError as error:
        raise fail("figures-unreadable", f"{path}: expected a readable file, found: {error.strerror}") from None
    except UnicodeDecodeError:
        raise fail("figures-unreadable", f"{path}: expected UTF-8 text, found other bytes") from None
    except tomllib.TOMLDecodeError as error:
        raise fail("figures-syntax", f"{path}: expected TOML, found: {error}", "mend the file at that line") from None
    except msgspec.ValidationError as error:
        raise fail(
            "figures-key", f"{path}: {error}", f"`zeitbuch schema {schema}` prints what the file may hold"
        ) from None


def load_rates(path: str) -> tuple[RateCard, list[Problem]]:
    """A rate card and what is wrong in it. Raises ZeitbuchError when it cannot be read at all."""
    card = _decode(path, RateCard, "rates", Decimal)
    return card, rates.problems(card, path)


def load_assumptions(path: str) -> tuple[Assumptions, list[Problem]]:
    """An assumptions file and what is wrong in it. Raises ZeitbuchError when it cannot be read at all."""
    found = _decode(path, Assumptions, "assumptions", float)
    return found, assume.problems(found, path)

# Every number that an option takes has its bounds in one row here: what is no number, or beyond them, is refused before anything is read.
"""Bounds of numeric options."""

from __future__ import annotations

import argparse
import math
from collections.abc import Callable
from typing import NamedTuple

from zeitbuch.core.estimate.budget import MOST_MONEY


class Bounds(NamedTuple):
    """The least and the most that an option may be, whether it counts, and whether it is so many percent (with or without the sign)."""

    least: float
    most: float
    whole: bool = False
    percent: bool = False


BOUNDS: dict[str, Bounds] = {
    "--max-per-run": Bounds(0, MOST_MONEY),
    "--max-per-month": Bounds(0, MOST_MONEY),
    "--top": Bounds(1, 10_000_000, whole=True),
    "--runs": Bounds(0, 10_000_000, whole=True),
    "--depth": Bounds(0, 100_000, whole=True),
    "--before": Bounds(0, 100_000, whole=True),
    "--after": Bounds(0, 100_000, whole=True),
    "--keep-days": Bounds(0, 100_000, whole=True),
    "--scale": Bounds(0.2, 8),
    "--slower": Bounds(1, 1e6),
    "--dearer": Bounds(0, 1e6),
    "--max-gap": Bounds(0, 1e6, percent=True),
}


def number_for(option: str) -> Callable[[str], float]:
    """What reads the number of an option; argparse tells what is wrong with it."""
    bounds = BOUNDS[option]
    kind = "a whole number" if bounds.whole else "a number"

    def read(text: str) -> float:
        try:
            number = text.removesuffix("%") if bounds.percent else text
            value: float = int(number) if bounds.whole else float(number)
        except ValueError:
            value = math.nan
        if not bounds.least <= value <= bounds.most:
            raise argparse.ArgumentTypeError(
                f"expected {kind} from {bounds.least:,g} to {bounds.most:,g}, found {text!r}"
            )
        return value

    return read

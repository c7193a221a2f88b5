# What a proposal claims, what speaks for each claim, and how likely it is right. The weights of the evidence were fitted on exports of
# made-up builders (tests/campaign/fit.py) and checked on others that were drawn apart; docs/proposals.md has the table.
"""Claims of a proposal with their probability."""

from __future__ import annotations

import math
from typing import NamedTuple

from .claim_weights import WEIGHTS

ASSERTED = 0.85  # probability from which a proposal asserts; below it asks
ANSWERED = "answered"  # the owner has said so
DOUBTED = "doubted"  # two things fit: nothing but the owner decides


class Claim(NamedTuple):
    """One thing understood: the part of the dialect, what of it (an operation; empty for the part as a whole), in words what was
    understood, and the evidence for it, each piece by name between 0 (nothing) and 1 (all that can be)."""

    part: str
    of: str
    words: str
    evidence: dict[str, float]

    @property
    def probability(self) -> float:
        """How likely the claim is right (0..1)."""
        return probability_of(self.part, self.evidence)

    @property
    def percent(self) -> int:
        return round(100 * self.probability)

    @property
    def sure_words(self) -> str:
        """How sure the claim is, as far as that was measured; empty where nothing is to be said."""
        if DOUBTED in self.evidence:
            return "in doubt"
        measured = self.evidence.keys() & {ANSWERED, *WEIGHTS.get(self.part, ())}
        return f"{self.percent:>3} % sure" if measured else "not measured" if self.evidence else ""

    @property
    def line(self) -> str:
        """The claim in words, with how sure it is."""
        sure = self.sure_words.strip()
        return f"{sure}: {self.part}: {self.words}" if sure else f"{self.part}: {self.words}"

    @property
    def is_asked(self) -> bool:
        """Whether the proposal asks rather than asserts."""
        return bool(self.evidence) and self.probability < ASSERTED


def probability_of(part: str, evidence: dict[str, float]) -> float:
    """The probability that a claim with this evidence is right: logistic in the fitted weights; a half where nothing was fitted."""
    if ANSWERED in evidence:
        return 0.99
    if DOUBTED in evidence:
        return 0.5
    weights = WEIGHTS.get(part)
    if weights is None:
        return 0.5
    total = weights[""] + sum(weights.get(name, 0.0) * value for name, value in evidence.items())
    return min(0.99, max(0.01, 1 / (1 + math.exp(-max(-30.0, min(30.0, total))))))

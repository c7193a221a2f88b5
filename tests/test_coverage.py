"""Eight months in ten cost between P10 and P90: held against months played out run by run, with what is assumed drawn from its ranges."""

from __future__ import annotations

import numpy as np

from conftest import draws
from months_simulated import Month, assumptions_of, card_of, flows_of, random_case
from zeitbuch.core.estimate.records import Sampling
from zeitbuch.core.estimate.sampled_estate import estimate_flows

WORLDS = draws(240, 400)


def places_of(seeds: range) -> list[tuple[float, float, float, float]]:
    """For each seed the bill as it came, and P10, P90 and the mean as estimated."""
    found = []
    for seed in seeds:
        case = random_case(np.random.default_rng(seed))
        result = estimate_flows(flows_of(case), card_of(case), assumptions_of(case), "2026-02", Sampling(1000))
        spread = result.total.spread
        assert spread is not None
        bill = Month(case, np.random.default_rng([seed, 1])).play()
        found.append((bill, spread.p10, spread.p90, spread.mean))
    return found


def test_eight_months_in_ten_cost_between_p10_and_p90() -> None:
    rows = places_of(range(WORLDS))
    within = sum(low <= bill <= high for bill, low, high, _ in rows) / WORLDS
    below = sum(bill < low for bill, low, _, _ in rows) / WORLDS
    above = sum(bill > high for bill, _, high, _ in rows) / WORLDS
    assert 0.75 <= within <= 0.85, (within, below, above)
    assert 0.05 <= below <= 0.15 and 0.05 <= above <= 0.15, (below, above)
    # What bills come to on average is what was estimated: the ratio has an error of 2 % here.
    assert abs(float(np.mean([bill / mean for bill, _, _, mean in rows])) - 1) < 0.06

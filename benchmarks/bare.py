"""The sampled cost of one flow as plain NumPy statements over a list of rows: no records, no evidence, no general joins.

It reads a plan once into rows and loops over them; what it computes is the same: passes by draws, usage by draws, cost.
Used by benchmarks/estimate.py to say what the general machinery costs.
"""

from __future__ import annotations

from typing import Any

import numpy as np


def bare_costs(run: Any, prices: Any, runs: int, rng: np.random.Generator) -> np.ndarray:
    """Cost of each of ``runs`` sampled runs of a flow as benchmarks/estimate.py makes them."""
    texts: dict[str, np.ndarray] = {}
    cost = np.zeros(runs)

    def pert(value: Any) -> np.ndarray:
        span = value.high - value.low
        alpha = 6 * (value.amount - value.low) / span
        return value.low + span * rng.beta(alpha, 6 - alpha, runs)

    def spend(step_id: str, counts: np.ndarray, turns: np.ndarray | None) -> None:
        use = run.uses.get(step_id)
        if use is None:
            return
        one = np.zeros(runs)
        for a in use.amounts:
            each = float(prices.unit_price(use.model, a, 0.0) or 0)
            size: Any = a.size.amount
            if a.size.high > a.size.low:
                size = texts.get(a.key)
                if size is None:
                    size = texts[a.key] = pert(a.size)
            k: Any = 1.0
            if turns is not None:
                k = {"one": 1.0, "turns": turns, "later": turns - 1, "pairs": turns * (turns - 1) / 2}[a.by]
            one = one + each * a.times * size * k
        mean = float(one.mean())
        np.add(cost, counts * mean + np.sqrt(counts) * (one - mean), out=cost)

    def level(stage: Any, arriving: np.ndarray) -> None:
        at: dict[str, np.ndarray] = {stage.nodes[0].step.id: arriving}
        for node in stage.nodes:
            counts = at.get(node.step.id)
            if counts is None:
                continue
            wrong = node.failure.amount
            attempts, left = counts, counts
            if wrong:
                for turn in range(node.tries + 1):
                    if turn:
                        attempts = attempts + left
                    left = rng.binomial(left, wrong)
                counts = counts - left
            turns = pert(node.turns) if node.turns is not None and node.turns.high > node.turns.low else None
            spend(node.step.id, attempts, turns)
            if turns is not None:
                calls = attempts * (turns - 1)
                whole = np.floor(calls + rng.random(runs)).astype(np.int64)
                for i, tool in enumerate(node.tools):
                    mine = rng.binomial(whole, 1 / (len(node.tools) - i))
                    whole = whole - mine
                    spend(tool.step.id, mine, None)
            if node.inner is not None:
                items = pert(node.items)
                total = attempts * node.items.amount + np.sqrt(attempts) * (items - node.items.amount)
                level(node.inner, np.floor(total + rng.random(runs)).astype(np.int64))
            rest, room = counts, 1.0
            for way in node.ways:
                out = counts
                if way.share is not None:
                    out = rng.binomial(rest, min(1.0, way.share.amount / room))
                    rest, room = rest - out, max(room - way.share.amount, 1e-12)
                at[way.target] = at[way.target] + out if way.target in at else out

    level(run.passes.plan.top, np.ones(runs, np.int64))
    return cost

# One month in each of the drawn worlds: as many runs as come there, each with what it costs there on average, and on top of that what varies
# from run to run.
"""Months of a flow in drawn worlds."""

from __future__ import annotations

import numpy as np
from msgspec import Struct

from zeitbuch.core.assumptions.uncertain import draws_of
from zeitbuch.core.assumptions.volume import Volume
from zeitbuch.core.passes.random_draws import Floats

from .distribution import FlowSample
from .flow_figures import Sums

_LARGE = 1e36
_MANY = 1e15
_FEW = 60  # runs of a month that are drawn one by one


class MonthDraws(Struct):
    """What a flow uses in a month: arrays of shape (W,), a world each; of shape (3, W) the ``uses``: model calls, tokens in and out.
    ``expected`` is what its models cost there without what varies from run to run."""

    runs: Floats
    cost: Floats
    expected: Floats
    uses: Floats


def in_all_worlds(value: float, count: int) -> Floats:
    """A number in each of ``count`` worlds, an array of shape (W,)."""
    found: Floats = np.broadcast_to(draws_of(value), count)
    return found


def draw_month(
    sums: Sums,
    sample: FlowSample,
    volume: Volume,
    seed: int,
    count: int,
    months: int = 1,
    drawn: Floats | None = None,
) -> MonthDraws | None:
    """So many months of a flow in each of ``count`` worlds; None where its volume is unknown. ``drawn``: its runs, where others lead to
    them."""
    if volume.runs is None:
        return None
    rng = np.random.Generator(np.random.SFC64(seed + 1))
    runs = draw_runs(in_all_worlds(volume.runs, count) * months, volume, rng) if drawn is None else drawn
    parts = sum_of_runs(runs, sample.relative, sample.variance, rng)
    each = in_all_worlds(sums.spent, count)
    calls = np.maximum(runs + np.sqrt(runs * sample.calls_variance) * rng.standard_normal(count), 0.0)
    uses = [
        in_all_worlds(sums.calls, count) * calls,
        in_all_worlds(sums.input_tokens, count) * parts,
        in_all_worlds(sums.output_tokens, count) * parts,
    ]
    expected = each * in_all_worlds(volume.runs, count) * months
    return MonthDraws(_small(runs), _small(each * parts), _small(expected), _small(np.array(uses)))


def _small(numbers: Floats) -> Floats:
    """The same numbers in half the memory, where they are not beyond its measure."""
    found: Floats = numbers.astype(np.float32) if float(np.max(numbers, initial=0.0)) < _LARGE else numbers
    return found


def draw_runs(expected: Floats, volume: Volume, rng: np.random.Generator) -> Floats:
    """Runs of a month: as many as expected where a clock counts them, else by chance (Poisson)."""
    if volume.evidence == "export":
        return expected
    drawn: Floats = rng.poisson(np.clip(expected, 0.0, _MANY)).astype(float)
    if float(expected.max()) > _MANY:  # beyond that chance is nothing beside doubt
        drawn = np.where(expected > _MANY, expected, drawn)
    return drawn


def sum_of_runs(runs: Floats, relative: Floats, variance: float, rng: np.random.Generator) -> Floats:
    """What so many runs cost together, as parts of what one costs on average: runs drawn one by one where they are few."""
    if not len(relative) or not 0 < float(runs.max()) <= _FEW:
        total: Floats = np.maximum(runs + np.sqrt(runs * variance) * rng.standard_normal(len(runs)), 0.0)
        return total
    counts = np.floor(runs + rng.random(len(runs))).astype(np.int64)
    picks = relative[rng.integers(0, len(relative), int(counts.sum()))]
    return np.bincount(np.repeat(np.arange(len(runs)), counts), weights=picks, minlength=len(runs))

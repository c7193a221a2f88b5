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
FEW = 60  # runs that are drawn one by one
_LEAST_SKEWED, _MOST_SKEWED = 0.01, 3.0  # a sum less skewed is as good as normal


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
    parts = sum_of_runs(runs, sample.relative, sample.variance, sample.skewness, rng)
    each = in_all_worlds(sums.spent, count)
    calls = sum_of_many(runs, sample.calls_variance, sample.calls_skewness, rng.standard_normal(count))
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


def sum_of_runs(runs: Floats, relative: Floats, variance: float, skewness: float, rng: np.random.Generator) -> Floats:
    """What so many runs cost together, as parts of what one costs on average: few runs drawn one by one, of many the sum, with the
    variance and the skewness that it has."""
    few = runs <= FEW if len(relative) else np.zeros(len(runs), bool)
    total = np.zeros(len(runs))
    if few.any():
        total[few] = sums_of_few(runs[few], relative[None], rng)[0]
    if not few.all():
        many = runs[~few]
        total[~few] = sum_of_many(many, variance, skewness, rng.standard_normal(len(many)))
    return total


def sums_of_few(runs: Floats, parts: Floats, rng: np.random.Generator) -> Floats:
    """Sums over so many runs (N,), drawn one by one from R with several numbers each, ``parts`` of shape (K, R); shape (K, N)."""
    counts = np.floor(runs + rng.random(len(runs))).astype(np.int64)
    picks = rng.integers(0, parts.shape[1], int(counts.sum()))
    at = np.repeat(np.arange(len(counts)), counts)
    return np.array([np.bincount(at, weights=part[picks], minlength=len(counts)) for part in parts])


def sum_of_many(runs: Floats, variance: float | Floats, skewness: float | Floats, noise: Floats) -> Floats:
    """Sums of so many independent numbers of mean 1, never below 0, from standard normal ``noise``: of n the mean is n, the variance n times,
    the skewness 1/sqrt(n) of that of one. A skewed sum is taken as gamma distributed, by the cubes of Wilson and Hilferty (1931)."""
    bent = np.clip(skewness / np.sqrt(np.maximum(runs, 1.0)), -_MOST_SKEWED, _MOST_SKEWED)
    if float(np.abs(bent).max(initial=0.0)) > _LEAST_SKEWED:
        safe = np.where(np.abs(bent) < _LEAST_SKEWED, _LEAST_SKEWED, bent)
        noise = (np.maximum(1 + safe / 6 * (noise - safe / 6), 0.0) ** 3 - 1) * 2 / safe
    total: Floats = np.maximum(runs + np.sqrt(runs * variance) * noise, 0.0)
    return total

# Of an estate that is recorded every day nearly all flows are as they were: what one of their runs takes and costs is kept in the user's
# cache, by all that it depends on, and only what all flows make together is worked out anew.
"""Means of an estate from figures of flows that were kept."""

from __future__ import annotations

import hashlib
from decimal import Decimal
from typing import Any

import msgspec
from msgspec import Struct

from zeitbuch.core.assumptions.money import Money
from zeitbuch.core.assumptions.values import Evidence
from zeitbuch.core.assumptions.volume import Volume
from zeitbuch.core.estimate.day_parts import Job, change_days, jobs_of
from zeitbuch.core.estimate.estate import gather_runs, keys_of, month_for, result_of
from zeitbuch.core.estimate.flow_figures import FlowFigures, Sums, lightened, one_run
from zeitbuch.core.estimate.records import EstateEstimate
from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.core.pricing.call_prices import Prices
from zeitbuch.core.pricing.meters import Metered
from zeitbuch.readers.reading.cache import Cache, key_of
from zeitbuch.readers.reading.parallel import state_of_code

from .basis import EstimateBasis
from .estimate import estimate_means
from .session import Session


class _Kept(Struct, array_like=True):
    """The figures of one run of a flow, without what they were made from."""

    cost: Money
    calls_of: dict[str, tuple[float, Evidence]]
    notes: list[str]
    volume: Volume
    metered: Metered | None
    calls: float
    input_tokens: float
    output_tokens: float
    by: dict[Evidence, Decimal]
    exact: bool
    weights: tuple[float, ...] | None


def estimate_recorded(session: Session, estate: Estate, basis: EstimateBasis) -> EstateEstimate:
    """The exact means of an estate, without its steps; flows that are as they were when they were last estimated on this basis are not
    estimated again."""
    if not session.cache or basis.counters:
        return estimate_means(session, estate, basis)
    basis.check_shares(estate)
    when = month_for(basis.assumptions, basis.month)
    prices = Prices(basis.card, when, basis.counters, change_days(basis.assumptions, when))
    cache = Cache(key_of([b"figures", *state_of_code(), _encoded((basis.card, basis.assumptions, when))]))
    runs: dict[str, FlowFigures] = {}
    kept: dict[str, Job] = {}
    for job in jobs_of(keys_of(estate.flows), estate.flows, basis.assumptions, when):
        content = hashlib.blake2b(_encoded(job.flow), digest_size=16).digest()
        held = _read_entry(cache.entry_of(content), job.flow) if job.part is None else None
        if held is not None:
            kept[job.key] = job
            runs[job.key] = held
            continue
        run = one_run(job.flow, basis.assumptions, prices, when, detail=False, part=job.part)
        runs[job.key] = run
        if job.part is None:
            cache.put_entry("", content, None, _encoded(_entry_of(lightened(run, prices))))
    cache.save_cache()
    figures = gather_runs(runs, prices, when, basis.assumptions)
    # A flow that others call on certain days is priced by these days: what was kept cannot be.
    moved = [key for key in kept if figures.weights.get(key) != runs[key].weights and figures.weights]
    if moved:
        for key in moved:
            runs[key] = one_run(kept[key].flow, basis.assumptions, prices, when, detail=False)
        figures = gather_runs(runs, prices, when, basis.assumptions)
    result = result_of(figures)
    session.problems += [*basis.problems, *result.problems]
    return result


def _encoded(value: Any) -> bytes:
    return msgspec.msgpack.encode(value, order="sorted")


def _entry_of(run: FlowFigures) -> _Kept:
    sums = run.sums
    return _Kept(
        run.cost, run.calls_of, run.notes, run.volume, run.metered, float(sums.calls), float(sums.input_tokens),
        float(sums.output_tokens), sums.by, run.exact, run.weights,
    )  # fmt: skip


def _read_entry(entry: bytes | None, flow: Flow) -> FlowFigures | None:
    """The figures of an entry; None without one, or for one that is of no use."""
    if entry is None:
        return None
    try:
        kept = msgspec.msgpack.decode(entry, type=_Kept)
    except (msgspec.MsgspecError, ValueError):
        return None
    return FlowFigures(
        flow, None, None, None, {}, [], kept.cost, kept.calls_of, kept.notes, kept.volume, metered=kept.metered,
        sums=Sums(kept.calls, kept.input_tokens, kept.output_tokens, by=kept.by), exact=kept.exact, weights=kept.weights,
    )  # fmt: skip

# Work on many flows is shared out to all cores by forking: the flows are where they are, only figures travel back.
"""Shares work out to processes."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Any

from zeitbuch.core.model.problems import fail
from zeitbuch.readers.reading.executors import Processes, current_executor
from zeitbuch.readers.reading.worker_processes import Ended, Setting

FEWEST = 400
PIECE = 64  # places that are worked on at once
_work: Callable[[range], Any] | None = None


def _work_on_piece(_: None, places: range) -> Any:
    import gc

    assert _work is not None
    done = _work(places)
    gc.collect(0)  # what a piece left behind in circles, all of it young: the collector does not run by itself here
    return done


def share_work(work: Callable[[range], Any], count: int, at_home: bool = False) -> Iterable[Any]:
    """The results of ``work`` on consecutive ranges of places, in order; in this process when there is little to do or
    processes cannot be forked. ``at_home``: it needs what only this machine has, its files."""
    executor = current_executor()
    pieces = [range(first, min(count, first + PIECE)) for first in range(0, count, PIECE)]
    alone = executor.count_for(count, FEWEST) == 1 or (at_home and executor.far)
    if alone or not (executor.far or hasattr(os, "fork")):
        yield from map(work, pieces)
        return
    far = Setting(_begin_far, (work,), _work_far)
    for made in (
        _share_forked(work, pieces, executor.count) if isinstance(executor, Processes) else executor.share(far, pieces)
    ):
        if isinstance(made, Ended):
            hint = "run it on a machine with more memory, or for fewer flows at a time"
            raise fail("process-ended", f"expected to work on all flows, found that {made}", hint=hint)
        yield made


def _share_forked(work: Callable[[range], Any], pieces: Sequence[range], count: int) -> Iterator[Any]:
    global _work
    import gc

    gc.freeze()  # the flows are not touched by the collector of a child, so that their pages stay shared
    _work = work
    try:
        yield from Processes(count, "fork").share(Setting(_begin_worker, (), _work_on_piece), pieces)
    finally:
        _work = None
        gc.unfreeze()


def _begin_worker() -> None:
    import gc

    gc.disable()


def _begin_far(work: Callable[[range], Any]) -> Callable[[range], Any]:
    return work


def _work_far(work: Callable[[range], Any], places: range) -> Any:
    return work(places)

# Work on many flows is shared out to all cores by forking: the flows are where they are, only figures travel back.
"""Shares work out to processes."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable
from typing import Any

FEWEST = 400
_work: Callable[[range], Any] | None = None


def _work_on_piece(places: range) -> Any:
    assert _work is not None
    return _work(places)


def share_work(work: Callable[[range], Any], count: int) -> Iterable[Any]:
    """The results of ``work`` on consecutive ranges of places, in order; in this process when there is little to do or
    processes cannot be forked."""
    global _work
    cores = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    pieces = [range(first, min(count, first + 64)) for first in range(0, count, 64)]
    if count < FEWEST or cores < 2 or not hasattr(os, "fork"):
        yield from map(work, pieces)
        return
    import gc
    import multiprocessing

    gc.freeze()  # the flows are not touched by the collector of a child, so that their pages stay shared
    _work = work
    try:
        with multiprocessing.get_context("fork").Pool(cores, _begin_worker) as pool:
            yield from pool.imap(_work_on_piece, pieces)
    finally:
        _work = None
        gc.unfreeze()


def _begin_worker() -> None:
    import gc
    import signal

    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the parent is told, and ends its workers
    gc.disable()

# Work on many flows is shared out to all cores by forking: the flows are where they are, only figures travel back.
"""Shares work out to processes."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable
from typing import Any

from zeitbuch.readers.reading.parallel import usable_cores

FEWEST = 400
PIECE = 64  # places that are worked on at once
_work: Callable[[range], Any] | None = None


def _work_on_piece(places: range) -> Any:
    import gc

    assert _work is not None
    done = _work(places)
    gc.collect(0)  # what a piece left behind in circles, all of it young: the collector does not run by itself here
    return done


def share_work(work: Callable[[range], Any], count: int) -> Iterable[Any]:
    """The results of ``work`` on consecutive ranges of places, in order; in this process when there is little to do or
    processes cannot be forked."""
    global _work
    cores = usable_cores()
    pieces = [range(first, min(count, first + PIECE)) for first in range(0, count, PIECE)]
    if count < FEWEST or cores < 2 or not hasattr(os, "fork"):
        yield from map(work, pieces)
        return
    import gc
    import multiprocessing

    from zeitbuch.core.model.problems import fail
    from zeitbuch.readers.reading.worker_processes import Ended, Setting, Workers

    gc.freeze()  # the flows are not touched by the collector of a child, so that their pages stay shared
    _work = work
    try:
        with Workers(multiprocessing.get_context("fork"), cores, Setting(_begin_worker, (), _work_on_piece)) as shared:
            for made in shared.share_pieces(pieces):
                if isinstance(made, Ended):
                    hint = "run it on a machine with more memory, or for fewer flows at a time"
                    raise fail("process-ended", f"expected to work on all flows, found that {made}", hint=hint)
                yield made
    finally:
        _work = None
        gc.unfreeze()


def _begin_worker() -> None:
    import gc

    gc.disable()

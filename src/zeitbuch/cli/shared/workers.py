"""Who does the work that is shared out, as ``--workers`` says."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator

from zeitbuch.core.model.problems import fail
from zeitbuch.readers.reading.executors import Processes, working_with

MOST = 256


@contextlib.contextmanager
def named_workers(named: str) -> Iterator[None]:
    """Work inside is shared out to so many processes, or to the cluster at an address. Raises ZeitbuchError for what is neither."""
    if "://" in named:
        from zeitbuch.readers.reading.dask_workers import DaskWorkers  # its library is an extra

        with DaskWorkers(named) as workers, working_with(workers):
            yield
        return
    if not (named.isascii() and named.isdecimal() and 1 <= int(named) <= MOST):
        message = (
            f"expected --workers with a number from 1 to {MOST}, or the address of a Dask scheduler, found '{named}'"
        )
        raise fail("workers", message, "for example --workers 4, or --workers tcp://localhost:8786")
    with working_with(Processes(int(named))):
        yield

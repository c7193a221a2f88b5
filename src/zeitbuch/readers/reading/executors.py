# Who does the work that is shared out: processes of this machine, or workers of a Dask cluster. Whoever does it, pieces are the same and come
# back in their order, so that the result is the same to the byte.
"""Executors of shared work."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterable, Iterator
from contextvars import ContextVar
from typing import Any, Protocol

from .worker_processes import Setting


class Executor(Protocol):
    """``far`` says whether its workers see neither the memory nor the files of this process."""

    far: bool

    def count_for(self, amount: int, fewest: int) -> int:
        """How many workers are used for so much work; 1 means that it is done here."""

    def share(self, setting: Setting, pieces: Iterable[Any]) -> Iterator[Any]:
        """What workers make of the pieces, in order; ``Ended`` for one over which they die. Raises what a worker raised."""


def usable_cores() -> int:
    """How many cores this process may use: of a machine that is shared, not all."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


class Processes:
    """Processes of this machine: ``count`` of them, or as many as there are cores."""

    far = False

    def __init__(self, count: int = 0, method: str | None = None) -> None:
        self.count, self.method = count, method

    def count_for(self, amount: int, fewest: int) -> int:
        return (self.count or usable_cores()) if amount >= fewest else 1

    def share(self, setting: Setting, pieces: Iterable[Any]) -> Iterator[Any]:
        from multiprocessing import get_context

        from .worker_processes import Workers

        with Workers(get_context(self.method), self.count_for(1, 0), setting) as shared:
            yield from shared.share_pieces(list(pieces))


_current: ContextVar[Executor | None] = ContextVar("executor", default=None)


def current_executor() -> Executor:
    """The executor of this task: processes, unless another was named."""
    return _current.get() or Processes()


@contextlib.contextmanager
def working_with(executor: Executor) -> Iterator[None]:
    """Work that is shared out inside is done by ``executor``."""
    token = _current.set(executor)
    try:
        yield
    finally:
        _current.reset(token)

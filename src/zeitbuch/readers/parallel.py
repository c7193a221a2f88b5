# Reading many files on several cores: each worker reads a piece of the list and hands back small results (rows),
# never flows. Order and messages are the same as on one core.
"""Reading with worker processes."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from typing import Any, TypeVar

from zeitbuch.core.model import Flow
from zeitbuch.core.model_map import ModelRule
from zeitbuch.core.problems import Problem

from .dialect import Dialect
from .limits import Limits
from .reader import Fact, Package, Reader

T = TypeVar("T")
Setting = tuple[list[Dialect], Limits, bool, list[ModelRule], bool]
PIECE = 50
MANY = 150

_worker: tuple[Reader, Callable[[Flow], Any]]


def _begin(setting: Setting, make: Callable[[Flow], Any]) -> None:
    global _worker
    import gc

    gc.set_threshold(200_000, 20, 100)
    _worker = (Reader(*setting), make)


def _piece(inputs: list[str | Problem]) -> tuple[list[Any], list[Problem], list[Fact], list[Package]]:
    reader, make = _worker
    reader.problems, reader.facts, reader.packages = [], [], []
    results = [made for flow in reader.flows_of(inputs) if (made := make(flow)) is not None]
    return results, reader.problems, reader.facts, reader.packages


def mapped(
    reader: Reader, setting: Setting, inputs: list[str | Problem], make: Callable[[Flow], T | None], workers: int = 0
) -> Iterator[tuple[int, list[T]]]:
    """``make`` of every flow, in order, as (inputs done, results) piece by piece; problems go to ``reader``.

    ``workers`` 0 means: as many as there are cores, one for few inputs.
    """
    pieces = [inputs[i : i + PIECE] for i in range(0, len(inputs), PIECE)]
    workers = workers or (min(os.cpu_count() or 1, 8) if len(inputs) >= MANY else 1)
    if workers == 1:
        for at, piece in enumerate(pieces):
            found = [made for flow in reader.flows_of(piece) if (made := make(flow)) is not None]
            yield min(len(inputs), (at + 1) * PIECE), found
    else:
        from multiprocessing import get_context

        with get_context().Pool(workers, _begin, (setting, make)) as pool:
            for at, (results, problems, facts, packages) in enumerate(pool.imap(_piece, pieces)):
                reader.problems += problems
                reader.facts += facts
                reader.packages += packages
                yield min(len(inputs), (at + 1) * PIECE), results
    reader.finish()

# How long work says how far it is, without knowing who listens: a bar on a terminal, or nobody.
"""Progress of long work."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager

Advance = Callable[[int], None]
ShowProgress = Callable[[int, str], AbstractContextManager[Advance]]
"""Called with the number of pieces and a word for the work; gives what is told how many pieces are done."""


@contextmanager
def no_progress(total: int, word: str) -> Iterator[Advance]:
    """Nobody listens."""
    yield lambda done: None

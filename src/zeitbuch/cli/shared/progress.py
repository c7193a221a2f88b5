# Nobody likes a bar for what is done in a moment, and no file wants one at all.
"""The progress bar."""

from __future__ import annotations

import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from zeitbuch.app.progress import Advance, ShowProgress, no_progress

PATIENCE = 1.0  # seconds


class Bar:
    """A bar on stderr that appears after a second of work."""

    def __init__(self, total: int, word: str) -> None:
        self.total, self.word = total, word
        self.begun = time.monotonic()
        self.bar: Any = None
        self.task: Any = None

    def advance(self, done: int) -> None:
        """So many pieces are done."""
        if self.bar is None:
            if time.monotonic() - self.begun < PATIENCE:
                return
            self._start()
        self.bar.update(self.task, completed=done)

    def _start(self) -> None:
        from rich.console import Console  # heavy, and most commands are done before
        from rich.progress import Progress

        self.bar = Progress(console=Console(stderr=True), transient=True)
        self.bar.start()
        self.task = self.bar.add_task(self.word, total=self.total)

    def stop(self) -> None:
        """Takes the bar away."""
        if self.bar is not None:
            self.bar.stop()


@contextmanager
def _bar_on_stderr(total: int, word: str) -> Iterator[Advance]:
    bar = Bar(total, word)
    try:
        yield bar.advance
    finally:
        bar.stop()


def progress_for(quiet: bool) -> ShowProgress:
    """A bar on a terminal, silence elsewhere and where it is wished."""
    return no_progress if quiet or not sys.stderr.isatty() else _bar_on_stderr

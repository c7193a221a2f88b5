# Worker processes without threads, and with nothing shared between them: each has a line of its own to this process. So
# they can be ended at any moment, and one that dies (for want of memory, say) takes nothing but its own piece with it;
# the pools of the standard library wait for ever when a worker dies while it holds the lock of their common queue.
"""Worker processes."""

from __future__ import annotations

import contextlib
import signal
import traceback
from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

if TYPE_CHECKING:
    from multiprocessing.connection import Connection
    from multiprocessing.context import BaseContext
    from multiprocessing.process import BaseProcess

_HELD = ("SIGINT", "SIGALRM")  # an interrupt that was lost comes once more, by an alarm


class Ended(NamedTuple):
    """The answer for a piece whose process ended over it."""

    status: int | None  # as a process's exit code: -9 for the signal 9; None where only that it ended is known

    def __str__(self) -> str:
        if self.status is None:
            return "every worker that took it up ended"
        by = f"signal {-self.status}" if self.status is not None and self.status < 0 else f"status {self.status}"
        return f"the process ended with {by}" + (", as for want of memory" if self.status == -9 else "")


class Setting(NamedTuple):
    """How a worker begins, and what it does with each piece, given what it began with."""

    begin: Callable[..., Any]
    given: tuple[Any, ...]
    work: Callable[[Any, Any], Any]


class Workers:
    """Use in ``with``: all processes are gone at the end, whatever ends the work.

    An interrupt in the midst of starting or ending a process would leave one that nobody knows of: it is held until that
    is done.
    """

    def __init__(self, context: BaseContext, count: int, setting: Setting) -> None:
        self._context = context
        self._count = count
        self._setting = setting
        self._running: dict[Connection, BaseProcess] = {}

    def __enter__(self) -> Workers:
        return self

    def __exit__(self, *_: object) -> None:
        with _interrupts_held():
            for process in self._running.values():
                process.kill()
            for line in list(self._running):
                self._end(line)

    def share_pieces(self, pieces: Sequence[Any]) -> Iterator[Any]:
        """What workers, started for it, make of the pieces, in order; ``Ended`` for one whose process died. Raises what a worker
        raised."""
        from multiprocessing.connection import wait

        waiting = iter(enumerate(pieces))
        busy: dict[Connection, int] = {}
        answers: dict[int, Any] = {}
        for _ in range(min(self._count, len(pieces))):
            self._give_next(self._start(), waiting, busy)
        for place in range(len(pieces)):
            while place not in answers:
                for line in wait(list(busy)):
                    assert not isinstance(line, int)
                    self._take_answer(line, waiting, busy, answers)  # type: ignore[arg-type]
            yield _value_of(answers.pop(place))

    def _take_answer(
        self, line: Connection, waiting: Iterator[tuple[int, Any]], busy: dict[Connection, int], answers: dict[int, Any]
    ) -> None:
        place = busy.pop(line)
        try:
            answers[place] = line.recv()
        except (EOFError, OSError):
            answers[place] = (True, Ended(self._end(line)))
            line = self._start()
        self._give_next(line, waiting, busy)

    def _give_next(self, line: Connection, waiting: Iterator[tuple[int, Any]], busy: dict[Connection, int]) -> None:
        # A worker has one piece at a time: with two, it and we could each wait for the other to take what was sent.
        for place, piece in waiting:
            busy[line] = place
            # One that has died is told when its answer is asked for.
            with contextlib.suppress(BrokenPipeError, ConnectionResetError):
                line.send(piece)
            return

    def _start(self) -> Connection:
        with _interrupts_held():
            ours, theirs = self._context.Pipe()
            # A forked worker has all our ends of lines too: while it kept them, none would learn that we were killed.
            inherited = [ours, *self._running] if self._context.get_start_method() == "fork" else []
            given = (theirs, self._setting, inherited)
            process = self._context.Process(target=_work_on_pieces, args=given, daemon=True)  # type: ignore[attr-defined]
            process.start()
            theirs.close()  # so that the line ends when the worker does
            self._running[ours] = process
        return ours

    def _end(self, line: Connection) -> int | None:
        process = self._running.pop(line)
        line.close()
        process.join()
        return process.exitcode


def _value_of(answer: tuple[bool, Any]) -> Any:
    done, value = answer
    if not done:
        raise value
    return value


def _work_on_pieces(line: Connection, setting: Setting, inherited: Sequence[Connection]) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the parent is told, and ends its workers
    for other in inherited:
        other.close()
    begun, state = False, None
    while True:
        try:
            piece = line.recv()
        except EOFError:
            return
        try:
            if not begun:
                state = setting.begin(*setting.given)
                begun = True
            answer = (True, setting.work(state, piece))
        except Exception as error:
            error.add_note("In a worker process:\n" + traceback.format_exc())
            answer = (False, error)
        try:
            line.send(answer)
        except (BrokenPipeError, ConnectionResetError):
            return
        except Exception as error:  # what cannot be pickled
            line.send((False, RuntimeError(f"{type(error).__name__}: {error}")))


@contextlib.contextmanager
def _interrupts_held() -> Iterator[None]:
    """Raises KeyboardInterrupt at the end when an interrupt came within. In another thread than the main one none can come."""
    came: list[int] = []
    before: dict[int, Any] = {}
    with contextlib.suppress(ValueError):
        for name in _HELD:
            number = getattr(signal, name, None)
            if number is not None:
                before[number] = signal.signal(number, lambda number, _: came.append(number))
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, signal.SIG_DFL if handler is None else handler)
    if came:
        raise KeyboardInterrupt

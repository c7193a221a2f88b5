# The last guard: a fault of ours is one line with what to report, streams that are full, closed or broken are one line or none,
# and nothing that happens while the process ends is printed over it.
"""What becomes of whatever no command caught."""

from __future__ import annotations

import contextlib
import os
import signal
import sys
from collections.abc import Callable
from types import FrameType
from typing import Any

from zeitbuch.version import __version__

from .exit_codes import OK, STOPPED, WRONG

_HAS_ALARM = hasattr(signal, "setitimer")
_MOMENT = 0.01  # seconds
_MOST_WAITS = 300  # so that what hangs while it is imported, as a plug-in may, can be stopped


def guarded(work: Callable[[], int], verbose: bool) -> int:
    """The exit status of the work, whatever it raises."""
    _open_missing_streams()
    _hear_interrupts()
    if sys.stdout is None:
        _say("zeitbuch: error: expected a standard output to write to, found it closed")
        return WRONG
    try:
        status = work()
        sys.stdout.flush()
        return status
    except SystemExit as stop:
        return stop.code if isinstance(stop.code, int) else OK if stop.code is None else WRONG
    except BrokenPipeError:
        return OK  # the reader of our output has gone (`| head`): nothing more to say
    except KeyboardInterrupt:
        _say("stopped")
        return STOPPED
    except OSError as error:
        where = f" ({error.filename})" if error.filename else ""
        _say(f"zeitbuch: error: the system refused a file or stream: {error.strerror or error}{where}")
        return WRONG
    except BaseException as error:
        return _report(error, verbose)


def _report(error: BaseException, verbose: bool) -> int:
    if verbose:
        import traceback

        with contextlib.suppress(Exception):
            for line in "".join(traceback.format_exception(error)).splitlines():
                _say(line)
    reason = f"{type(error).__name__}: {str(error)[:200]}"
    command = " ".join(sys.argv[1:2])
    words = "" if verbose else " (--verbose shows where)"
    with contextlib.suppress(Exception):
        from zeitbuch.core.model.problems import Problem

        message = (
            f"a fault of Zeitbuch {__version__}: `{command}` failed with {reason.splitlines()[0]}{words}; "
            "report it with the export, or the part of it that you may show"
        )
        _say(f"zeitbuch: {Problem('fault', 'error', message)}")
    return WRONG


def _hear_interrupts() -> None:
    """An interrupt that comes while Python tidies up (a generator, a process) would be printed and lost: it is raised once more, a
    moment later, where it can be caught. One that comes while a module is imported waits for the end of that: in the midst of the
    initialisation of a compiled module it can be lost, and what it left half made crashes later."""
    waits = 0

    def heard(_number: int, frame: FrameType | None) -> None:
        nonlocal waits
        if waits < _MOST_WAITS and _within_import(frame):
            waits += 1
            _again_in_a_moment()
            return
        raise KeyboardInterrupt

    def told(unraisable: Any) -> None:
        if isinstance(unraisable.exc_value, KeyboardInterrupt):
            _again_in_a_moment()
        elif not isinstance(unraisable.exc_value, BrokenPipeError):
            sys.__unraisablehook__(unraisable)

    with contextlib.suppress(ValueError):  # not in the main thread
        signal.signal(signal.SIGINT, heard)
        if _HAS_ALARM:
            signal.signal(signal.SIGALRM, heard)
    sys.unraisablehook = told


def _within_import(frame: FrameType | None) -> bool:
    while frame is not None and _HAS_ALARM:
        if frame.f_code.co_filename.startswith("<frozen importlib"):
            return True
        frame = frame.f_back
    return False


def _again_in_a_moment() -> None:
    if _HAS_ALARM:
        signal.setitimer(signal.ITIMER_REAL, _MOMENT)


def _open_missing_streams() -> None:
    """Where standard error is closed, what is said goes nowhere; left closed, its number would be given to the next file."""
    if sys.stderr is None:
        sys.stderr = open(os.devnull, "w")  # noqa: PTH123, SIM115


def _say(text: str) -> None:
    with contextlib.suppress(Exception):
        from zeitbuch.readers.secrets.outlines import plain_text
        from zeitbuch.writers.escape.text import make_inert

        print(make_inert(plain_text(text)), file=sys.stderr)


def end_process(status: int) -> None:
    """Leave with a status; what a stream could not take is not tried again, and nothing is said about it."""
    for stream in (sys.stdout, sys.stderr):
        try:
            if stream is not None:
                stream.flush()
        except (OSError, ValueError):
            # Python would try once more at the end and print over it: the stream leads nowhere from here.
            with contextlib.suppress(OSError, ValueError):
                empty = os.open(os.devnull, os.O_WRONLY)
                os.dup2(empty, stream.fileno())
                os.close(empty)
    sys.exit(status)

# The user's faults are values, not exceptions: readers and checks return all of them, nobody stops at the
# first. ZeitbuchError is only for "cannot go on" and is caught in one place, cli.main.
"""Problems found in input, and the one exception for what cannot go on."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Literal

from msgspec import Struct, structs

from .records import Origin

if TYPE_CHECKING:
    from .message_codes import MessageCode

# A finding is about a flow that was read: it is odd. The input is not at fault, and no command fails over it.
Severity = Literal["error", "finding", "warning", "info"]


class Problem(Struct, frozen=True, omit_defaults=True):
    """One fault of an input, or a finding about a flow. ``message`` says what was expected and found, ``hint`` what to do.

    Each ``code`` of ours is a row of ``messages.py`` and has a heading in docs/messages.md with cause and remedy.
    """

    code: str
    severity: Severity
    message: str
    origin: Origin | None = None
    hint: str = ""

    def __str__(self) -> str:
        where = f"{self.origin}: " if self.origin is not None else ""
        hint = f"\n  -> {self.hint}" if self.hint else ""
        return f"{where}{self.severity}: {self.message} [{self.code}]{hint}"


def place_within(problem: Problem, base: Origin) -> Problem:
    """The problem with the file it belongs to, when it knows only a place in it or nothing."""
    origin = problem.origin
    if origin is None:
        origin = base
    elif not origin.source:
        origin = structs.replace(origin, source=base.source, member=base.member)
    return structs.replace(problem, origin=origin)


class ZeitbuchError(Exception):
    """Cannot go on. Carries the problem that says why."""

    def __init__(self, problem: Problem) -> None:
        super().__init__(str(problem))
        self.problem = problem


class InputFaults(ZeitbuchError):
    """Cannot go on because of several faults of one input: ``problems`` holds all of them, ``problem`` the first."""

    def __init__(self, problems: Sequence[Problem]) -> None:
        super().__init__(problems[0])
        self.problems = tuple(problems)


def fail(code: MessageCode, message: str, hint: str = "", origin: Origin | None = None) -> ZeitbuchError:
    """Shorthand for the exception with an error problem inside."""
    return ZeitbuchError(Problem(code, "error", message, origin, hint))

# From options and the workspace file to the session of the library, and from its problems to stderr and the exit status.
"""The session of a command."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING

from zeitbuch.app.session import Session
from zeitbuch.core.model.problems import Problem, fail
from zeitbuch.core.model.words import plural
from zeitbuch.readers.config import workspace
from zeitbuch.readers.input.limits import Limits, raised
from zeitbuch.writers.escape.text import inert

from .exit_codes import OK, WRONG
from .progress import progress_for

if TYPE_CHECKING:
    from zeitbuch.app.basis import EstimateBasis


def open_session(args: argparse.Namespace) -> Session:
    """The session that the options and the workspace file ask for."""
    found = workspace.load(workspace.find())
    return Session(
        found,
        workspace.dialects(found, list(getattr(args, "dialect", []))),
        limits_of(args),
        book=getattr(args, "book", None) or "",
        cache=not getattr(args, "no_cache", False),
        progress=progress_for(args.quiet),
    )


def limits_of(args: argparse.Namespace) -> Limits:
    """The limits on inputs, raised as the options say."""
    limits = Limits()
    for item in args.limit:
        name, _, value = item.partition("=")
        if not value.isdecimal():
            raise fail("limit-unknown", f"expected --limit NAME=NUMBER, found '{item}'")
        limits = raised(limits, name, int(value))
    return limits


def basis_of(args: argparse.Namespace, session: Session) -> EstimateBasis:
    """Rate card and assumptions that the options or the workspace name."""
    from zeitbuch.app.basis import load_basis  # estimates draw in much that other commands do without

    return load_basis(args.rates, args.assumptions, getattr(args, "month", ""), session.workspace)


def finish(session: Session, args: argparse.Namespace, status: int = OK) -> int:
    """Tells what packages held and what was wrong; the exit status is 2 when there was an error, else ``status``."""
    if not args.quiet:
        for package in session.packages:
            unread = f", {package.unreadable} could not be read" if package.unreadable else ""
            say(
                f"{package.name}: {plural(package.flows, 'flow')} in {plural(package.members, 'member')}, "
                f"{plural(package.others, 'other object')}{unread}"
            )
    problems = told(session.problems, args)
    if not problems:
        return status
    from zeitbuch.readers.input.positions import placed  # only where something is told

    return report(placed(problems, session.limits, session.kept), args, status)


def told(problems: Sequence[Problem], args: argparse.Namespace) -> list[Problem]:
    """The problems that are told: errors always, warnings unless quiet, notices when verbose."""
    return [
        problem
        for problem in problems
        if problem.severity == "error" or (problem.severity == "warning" and not args.quiet) or args.verbose
    ]


def report(problems: Sequence[Problem], args: argparse.Namespace, status: int = OK) -> int:
    """Problems to stderr; the exit status."""
    from zeitbuch.readers.input.secrets import masked_text  # only where something is told

    errors = 0
    for problem in told(problems, args):
        errors += problem.severity == "error"
        print(inert(masked_text(str(problem))), file=sys.stderr)
    if errors:
        print(f"{plural(errors, 'error')}; the rest was processed", file=sys.stderr)
    return WRONG if errors else status


def say(text: str, keep_lines: bool = False) -> None:
    """One line to stderr; ``keep_lines`` keeps its blanks."""
    print(inert(text, keep_lines=keep_lines), file=sys.stderr)

# From options and the workspace file to the session of the library, and from its problems to stderr and the exit status.
"""The session of a command."""

from __future__ import annotations

import argparse
import datetime
import getpass
import re
import sys
from collections import Counter
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from zeitbuch.app.session import Session
from zeitbuch.core.model.problems import Problem, fail
from zeitbuch.core.model.words import count_words
from zeitbuch.readers.config import workspace
from zeitbuch.readers.input.limits import Limits, raise_limit
from zeitbuch.writers.escape.text import make_inert
from zeitbuch.writers.theme.links import link_place

from .environment import named_book, named_limits, workspace_file
from .exit_codes import OK, WRONG
from .progress import progress_for
from .stream import links_wanted

if TYPE_CHECKING:
    from zeitbuch.app.basis import EstimateBasis


def open_session(args: argparse.Namespace, start: str = ".") -> Session:
    """The session that the options and the workspace file ask for, which is looked for from ``start`` upwards."""
    found = workspace.load_workspace(workspace_file(start))
    session = Session(
        found,
        workspace.active_dialects(found, list(getattr(args, "dialect", []))),
        limits_of(args),
        book=getattr(args, "book", None) or named_book(),
        line=getattr(args, "line", None) or "",
        cache=not getattr(args, "no_cache", False),
        progress=progress_for(args.quiet),
    )
    args.session = session  # what it could not read is told whatever ends the command
    return session


def tell_unread(args: argparse.Namespace) -> None:
    """Tells the errors of reading so far, where something else has ended a command: it may have been in what could not be read."""
    session: Session | None = getattr(args, "session", None)
    unread = [problem for problem in session.problems if problem.severity == "error"] if session is not None else []
    if session is not None and unread:
        from zeitbuch.readers.input.positions import place_problems  # only where something is told

        report_problems(place_problems(unread, session.limits, session.kept), args, went_on=False)


def limits_of(args: argparse.Namespace) -> Limits:
    """The limits on inputs, raised as the options say."""
    limits = Limits()
    named = named_limits()
    for place, item in enumerate([*named, *args.limit]):
        name, _, value = item.partition("=")
        if not value.isdecimal():
            where = "in ZEITBUCH_LIMITS NAME=NUMBER" if place < len(named) else "--limit NAME=NUMBER"
            raise fail("limit-unknown", f"expected {where}, found '{item}'", "for example text=5000000")
        limits = raise_limit(limits, name, int(value))
    return limits


def basis_of(args: argparse.Namespace, session: Session) -> EstimateBasis:
    """Rate card and assumptions that the options or the workspace name."""
    from zeitbuch.app.basis import load_basis  # estimates draw in much that other commands do without

    whole = not getattr(args, "source", None)
    return load_basis(
        args.rates, args.assumptions, getattr(args, "month", ""), session.workspace, whole, this_month(),
        getattr(args, "measured", ""),
    )  # fmt: skip


def account_name() -> str:
    """The name of the account, for what is signed."""
    try:
        return getpass.getuser()
    except (OSError, KeyError):
        say("no name of the account is known: name one with --by")
        return "unknown"


def this_moment() -> datetime.datetime:
    """Now, in UTC. The clock is read here and handed down."""
    return datetime.datetime.now(datetime.UTC)


def this_month() -> str:
    """The current month as YYYY-MM. The clock is read here and handed down."""
    return f"{datetime.date.today():%Y-%m}"


def finish_session(session: Session, args: argparse.Namespace, status: int = OK) -> int:
    """Tells what packages held and what was wrong; the exit status is 2 when there was an error, else ``status``."""
    if not args.quiet:
        for package in session.packages:
            unread = f", {package.unreadable} could not be read" if package.unreadable else ""
            say(
                f"{package.name}: {count_words(package.flows, 'flow')} in {count_words(package.members, 'member')}, "
                f"{count_words(package.others, 'other object')}{unread}"
            )
        others = [
            problem
            for problem in session.problems
            if problem.code in ("other-kind", "beside-part") and problem.severity == "info"
        ]
        if others:
            say(_other_kinds(others))
        for problem in session.problems:
            if problem.code == "other-suffix":
                say(f"{problem.origin}: {problem.message}")
    problems = problems_to_tell(session.problems, args)
    if not problems:
        return status
    from zeitbuch.readers.input.positions import place_problems  # only where something is told

    return report_problems(place_problems(problems, session.limits, session.kept), args, status)


def problems_to_tell(problems: Sequence[Problem], args: argparse.Namespace) -> list[Problem]:
    """The problems that are told: errors always, warnings and findings unless quiet, notices when verbose."""
    return [
        problem
        for problem in problems
        if problem.severity == "error"
        or (problem.severity in ("warning", "finding") and not args.quiet)
        or args.verbose
    ]


def report_problems(
    problems: Sequence[Problem], args: argparse.Namespace, status: int = OK, went_on: bool = True
) -> int:
    """Problems to stderr; the exit status. ``went_on`` says whether the command did its work all the same."""
    from zeitbuch.readers.secrets.outlines import plain_text  # only where something is told

    told = problems_to_tell(problems, args)
    errors = sum(problem.severity == "error" for problem in told)
    for words in _folded(told, whole=args.verbose):
        print(_with_link(make_inert(plain_text(words))), file=sys.stderr)
    if errors:
        rest = "the rest was processed" if went_on else "nothing was done"
        print(f"{count_words(errors, 'error')}; {rest}", file=sys.stderr)
    return WRONG if errors else status


_PLACE = re.compile(r"^(\S.*?): (?=(?:error|warning|finding|info)\b)")


def _with_link(words: str) -> str:
    """A message whose place leads to its file, on a terminal that can."""
    if not links_wanted(sys.stderr):
        return words
    return _PLACE.sub(lambda found: f"{link_place(found[1])}: ", words, count=1)


def _other_kinds(problems: Sequence[Problem]) -> str:
    """How many files of a folder hold no flow, and what they are."""
    kinds: dict[str, list[str]] = {}
    for problem in problems:
        kinds.setdefault(problem.message.rpartition("found ")[2], []).append(str(problem.origin))
    parts = [
        f"{words} ({places[0]}{f' and {len(places) - 1} more' if len(places) > 1 else ''})"
        for words, places in kinds.items()
    ]
    hold = "holds" if len(problems) == 1 else "hold"
    return f"{count_words(len(problems), 'file')} {hold} no flow: {', '.join(parts)}"


EXAMPLES = 3  # of many messages with one code


def _folded(problems: Sequence[Problem], whole: bool) -> Iterator[str]:
    """Messages as lines; of many with one code three, and how many more there are, unless the ``whole`` is wanted."""
    count = Counter((problem.severity, problem.code) for problem in problems)
    told: Counter[tuple[str, str]] = Counter()
    for problem in problems:
        key = problem.severity, problem.code
        told[key] += 1
        if whole or told[key] <= EXAMPLES or count[key] <= EXAMPLES + 1:
            yield str(problem)
        elif told[key] == EXAMPLES + 1:
            more = count[key] - EXAMPLES
            yield f"{problem.severity}: {more:,} more of this kind [{problem.code}]\n  -> --verbose lists all"


def say(text: str, keep_lines: bool = False) -> None:
    """One line to stderr; ``keep_lines`` keeps its blanks."""
    print(make_inert(text, keep_lines=keep_lines), file=sys.stderr)

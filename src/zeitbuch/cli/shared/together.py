# An option that changes nothing where it stands is worse than an error: who gave it believes that it holds.
"""Options that go together."""

from __future__ import annotations

from argparse import Namespace
from collections.abc import Collection

from zeitbuch.core.model.problems import fail

OUTPUT = ("--format", "--output")
# How inputs are read, what things cost and what is told on stderr may be said beside whatever is asked for.
_ALWAYS = frozenset({
    "--assumptions", "--book", "--dialect", "--limit", "--measured", "--no-cache", "--quiet", "--rates", "--verbose", "--workers",
})  # fmt: skip


def refuse_idle_options(args: Namespace, beside: str, heeded: Collection[str] = ()) -> None:
    """Raises ZeitbuchError for an option that was given and is not ``heeded`` beside another one, or beside what it is named as."""
    own = beside.partition(" ")[0]
    for option in args.given:
        if option not in heeded and option not in _ALWAYS and option != own:
            raise fail(
                "option",
                f"expected no {option} beside {beside}, found both",
                f"leave one of them out: {beside} would not heed it",
            )

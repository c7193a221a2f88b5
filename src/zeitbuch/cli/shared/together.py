# An option that changes nothing where it stands is worse than an error: who gave it believes that it holds.
"""Options that go together."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from zeitbuch.core.model.problems import fail


def refuse_idle_options(beside: str, given: Mapping[str, bool], heeded: Collection[str]) -> None:
    """Raises ZeitbuchError for an option that is ``given`` and not ``heeded`` beside another one."""
    for option, is_given in given.items():
        if is_given and option not in heeded:
            raise fail(
                "option",
                f"expected no {option} beside {beside}, found both",
                f"leave one of them out: {beside} would not heed it",
            )

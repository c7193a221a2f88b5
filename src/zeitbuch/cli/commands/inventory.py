"""The work of `inventory`."""

from __future__ import annotations

import argparse

from zeitbuch.app.inventory import inventory_result, list_flows
from zeitbuch.cli.options.inventory import PATTERNS, TRIGGERS
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.session import finish_session, open_session
from zeitbuch.cli.shared.stream import show_result
from zeitbuch.core.model.problems import fail
from zeitbuch.core.report.inventory import Filter


def run(args: argparse.Namespace) -> int:
    """The flows that fit, one row each."""
    form = chosen_format(args, "table")
    conditions = Filter(
        ai=args.ai,
        trigger=_known_words(args.trigger, TRIGGERS, "--trigger"),
        owner=args.owner,
        model=args.model,
        pattern=_known_words(args.pattern, PATTERNS, "--pattern"),
        text=args.text,
    )
    session = open_session(args)
    rows = list_flows(session, args.source, conditions, args.sort)
    show_result("table", form, inventory_result(rows), args)
    return finish_session(session, args)


def _known_words(text: str, known: tuple[str, ...], option: str) -> tuple[str, ...]:
    words = tuple(word.strip() for word in text.split(",") if word.strip())
    for word in words:
        if word not in known:
            raise fail("option", f"expected for {option} one of {', '.join(known)}, found '{word}'")
    return words

"""The work of `inventory`."""

from __future__ import annotations

import argparse

from zeitbuch.app.inventory import estate_bill, flows_where, inventory_result, list_flows, order_rows, with_findings
from zeitbuch.cli.options.inventory import PATTERNS, STATES, TRIGGERS
from zeitbuch.cli.shared.formats import chosen_format
from zeitbuch.cli.shared.session import basis_of, finish_session, open_session, this_moment
from zeitbuch.cli.shared.stream import show_result
from zeitbuch.core.model.problems import fail
from zeitbuch.core.report.inventory import Filter
from zeitbuch.writers.outputs.rows import formats_of


def run(args: argparse.Namespace) -> int:
    """The flows that fit, one row each."""
    form = chosen_format(args, "table", "bill")
    conditions = Filter(
        ai=args.ai,
        trigger=_known_words(args.trigger, TRIGGERS, "--trigger"),
        owner=args.owner,
        model=args.model,
        pattern=_known_words(args.pattern, PATTERNS, "--pattern"),
        text=args.text,
        state=_known_words(args.state, STATES, "--state"),
        folder=args.folder,
        id=args.id,
        connection=args.connection,
        service=args.service,
    )
    session = open_session(args)
    if form in formats_of("bill"):
        show_result("bill", form, estate_bill(session, args.source), args)
        return finish_session(session, args)
    today = this_moment().date().isoformat()
    if args.where:
        found = flows_where(
            session, session.estate(args.source), basis_of(args, session), args.where, conditions, today
        )
        rows = order_rows(found, args.sort)
    else:
        rows = list_flows(session, args.source, conditions, args.sort)
    if args.checks:
        rows = with_findings(session, args.source, basis_of(args, session), rows, today)
    show_result("table", form, inventory_result(rows, args.top), args)
    return finish_session(session, args)


def _known_words(text: str, known: tuple[str, ...], option: str) -> tuple[str, ...]:
    words = tuple(word.strip() for word in text.split(",") if word.strip())
    for word in words:
        if word not in known:
            raise fail("option", f"expected for {option} one of {', '.join(known)}, found '{word}'")
    return words

"""What usage logs have of steps, where a command line asks for it."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from typing import TYPE_CHECKING

from zeitbuch.app.session import Session
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Estate, Flow

from .days import day_of
from .session import basis_of

if TYPE_CHECKING:
    from zeitbuch.core.actuals.step_records import FlowActuals


def asked_actuals(
    args: argparse.Namespace, session: Session, estate: Estate, flows: Sequence[Flow], needed: bool = False
) -> dict[str, FlowActuals] | None:
    """What logs have of some flows, by id; None where nobody asks for it. Raises ZeitbuchError for days without logs."""
    if not (needed or args.usage or args.mapping):
        if args.first or args.last:
            raise fail("option", "expected --usage or --mapping beside --from and --to, found neither")
        return None
    from zeitbuch.app.step_usage import actuals_of_flows  # loads NumPy and SciPy
    from zeitbuch.core.actuals.reconcile import Asked

    asked = Asked(first=day_of(args.first, "--from"), last=day_of(args.last, "--to"))
    return actuals_of_flows(session, estate, basis_of(args, session), args.mapping, flows, asked)

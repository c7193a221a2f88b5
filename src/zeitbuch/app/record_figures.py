# What the estate costs when a snapshot is taken: kept with it, since rates and assumptions of that day are not.
"""Figures of a snapshot."""

from __future__ import annotations

from decimal import Decimal
from typing import TYPE_CHECKING

from zeitbuch.core.model.problems import Problem, ZeitbuchError

from .session import Session

if TYPE_CHECKING:
    from zeitbuch.book.records import EstateCosts
    from zeitbuch.core.estimate.records import EstateEstimate
    from zeitbuch.core.model.records import Estate


def estimate_today(session: Session, estate: Estate, month: str, rates: str, assumptions: str) -> EstateEstimate | None:
    """What the estate costs now. A rate card that cannot be read costs the figures, not the snapshot."""
    from .basis import load_basis
    from .kept_figures import estimate_recorded

    try:
        basis = load_basis(rates, assumptions, workspace=session.workspace, today=month)
        return estimate_recorded(session, estate, basis)
    except ZeitbuchError as error:
        problem = error.problem
        said = f"{problem.message}; recorded without figures"
        session.problems.append(Problem(problem.code, "warning", said, problem.origin, problem.hint))
        return None


def figures_of_estate(result: EstateEstimate | None) -> EstateCosts:
    from zeitbuch.book.records import EstateCosts

    if result is None:
        return EstateCosts()
    total = result.total
    month = total.bill_month
    return EstateCosts(
        total.calls_month, plain_amount(month.amount) if result.currency else None, result.currency, ", ".join(month.unknown),
        len(total.unknown_volume),
    )  # fmt: skip


def plain_amount(amount: Decimal) -> str:
    """An amount to the hundred-millionth: what is less is no money."""
    return format(round(amount, 8).normalize(), "f")

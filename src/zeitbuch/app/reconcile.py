# Holding the estimate against what really happened.
"""The use case of `reconcile`."""

from __future__ import annotations

from collections.abc import Sequence

from zeitbuch.core.actuals.reconcile import Asked, reconcile
from zeitbuch.core.actuals.records import Reconciled
from zeitbuch.core.model.records import Estate

from .basis import EstimateBasis
from .session import Session
from .usage import OpenLog, as_log, estimate_side, refuse_unread


def reconcile_usage(
    session: Session, estate: Estate, basis: EstimateBasis, logs: Sequence[OpenLog], asked: Asked
) -> Reconciled:
    """Estimate against logs. Raises ZeitbuchError where no line has a day that is asked for, InputFaults where no log can be read."""
    refuse_unread(logs)
    return reconcile([as_log(one) for one in logs], estimate_side(session, estate, basis), asked)


def gap_words(result: Reconciled, most: float) -> str:
    """Why a gate refuses: the log is further from the estimate than ``most`` (a share) of it; empty where it is not, and where one of
    both is unknown."""
    if result.difference is None or result.estimated is None:
        return "estimate and log do not both say what it costs"
    if not result.estimated:
        return "" if not result.difference else "nothing was estimated"
    gap = abs(float(result.difference / result.estimated))
    return f"the log is {gap:.1%} from the estimate, at most {most:.1%} is allowed" if gap > most else ""

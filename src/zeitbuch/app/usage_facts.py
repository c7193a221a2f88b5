# What usage logs say against definitions, for the checks.
"""Usage logs as facts of checks."""

from __future__ import annotations

from collections.abc import Sequence

from zeitbuch.core.calibrate.definition_gaps import definition_gaps
from zeitbuch.core.checks.records import UsageFact
from zeitbuch.core.model.records import Estate

from .basis import EstimateBasis
from .session import Session
from .usage import as_log, estimate_side, open_logs


def usage_facts(
    session: Session, estate: Estate, basis: EstimateBasis, mappings: Sequence[str]
) -> tuple[UsageFact, ...]:
    """What the logs of mappings (without any those of the workspace) say. Raises ZeitbuchError where none is named, or no line has a day."""
    logs = [as_log(one) for one in open_logs(session, [], mappings)]
    gaps = definition_gaps(logs, estimate_side(session, estate, basis))
    return tuple([UsageFact(one.code, one.flow, one.step, one.message) for one in gaps])

# Assumptions from what really happened, and how well they would have predicted it.
"""The use case of `calibrate`."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from pathlib import Path

from zeitbuch.core.actuals.reconcile import Asked
from zeitbuch.core.calibrate.calibrate import calibrate
from zeitbuch.core.calibrate.check import check_calibration
from zeitbuch.core.calibrate.records import Calibrated, CalibrationCheck, Source
from zeitbuch.core.model.records import Estate

from .basis import EstimateBasis
from .session import Session
from .usage import OpenLog, as_log, estimate_side, refuse_unread


def calibrate_usage(
    session: Session, estate: Estate, basis: EstimateBasis, logs: Sequence[OpenLog], asked: Asked, over_declared: bool
) -> Calibrated:
    """What logs tell of assumptions. Raises ZeitbuchError where no line has a day that is asked for, InputFaults where no log can be read."""
    refuse_unread(logs)
    with session.progress(len(estate.flows), "measuring") as advance:
        return calibrate(
            [as_log(one) for one in logs],
            estimate_side(session, estate, basis),
            asked,
            over_declared,
            sources=_sources_of(logs),
            progress=advance,
        )


def check_usage_fit(
    session: Session, estate: Estate, basis: EstimateBasis, logs: Sequence[OpenLog], asked: Asked, over_declared: bool
) -> CalibrationCheck:
    """The last third of the days predicted from the first two. Raises as ``calibrate_usage``, and where there are too few days."""
    refuse_unread(logs)
    with session.progress(2 * len(estate.flows), "measuring") as advance:
        return check_calibration(
            [as_log(one) for one in logs], estimate_side(session, estate, basis), asked, over_declared, advance
        )


def _sources_of(logs: Sequence[OpenLog]) -> tuple[Source, ...]:
    found = {}
    for one in logs:
        for path in one.found.files:
            found[path] = ""  # a table of an engine goes on: nothing of it can be held against what it was
            if Path(path).is_file():
                with open(path, "rb") as file:  # noqa: PTH123
                    found[path] = hashlib.file_digest(file, "sha256").hexdigest()
    return tuple(Source(path, digest) for path, digest in found.items())

"""Writes the step log of the demo: python benchmarks/demo_steps.py (after demo_usage.py)

What the platform itself keeps of two flows: one line for each step that ran, how long it took, how it ended. There are as many runs on each day as
Breakwater has calls of the first model step; approvals take their time, and some of them all of it.
"""

from __future__ import annotations

import csv
import gzip
import io
from collections import Counter
from collections.abc import Iterator
from datetime import date, datetime, timedelta
from pathlib import Path

import numpy as np

USAGE = Path(__file__).parent.parent / "src" / "zeitbuch" / "demo" / "estate" / "usage"
FIRST, DAYS = date(2026, 10, 1), 61
HEAD = ("started", "flow", "run", "step", "took", "ended")
HOUR = 3600.0
SHIFT_LIMIT = 12 * HOUR  # of the shift leader's approval
REMINDED = 48 * HOUR  # a decision on a claim goes on, and somebody is reminded
Line = tuple[str, float, str]  # step, seconds, how it ended


class Log:
    """Lines of steps, with chance of their own."""

    def __init__(self) -> None:
        self.rng = np.random.default_rng(20261201)
        self.rows: list[tuple[datetime, str, str, str, float, str]] = []

    def took(self, mean: float) -> float:
        """Seconds of a step that a machine does."""
        return round(float(self.rng.gamma(4, mean / 4)), 1)

    def waited(self, median: float) -> float:
        """Seconds until somebody decides."""
        return round(float(self.rng.lognormal(np.log(median), 1.1)))

    def add(self, flow: str, run: str, moment: datetime, lines: Iterator[Line]) -> None:
        for step, seconds, ended in lines:
            self.rows.append((moment, flow, run, step, seconds, ended))
            moment += timedelta(seconds=seconds)

    def swap(self) -> Iterator[Line]:
        """A run of the flow that swaps duties."""
        yield "Rota of the giver", self.took(0.8), "done"
        yield "Rota of the taker", self.took(0.8), "done"
        yield "Check the rest rules", self.took(6.5), "done"
        yield "Allowed?", 0.0, "done"
        if self.rng.random() < 0.38:
            yield "Mail the reason", self.took(1.1), "done"
            yield "Done", 0.0, "done"
            return
        waited = min(SHIFT_LIMIT, self.waited(3.5 * HOUR))
        yield "Shift leader approves", waited, "too late" if waited == SHIFT_LIMIT else "done"
        if waited == SHIFT_LIMIT:
            return
        failed = self.rng.random() < 0.06
        yield "Change the rota", self.took(14.0 if failed else 2.0), "failed" if failed else "done"
        if failed:
            yield "Log the fault", self.took(1.5), "done"
        yield "Tell both", self.took(1.2), "done"

    def claim(self, photos: int) -> Iterator[Line]:
        """A run of the flow that settles claims."""
        for _ in range(photos):
            yield "Describe each photo", self.took(5.0), "done"
        yield "Summarise the claim", self.took(9.0), "done"
        yield "Over 200?", 0.0, "done"
        if self.rng.random() < 0.55:
            waited = self.waited(22 * HOUR)
            if waited >= REMINDED:
                yield "two days passed", 0.0, "done"
                yield "Remind the head of department", self.took(1.0), "done"
            yield "Decide on the claim", waited, "done"
        yield "Write to the fault log", self.took(1.5), "done"
        yield "Settled", 0.0, "done"


def calls_by_day() -> Counter[tuple[date, str]]:
    """Breakwater's calls by day and step."""
    found: Counter[tuple[date, str]] = Counter()
    with (USAGE / "breakwater.csv").open(newline="", encoding="utf-8") as file:
        for row in csv.DictReader(file, delimiter=";"):
            if row["Umgebung"] == "Betrieb":
                found[datetime.strptime(row["Tag"], "%d.%m.%Y").date(), row["Schritt"]] += int(row["Aufrufe"])
    return found


def main() -> None:
    calls, log = calls_by_day(), Log()
    for place in range(DAYS):
        day = FIRST + timedelta(place)
        exported = any(key == day for key, _ in calls)
        swaps = calls[day, "Check the rest rules"] if exported else int(log.rng.poisson(9))
        claims = calls[day, "Summarise the claim"] if exported else int(log.rng.poisson(1))
        photos = calls[day, "Describe each photo"] if exported else 2 * claims
        for number in range(swaps + claims):
            moment = datetime.combine(day, datetime.min.time()) + timedelta(seconds=int(log.rng.integers(0, 86400)))
            if number < swaps:
                log.add("Crew swap approvals", f"C{day:%m%d}-{number:02d}", moment, log.swap())
            else:
                own = photos // claims + (number - swaps < photos % claims)
                log.add("Cabin damage claims", f"D{day:%m%d}-{number:02d}", moment, log.claim(own))
    text = io.StringIO()
    rows = csv.writer(text, lineterminator="\n")
    rows.writerow(HEAD)
    rows.writerows((row[0].strftime("%Y-%m-%d %H:%M:%S"), *row[1:]) for row in sorted(log.rows))
    packed = gzip.compress(text.getvalue().encode(), mtime=0)
    (USAGE / "steps.csv.gz").write_bytes(packed)


if __name__ == "__main__":
    main()

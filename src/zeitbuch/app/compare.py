# Scenarios beside the base, and proposals that save.
"""Comparing scenarios."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from pathlib import Path

from msgspec import Struct, structs

from zeitbuch.core.estimate.comparison import Comparison, compare_options
from zeitbuch.core.estimate.proposals import Proposal, ProposalsResult, all_together, find_proposals
from zeitbuch.core.estimate.scenario_records import Scenario
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Estate, Origin
from zeitbuch.core.report.comparison_tables import comparison_sheet, proposals_sheet
from zeitbuch.core.report.presentations import TableResult
from zeitbuch.readers.config.figures import load_scenario, place_problems

from .basis import EstimateBasis, refuse_errors
from .session import Session


def load_scenarios(paths: Sequence[str], basis: EstimateBasis) -> tuple[list[Scenario], list[Problem]]:
    """Scenarios from files, and what is to be told of them. Raises InputFaults for wrong values in one."""
    loaded = [load_scenario(path, basis.card) for path in paths]
    problems = [problem for _, found in loaded for problem in found]
    refuse_errors(problems)
    return [scenario for scenario, _ in loaded], problems


def compare_scenarios(
    session: Session,
    estate: Estate,
    basis: EstimateBasis,
    scenarios: list[Scenario],
    crossings: bool = True,
    paths: Sequence[str] = (),
) -> Comparison:
    """The base and every scenario, with ``crossings`` the volumes and months at which two of them cross. ``paths`` are the files of
    the scenarios, for messages."""
    left_out = basis.check_shares(estate)
    session.problems += [*basis.problems, *basis.idle_entries(estate), *left_out]
    with session.progress(len(scenarios), "comparing") as advance:
        found = compare_options(
            estate, basis.card, basis.assumptions, scenarios, basis.month, basis.counters, crossings, advance
        )
    session.problems += [_placed(problem, paths) for problem in found.problems]
    return found


def _placed(problem: Problem, paths: Sequence[str]) -> Problem:
    """A problem of one of the scenarios with its file and line."""
    pointer = problem.origin.pointer if problem.origin is not None else ""
    if not paths or not pointer.startswith("/scenarios/"):
        return problem
    place, _, rest = pointer.removeprefix("/scenarios/").partition("/")
    path = paths[int(place)]
    origin = Origin("", f"/{rest}")
    text = Path(path).read_text(encoding="utf-8")
    return place_problems([structs.replace(problem, origin=origin)], path, text)[0]


def comparison_table(found: Comparison, every: bool) -> TableResult:
    """A comparison as a table; ``every`` shows flows without a difference too."""
    return TableResult("comparison", found, lambda full: comparison_sheet(found, every or full))


class Savings(Struct, frozen=True):
    """Proposals that save money, and what all of them save together in a month (None when there are none)."""

    month: str
    currency: str
    proposals: tuple[Proposal, ...]
    everything: Decimal | None


def propose_savings(session: Session, estate: Estate, basis: EstimateBasis) -> Savings:
    """Changes that save money, each estimated by itself, and all together."""
    left_out = basis.check_shares(estate)
    session.problems += [*basis.problems, *basis.idle_entries(estate), *left_out]
    with session.progress(len(estate.flows), "looking") as advance:
        found = find_proposals(estate, basis.card, basis.assumptions, basis.month, basis.counters, advance)
    all_changes = all_together(found)
    everything = None
    if all_changes is not None:
        compared = compare_options(
            estate, basis.card, basis.assumptions, [all_changes], basis.month, basis.counters, crossings=False
        )
        everything = -compared.options[1].difference
    return Savings(basis.month, basis.currency, tuple(found), everything)


def savings_table(savings: Savings) -> TableResult:
    """Proposals as a table."""
    found = list(savings.proposals)
    body = ProposalsResult(savings.month, savings.currency, savings.proposals)
    return TableResult(
        "proposals", body, lambda full: proposals_sheet(found, savings.currency, savings.month, savings.everything)
    )

# The basis of every figure: rate card, assumptions, month, and what counts tokens. Nothing is computed from a file with a
# wrong value in it.
"""Rate card and assumptions of an estimate."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from msgspec import Struct, structs

from zeitbuch.core.assumptions.rules import Assumptions
from zeitbuch.core.model.problems import InputFaults, Problem
from zeitbuch.core.model.records import Estate
from zeitbuch.core.pricing.rate_card import RateCard
from zeitbuch.readers.config.figures import idle_prices, idle_rules, load_assumptions, load_rates, share_problems
from zeitbuch.readers.config.tokenizer_file import load_counters
from zeitbuch.readers.config.workspace import Workspace


class EstimateBasis(Struct, frozen=True):
    """What estimates are based on. ``month``: YYYY-MM, or YYYY for an average month; ``asked`` says that the caller named it.
    ``counters``: tokenizer file as the rate card names it -> what counts tokens with it."""

    card: RateCard | None = None
    assumptions: Assumptions = Assumptions()
    month: str = ""
    asked: bool = False
    counters: dict[str, Callable[[str], float]] = {}
    assumptions_path: str = ""
    rates_path: str = ""
    problems: tuple[Problem, ...] = ()
    whole: bool = True  # whether the flows read are all that the assumptions are for
    whole_rates: bool = True  # and all that the rate card is for
    files: tuple[Assumptions, ...] = ()  # what was declared, and what was measured
    measured_path: str = ""

    @property
    def currency(self) -> str:
        """ISO 4217 code of the rate card; empty without one."""
        return self.card.currency if self.card is not None else ""

    def _by_file(self) -> list[tuple[Assumptions, str]]:
        """Assumptions with the file that they stand in."""
        files = self.files or (self.assumptions,)
        return [
            (one, path) for one, path in zip(files, (self.assumptions_path, self.measured_path), strict=False) if path
        ]

    def check_shares(self, estate: Estate) -> list[Problem]:
        """Warnings for shares of the cases of a decision that leave something out. Raises InputFaults when they sum to more than 1."""
        found: list[Problem] = []
        for assumptions, path in self._by_file():
            found += share_problems(estate.flows, assumptions, path)
        refuse_errors(found)
        return found

    def idle_entries(self, estate: Estate) -> list[Problem]:
        """A warning for every entry of assumptions and rate card that fits nothing."""
        found: list[Problem] = []
        for assumptions, path in self._by_file():
            found += idle_rules(estate.flows, assumptions, path, self.whole)
        if self.card is not None and self.rates_path:
            found += idle_prices(estate.flows, self.card, self.rates_path, self.whole_rates)
        return found


def load_basis(
    rates: str = "",
    assumptions: str = "",
    month: str = "",
    workspace: Workspace | None = None,
    whole: bool = True,
    today: str = "",
    measured: str = "",
) -> EstimateBasis:
    """The basis from files (paths of TOML files; without them the workspace's), for the month that is asked for, else that of the
    workspace, of the assumptions, or that of ``today`` (YYYY-MM, from the caller's clock). Raises ZeitbuchError for a file that
    cannot be read, InputFaults for wrong values in one."""
    named = bool(assumptions), bool(rates)
    if workspace is not None:
        measured = measured or (workspace.path_from_here(workspace.measured) if workspace.measured else "")
        rates = rates or (workspace.path_from_here(workspace.rates) if workspace.rates else "")
        assumptions = assumptions or (workspace.path_from_here(workspace.assumptions) if workspace.assumptions else "")
    card, problems = load_rates(rates) if rates else (None, [])
    assumed, more = load_assumptions(assumptions) if assumptions else (Assumptions(), [])
    counted, found = load_assumptions(measured) if measured else (Assumptions(), [])
    more = [*more, *found]
    refuse_errors([*problems, *more])
    counting = {}
    if card is not None and any(model.tokenizer for model in card.model):
        counting = load_counters(card, str(Path(rates).parent))
    when = month or (workspace.month if workspace is not None else "") or assumed.month or today
    return EstimateBasis(
        card,
        # Of rules that say as much of where they hold the later one does.
        structs.replace(assumed, assume=(*assumed.assume, *counted.assume), season=(*assumed.season, *counted.season))
        if counted.assume or counted.season
        else assumed,
        when,
        bool(month),
        counting,
        assumptions,
        rates,
        (*problems, *more),
        whole or named[0],
        whole or named[1],
        (assumed, counted),
        measured,
    )


def refuse_errors(problems: list[Problem]) -> None:
    """Raises InputFaults with all errors among the problems, when there is one."""
    errors = [problem for problem in problems if problem.severity == "error"]
    if errors:
        raise InputFaults(errors)

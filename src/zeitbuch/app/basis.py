# The basis of every figure: rate card, assumptions, month, and what counts tokens. Nothing is computed from a file with a
# wrong value in it.
"""Rate card and assumptions of an estimate."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from msgspec import Struct

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

    @property
    def currency(self) -> str:
        """ISO 4217 code of the rate card; empty without one."""
        return self.card.currency if self.card is not None else ""

    def check_shares(self, estate: Estate) -> list[Problem]:
        """Warnings for shares of the cases of a decision that leave something out. Raises InputFaults when they sum to more than 1."""
        if not self.assumptions_path:
            return []
        found = share_problems(estate.flows, self.assumptions, self.assumptions_path)
        refuse_errors(found)
        return found

    def idle_entries(self, estate: Estate) -> list[Problem]:
        """A warning for every entry of assumptions and rate card that fits nothing."""
        found: list[Problem] = []
        if self.assumptions_path:
            found += idle_rules(estate.flows, self.assumptions, self.assumptions_path, self.whole)
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
) -> EstimateBasis:
    """The basis from files (paths of TOML files; without them the workspace's), for the month that is asked for, else that of the
    workspace, of the assumptions, or that of ``today`` (YYYY-MM, from the caller's clock). Raises ZeitbuchError for a file that
    cannot be read, InputFaults for wrong values in one."""
    named = bool(assumptions), bool(rates)
    if workspace is not None:
        rates = rates or (workspace.path_from_here(workspace.rates) if workspace.rates else "")
        assumptions = assumptions or (workspace.path_from_here(workspace.assumptions) if workspace.assumptions else "")
    card, problems = load_rates(rates) if rates else (None, [])
    assumed, more = load_assumptions(assumptions) if assumptions else (Assumptions(), [])
    refuse_errors([*problems, *more])
    counting = {}
    if card is not None and any(model.tokenizer for model in card.model):
        counting = load_counters(card, str(Path(rates).parent))
    when = month or (workspace.month if workspace is not None else "") or assumed.month or today
    return EstimateBasis(
        card,
        assumed,
        when,
        bool(month),
        counting,
        assumptions,
        rates,
        (*problems, *more),
        whole or named[0],
        whole or named[1],
    )


def refuse_errors(problems: list[Problem]) -> None:
    """Raises InputFaults with all errors among the problems, when there is one."""
    errors = [problem for problem in problems if problem.severity == "error"]
    if errors:
        raise InputFaults(errors)

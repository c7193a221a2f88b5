# Each sum of the log is placed: at a flow of the estate, its step and model, or aside with the reason. Nothing is dropped.
"""Where the lines of a log belong."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date
from decimal import Decimal

from msgspec import Struct

from zeitbuch.core.model.records import Estate, Flow
from zeitbuch.core.pricing.rate_card import RateCard

from .card_costs import CardCosts
from .grouping import UsageSum
from .matching import Names
from .records import Aside
from .usage_mapping import UsageMapping


class Placed(Struct, frozen=True):
    """A sum of the log with its place in the estate: ids, or the log's own names where nothing is known. ``cost`` in the card's currency."""

    sum: UsageSum
    day: date | None
    flow: str
    step: str
    model: str
    cost: Decimal | None
    aside: Aside
    exchanged: bool = True  # whether its currency could be made the card's
    is_run: bool = False  # whether each of its lines is a run
    log: int = 0  # the place of its log among those that are read together


class Placing:
    """Places the sums of a log in an estate."""

    def __init__(
        self,
        estate: Estate,
        mapping: UsageMapping,
        costs: CardCosts,
        currency: str,
        former: Mapping[str, Sequence[str]] | None = None,
    ) -> None:
        """``currency`` is the one in which costs are told, ``former`` are names that flows once had, by id."""
        self.card = card = costs.card
        self.costs = costs
        self.currency = currency
        self.flows = Names({flow.id: (flow.name,) for flow in estate.flows}, mapping.flows, former)
        self.by_id: dict[str, Flow] = {flow.id: flow for flow in reversed(estate.flows)}
        self.models = Names(_models_of(estate, card), mapping.models)
        self.not_production = {name.casefold() for name in mapping.not_production}
        self.mapping = mapping
        self.number = 0  # the place of the log
        self._steps: dict[str, Names] = {}

    def steps_of(self, flow_id: str) -> Names:
        """The names of a flow's steps."""
        found = self._steps.get(flow_id)
        if found is None:
            flow = self.by_id[flow_id]
            ids = (flow.id, flow.name)
            mapped = {
                log.partition("/")[2]: own.rpartition("/")[2]
                for log, own in self.mapping.steps.items()
                if log.partition("/")[0] in ids or self.flows.match(log.partition("/")[0]).id == flow_id
            }
            found = self._steps[flow_id] = Names({step.id: (step.name,) for step in flow.steps}, mapped)
        return found

    def model_of(self, name: str) -> str:
        """The name that a model of the log has in the estate or on the card; its own where it has none."""
        found = self.models.match(name).id
        rate = self.card.rate_of(name) if not found and self.card is not None and name else None
        return found or (rate.name if rate is not None else name)

    def place(self, one: UsageSum, first: date | None, last: date | None) -> Placed:
        """Where a sum belongs; days before ``first`` or after ``last`` are outside."""
        day = date.fromisoformat(one.day) if one.day is not None else None
        flow = self.flows.match(one.flow) if one.flow else None
        model = self.model_of(one.model)
        aside = self._aside(one, day, first, last, flow is not None and bool(flow.id))
        step = one.step
        if flow is not None and flow.id and step:
            step = self.steps_of(flow.id).match(step).id or step
        cost, exchanged = self._cost_of(one, day)
        if "cost" not in self.mapping.column and day is not None:
            cost = self.costs.cost_of(one, model, day)
        return Placed(
            one,
            day,
            flow.id if flow is not None and flow.id else one.flow,
            step,
            model,
            cost,
            aside,
            exchanged,
            self.mapping.stands_for == "run",
            self.number,
        )

    def _aside(self, one: UsageSum, day: date | None, first: date | None, last: date | None, known: bool) -> Aside:
        if one.passed:
            return "passed"
        if one.doubled:
            return "doubled"
        if day is None:
            return "no-day"
        if (first is not None and day < first) or (last is not None and day > last):
            return "outside"
        if one.environment.casefold() in self.not_production:
            return "not-production"
        if not one.flow:
            return "no-flow"
        return "" if known else "unknown-flow"

    def _cost_of(self, one: UsageSum, day: date | None) -> tuple[Decimal | None, bool]:
        if one.cost is None:
            return None, True
        if one.currency.upper() == self.currency.upper():
            return one.cost, True
        worth = (
            self.card.currency_worth(one.currency.upper(), day) if self.card is not None and day is not None else None
        )
        return (None, False) if worth is None else (one.cost * worth, True)


def _models_of(estate: Estate, card: RateCard | None) -> dict[str, tuple[str, ...]]:
    """The models that flows name and that the card has prices for."""
    found: dict[str, tuple[str, ...]] = {}
    for flow in estate.flows:
        for step in flow.steps:
            if step.model is not None and step.model.name:
                found.setdefault(step.model.name, ())
    for rate in card.model if card is not None else ():
        found.setdefault(rate.name, ())
    return found


def place_all(sums: Sequence[UsageSum], placing: Placing, first: date | None, last: date | None) -> list[Placed]:
    """All sums with their places."""
    return [placing.place(one, first, last) for one in sums]

# Prices of models, with the dates from which they hold, and what hosts meter. Money is decimal; currencies are
# explicit and only mixed through a stated rate of exchange.
"""Rate cards: records and lookup. The checks stand in rate_checks."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from fnmatch import fnmatchcase
from typing import Literal

from msgspec import Struct, field

from zeitbuch.core.model.name_patterns import pattern_fits
from zeitbuch.core.model.records import Flow

Counts = Literal["run", "step", "call", "check", "minute", "megabyte"]


class Price(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Prices from a date on, a field for each row of units.UNIT_ROWS. ``deferred`` is the share that calls in deferred batches cost less."""

    since: date = field(name="from")
    until: date | None = None
    input: Decimal | None = None
    cached: Decimal | None = None
    output: Decimal | None = None
    characters: Decimal | None = None
    second: Decimal | None = None
    video_second: Decimal | None = None
    image: Decimal | None = None
    page: Decimal | None = None
    call: Decimal | None = None
    deferred: Decimal | None = None

    def holds_on(self, on: date) -> bool:
        return self.since <= on and (self.until is None or on < self.until)


class ModelRate(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A model: its name, other names for it (patterns with ``*``), and its prices by date.

    ``family`` names the coefficients of the token estimator, ``tokenizer`` a file in the open tokenizer JSON format for
    exact counts, ``image_tokens`` what an image counts as where it is billed in tokens, ``context`` the most tokens of prompt and answer,
    ``retires`` the first day on which the vendor answers no more, ``replaced_by`` the model to take then.
    """

    name: str
    also: tuple[str, ...] = ()
    vendor: str = ""
    tier: str = ""
    currency: str = ""
    family: str = ""
    tokenizer: str = ""
    image_tokens: float | None = None
    context: int | None = None
    retires: date | None = None
    replaced_by: str = ""
    price: tuple[Price, ...] = ()


class Exchange(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """From a date on, one unit of ``currency`` is worth ``rate`` units of the card's currency."""

    currency: str
    rate: Decimal
    since: date = field(name="from")


class Stair(Struct, frozen=True, forbid_unknown_fields=True):
    """Above so many units in a month, each further one costs ``each``."""

    above: Decimal
    each: Decimal


class MeterPrice(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """From a date on: units included in a month, the price of each further one, and cheaper or dearer stairs."""

    since: date = field(name="from")
    until: date | None = None
    each: Decimal = Decimal(0)
    included: Decimal = Decimal(0)
    stair: tuple[Stair, ...] = ()

    def holds_on(self, on: date) -> bool:
        return self.since <= on and (self.until is None or on < self.until)


class Meter(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What a host counts. ``kinds`` limits steps to some kinds, ``free`` leaves kinds out, ``tiers`` limits model calls
    to models of some tiers; ``unit`` is the size of one unit, rounded up in every run or once a month."""

    name: str
    counts: Counts
    kinds: tuple[str, ...] = ()
    free: tuple[str, ...] = ()
    tiers: tuple[str, ...] = ()
    unit: Decimal = Decimal(1)
    round_up: Literal["no", "run", "month"] = "no"
    currency: str = ""
    price: tuple[MeterPrice, ...] = ()


class Belongs(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Which flows a host runs, from when: patterns of ids, names, folders, environments or formats."""

    flow: str = "*"
    folder: str = "*"
    environment: str = "*"
    format: str = "*"
    since: date | None = field(name="from", default=None)
    until: date | None = None

    def takes_flow(self, flow: Flow, on: date) -> bool:
        if (self.since is not None and on < self.since) or (self.until is not None and on >= self.until):
            return False
        return (
            pattern_fits(self.flow, flow.id, flow.name) and pattern_fits(self.folder, flow.folder)
            and pattern_fits(self.environment, flow.environment) and pattern_fits(self.format, flow.format)
        )  # fmt: skip


class Host(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Where flows run: the meters that apply and a fixed fee per month."""

    name: str
    meters: tuple[str, ...] = ()
    base: Decimal = Decimal(0)
    currency: str = ""
    flows: tuple[Belongs, ...] = ()


class RateCard(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A rate card: prices of models and meters of hosts, in one currency (ISO 4217) unless said."""

    currency: str
    rate_card: Literal[1] = 1
    exchange: tuple[Exchange, ...] = ()
    model: tuple[ModelRate, ...] = ()
    meter: tuple[Meter, ...] = ()
    host: tuple[Host, ...] = ()

    def rate_of(self, name: str) -> ModelRate | None:
        """The model of that name: the exact name first, then the first pattern that fits."""
        for model in self.model:
            if model.name == name or name in model.also:
                return model
        return next(
            (model_rate for model_rate in self.model if any(fnmatchcase(name, part) for part in model_rate.also)), None
        )

    def price_of(self, name: str, on: date) -> Price | None:
        """The price of a model on a day in its own currency, or None when the card has none."""
        model = self.rate_of(name)
        if model is None:
            return None
        valid = [price for price in model.price if price.holds_on(on)]
        return max(valid, key=lambda p: p.since) if valid else None

    def currency_worth(self, currency: str, on: date) -> Decimal | None:
        """What one unit of a currency is worth in the card's; None when no rate is stated for the day."""
        if currency in ("", self.currency):
            return Decimal(1)
        valid = [exchange for exchange in self.exchange if exchange.currency == currency and exchange.since <= on]
        return max(valid, key=lambda e: e.since).rate if valid else None

    def host_of(self, flow: Flow, on: date) -> Host | None:
        """The host of a flow on a day: the one whose matching entry begins last; among equals the later host."""
        best: tuple[date, Host] | None = None
        for host in self.host:
            for part in host.flows:
                if part.takes_flow(flow, on):
                    since = part.since or date.min
                    if best is None or since >= best[0]:
                        best = (since, host)
        return best[1] if best is not None else None

    def change_dates(self) -> list[date]:
        """All dates on which something of the card changes."""
        found = {price.since for model_rate in self.model for price in model_rate.price} | {
            price.until for model_rate in self.model for price in model_rate.price if price.until
        }
        found |= {meter_price.since for meter in self.meter for meter_price in meter.price} | {
            exchange.since for exchange in self.exchange
        }
        self._dates_of_hosts(found)
        return sorted(found)

    def _dates_of_hosts(self, found: set[date]) -> None:
        found |= {
            day
            for host in self.host
            for second in host.flows
            for day in (second.since, second.until)
            if day is not None
        }

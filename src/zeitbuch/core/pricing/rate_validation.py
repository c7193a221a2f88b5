# What is checked when a rate card is loaded. Every fault names its place, so that the reader of the file can add the
# line; nothing is computed from a card with an error.
"""Checks of rate cards."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import date
from itertools import pairwise
from typing import get_args

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Origin, StepKind
from zeitbuch.core.pricing.rate_card import Host, Meter, ModelRate

from .rate_bounds import numbers_beyond
from .rate_card import MeterPrice, Price, RateCard
from .token_table import FAMILIES

_KINDS = frozenset(get_args(StepKind))


def rate_problems(card: RateCard) -> list[Problem]:
    """Wrong currencies, prices, dates, names and references of a card."""
    found: list[Problem] = []
    _check_currency(card.currency, "/currency", found)
    _check_exchange(card, found)
    _check_models(card, found)
    _check_meters(card, found)
    _check_hosts(card, found)
    for at, message in numbers_beyond(card):
        _add_problem(found, "rate-negative", message, at)
    return found


def _add_problem(found: list[Problem], code: str, message: str, at: str, hint: str = "") -> None:
    found.append(Problem(code, "error", message, Origin("", at), hint))


def _check_currency(code: str, at: str, found: list[Problem]) -> None:
    if len(code) != 3 or not code.isalpha() or not code.isupper() or not code.isascii():
        _add_problem(
            found, "rate-currency", f"expected a currency code of three capital letters (ISO 4217), found '{code}'", at
        )


def _check_exchange(card: RateCard, found: list[Problem]) -> None:
    seen: set[tuple[str, date]] = set()
    for index, exchange in enumerate(card.exchange):
        place = f"/exchange/{index}"
        _check_currency(exchange.currency, f"{place}/currency", found)
        if (exchange.currency, exchange.since) in seen:
            _add_problem(
                found,
                "rate-twice",
                f"expected one rate a date for {exchange.currency}, found {exchange.since} twice",
                place,
            )
        seen.add((exchange.currency, exchange.since))


def _check_exchange_known(card: RateCard, currency: str, dates: Iterable[date], at: str, found: list[Problem]) -> None:
    """A rate of exchange for every date from which something in another currency holds."""
    if currency in ("", card.currency):
        return
    _check_currency(currency, at, found)
    for since in sorted(set(dates)):
        if card.currency_worth(currency, since) is None:
            hint = f'add [[exchange]] with currency = "{currency}", a date of {since} or before, and rate = what 1 {currency} is in {card.currency}'
            _add_problem(
                found, "rate-exchange", f"expected a rate of exchange for {currency} on {since}, found none", at, hint
            )
            return


def _check_spans(prices: Sequence[Price | MeterPrice], at: str, found: list[Problem]) -> None:
    """Dates of prices: each from once, until after from, no day with two prices."""
    order = sorted(range(len(prices)), key=lambda i: prices[i].since)
    for first, second in pairwise(order):
        if prices[first].since == prices[second].since:
            _add_problem(
                found,
                "rate-twice",
                f"expected one price a date, found {prices[second].since} twice",
                f"{at}/{second}/from",
            )
        elif (until := prices[first].until) is not None and until > prices[second].since:
            message = (
                f"expected prices that do not overlap, found one until {until} and one from {prices[second].since}"
            )
            _add_problem(
                found,
                "rate-overlap",
                message,
                f"{at}/{second}/from",
                "leave `until` out: a later price takes over by itself",
            )
    for index, part in enumerate(prices):
        if part.until is not None and part.until <= part.since:
            _add_problem(
                found,
                "rate-dates",
                f"expected `until` after `from` ({part.since}), found {part.until}",
                f"{at}/{index}/until",
            )


def _check_models(card: RateCard, found: list[Problem]) -> None:
    names: set[str] = set()
    for index, model in enumerate(card.model):
        place = f"/model/{index}"
        if model.name in names:
            _add_problem(found, "rate-twice", f"expected model '{model.name}' once, found it again", f"{place}/name")
        names.add(model.name)
        _check_model_words(found, model, place)
        _check_spans(model.price, f"{place}/price", found)
        _check_exchange_known(card, model.currency, (price.since for price in model.price), f"{place}/currency", found)


def _check_model_words(found: list[Problem], model: ModelRate, place: str) -> None:
    if not model.price:
        message = f"expected a [[model.price]] for '{model.name}', found none"
        found.append(Problem("rate-empty", "warning", message, Origin("", place), "its cost is shown as unknown"))
    if model.family and model.family not in FAMILIES:
        known = ", ".join(name for name in FAMILIES if name)
        _add_problem(
            found,
            "token-family",
            f"expected a tokenizer family ({known}), found '{model.family}'",
            f"{place}/family",
        )


def _check_meters(card: RateCard, found: list[Problem]) -> None:
    names: set[str] = set()
    for index, meter in enumerate(card.meter):
        place = f"/meter/{index}"
        if meter.name in names:
            _add_problem(found, "rate-twice", f"expected meter '{meter.name}' once, found it again", f"{place}/name")
        names.add(meter.name)
        _check_kinds(found, meter, place)
        _check_tiers(card, found, meter, place)
        _check_spans(meter.price, f"{place}/price", found)
        _check_exchange_known(
            card, meter.currency, (meter_price.since for meter_price in meter.price), f"{place}/currency", found
        )
        _check_stairs(found, meter, place)


def _check_kinds(found: list[Problem], meter: Meter, place: str) -> None:
    for key in ("kinds", "free"):
        for kind in getattr(meter, key):
            if kind not in _KINDS:
                words = ", ".join(sorted(_KINDS))
                _add_problem(
                    found,
                    "rate-kind",
                    f"expected a kind of step, found '{kind}'",
                    f"{place}/{key}",
                    f"the kinds are {words}",
                )
            elif meter.counts != "step":
                _add_problem(
                    found,
                    "rate-kind",
                    f'expected `{key}` with counts = "step" only, found counts = "{meter.counts}"',
                    f"{place}/{key}",
                )


def _check_tiers(card: RateCard, found: list[Problem], meter: Meter, place: str) -> None:
    if meter.tiers and meter.counts != "call":
        _add_problem(
            found,
            "rate-kind",
            f'expected `tiers` with counts = "call" only, found counts = "{meter.counts}"',
            f"{place}/tiers",
        )
    tiers = {model_rate.tier for model_rate in card.model}
    for tier in meter.tiers:
        if tier not in tiers:
            _add_problem(
                found,
                "rate-reference",
                f"expected the tier of a model, found '{tier}'",
                f"{place}/tiers",
                "give a model that tier",
            )


def _check_stairs(found: list[Problem], meter: Meter, place: str) -> None:
    for k, price in enumerate(meter.price):
        before = price.included
        if not all(part.is_finite() for part in (before, *(stair.above for stair in price.stair))):
            continue  # told by itself, and in no order
        for size, stair in enumerate(price.stair):
            if stair.above < before or (size and stair.above == before):
                message = (
                    f"expected stairs that rise, the first not below what is included ({before}), found {stair.above}"
                )
                _add_problem(found, "rate-stairs", message, f"{place}/price/{k}/stair/{size}/above")
            before = stair.above


def _check_hosts(card: RateCard, found: list[Problem]) -> None:
    meters = {meter.name for meter in card.meter}
    names: set[str] = set()
    for index, host in enumerate(card.host):
        place = f"/host/{index}"
        if host.name in names:
            _add_problem(found, "rate-twice", f"expected host '{host.name}' once, found it again", f"{place}/name")
        names.add(host.name)
        _check_host_meters(found, host, meters, place)
        _check_exchange_known(
            card,
            host.currency,
            [second.since for second in host.flows if second.since is not None],
            f"{place}/currency",
            found,
        )
        for key, part in enumerate(host.flows):
            if part.since is not None and part.until is not None and part.until <= part.since:
                _add_problem(
                    found,
                    "rate-dates",
                    f"expected `until` after `from` ({part.since}), found {part.until}",
                    f"{place}/flows/{key}/until",
                )


def _check_host_meters(found: list[Problem], host: Host, meters: set[str], place: str) -> None:
    for name in host.meters:
        if name not in meters:
            words = ", ".join(sorted(meters)) or "(none)"
            _add_problem(
                found,
                "rate-reference",
                f"expected the name of a meter ({words}), found '{name}'",
                f"{place}/meters",
            )

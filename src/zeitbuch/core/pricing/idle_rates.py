# An entry of a rate card that fits nothing changes nothing, and a model that the card calls otherwise has no price: both are mostly a
# name with a letter too many.
"""Entries of a rate card that fit nothing, and models that it may call otherwise."""

from __future__ import annotations

import difflib
from collections import Counter
from collections.abc import Sequence
from datetime import date

from zeitbuch.core.model.name_patterns import is_plain
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Flow, Origin
from zeitbuch.core.model.words import count_words

from .rate_card import Belongs, RateCard


def idle_rates(flows: Sequence[Flow], card: RateCard, whole: bool = True) -> list[Problem]:
    """A warning for every ``[[host.flows]]`` that fits no flow on any day (``whole``: the flows are all there are), and for every
    model used that has no price while the card knows one of a similar name."""
    return [*(_idle_hosts(flows, card) if whole else []), *_near_models(flows, card)]


def _idle_hosts(flows: Sequence[Flow], card: RateCard) -> list[Problem]:
    found: list[Problem] = []
    for place, host in enumerate(card.host):
        for number, part in enumerate(host.flows):
            if any(part.takes_flow(flow, part.since or date.min) for flow in flows):
                continue
            wanted = [f"{key} '{value}'" for key, value in _named(part)]
            message = f"expected a flow that runs on host '{host.name}' ({', '.join(wanted) or 'any'}), found none"
            at = Origin("", f"/host/{place}/flows/{number}")
            found.append(Problem("rate-nothing", "warning", message, at, _nearest_flow(part, flows)))
    return found


def _named(part: Belongs) -> list[tuple[str, str]]:
    pairs = (("flow", part.flow), ("folder", part.folder), ("environment", part.environment), ("format", part.format))
    return [(key, value) for key, value in pairs if value != "*"]


def _nearest_flow(part: Belongs, flows: Sequence[Flow]) -> str:
    """The nearest name of what the entry names."""
    for key, pattern in _named(part):
        names = {flow.title if key == "flow" else getattr(flow, key) for flow in flows} - {""}
        near = difflib.get_close_matches(pattern, names, 1, 0.5) if is_plain(pattern) else []
        if near and near[0] != pattern:
            return f"did you mean {key} '{near[0]}'?"
    return "correct it, or remove the entry: it changes nothing"


def _near_models(flows: Sequence[Flow], card: RateCard) -> list[Problem]:
    used = Counter(
        step.model.name for flow in flows for step in flow.steps if step.model is not None and step.model.name
    )
    places = {name: place for place, model in enumerate(card.model) for name in (model.name, *model.also)}
    found: list[Problem] = []
    for name, steps in used.items():
        near = [] if card.rate_of(name) is not None else difflib.get_close_matches(name, places, 1, 0.75)
        if near:
            message = f"expected a price for the model '{name}' of {count_words(steps, 'step')}, found none"
            hint = f"if it is '{near[0]}', write {name!r} under `also` of that model"
            found.append(Problem("rate-nothing", "warning", message, Origin("", f"/model/{places[near[0]]}"), hint))
    return found

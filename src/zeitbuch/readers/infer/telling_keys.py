# Triggers of which no field says what they are, but one has a clock and another a web address: then the fields that they have tell it.
"""Which keys tell records apart."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from .clocks import CRON
from .vocabulary import guess_kinds

_MOST_KEYS = 40  # of records: such with more are no small records of which one field tells what they are
_TOLD = 0.5  # of the records must have one of the keys


def telling_keys(records: Sequence[dict[str, Any]], common: frozenset[str]) -> tuple[str, ...]:
    """The keys of which every record has one at most, and most have one; of keys that always come together the one that says most.
    ``common`` are keys that say nothing. Empty where no two keys share the records among them."""
    holders = _holders(records, common)
    some = [key for key, places in holders.items() if len(places) < len(records)]
    if len(some) < 2 or len(holders) > _MOST_KEYS:
        return ()
    said = {key: _says(key, [records[place][key] for place in holders[key]]) for key in some}
    rated = [
        (covered, -len(keys), sum(said[key] for key in keys), keys) for keys, covered in _apart(some, holders, said)
    ]
    covered, _, _, best = max(rated, key=lambda one: one[:3])
    return best if len(best) > 1 and covered >= _TOLD * len(records) else ()


def _holders(records: Sequence[dict[str, Any]], common: frozenset[str]) -> dict[str, set[int]]:
    """Which records have each key."""
    holders: dict[str, set[int]] = {}
    for place, record in enumerate(records):
        for key, value in record.items():
            if value is not None and key not in common:
                holders.setdefault(key, set()).add(place)
    return holders


def _apart(some: list[str], holders: dict[str, set[int]], said: dict[str, float]) -> list[tuple[tuple[str, ...], int]]:
    """Sets of keys that never come together, one begun with each key, with the number of records that have one of them."""
    ranked = sorted(some, key=lambda key: (-len(holders[key]), -said[key]))
    found = []
    for first in ranked:
        keys, covered = [first], set(holders[first])
        for key in ranked:
            if key != first and covered.isdisjoint(holders[key]):
                keys.append(key)
                covered |= holders[key]
        found.append((tuple(keys), len(covered)))
    return found


def _says(key: str, values: list[Any]) -> float:
    """How much a key says of what starts a flow: its words, or a clock text."""
    if any(type(value) is str and CRON.match(value.strip()) for value in values):
        return 10.0
    return max((guess.score for guess in guess_kinds(key) if guess.trigger is not None), default=0.0)

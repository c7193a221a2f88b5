"""The accounts and endpoints that flows use."""

from __future__ import annotations

import re
from collections.abc import Iterator

from zeitbuch.core.checks.estate_view import EstateView
from zeitbuch.core.model.named_connections import named_connections
from zeitbuch.core.model.records import Connection, Step, Trigger
from zeitbuch.core.model.sheet import Column

from .records import Catalogue, Entry, Uses

_UNCLEAR = re.compile(
    r"(?i)^(?:\w{1,3}|.*\b(?:test|new|copy|old|tmp|temp|untitled|default|account|connection|credential)s?\b.*|.*[a-z][ _-]?\d{1,2})$"
)
_TEST = re.compile(r"(?i)\b(?:test|testing|sandbox|staging|dev|localhost|demo|example\.com)\b")


def _rows(estate: EstateView) -> Iterator[Entry]:
    found: dict[tuple[str, str, str], tuple[Connection, Uses, set[str], list[int]]] = {}
    for flow in estate.flows:
        for one in named_connections(flow):
            key = ((one.name or one.id).casefold(), one.service.casefold(), one.account.casefold())
            _, uses, effects, steps = found.setdefault(key, (one, Uses(), set(), [0]))
            parts: list[Step | Trigger] = [*flow.triggers, *flow.steps]
            for part in parts:
                if part.connection == one.id and part.enabled:
                    uses.add(flow, part)
                    steps[0] += 1
                    effects.add(part.effect if isinstance(part, Step) else "read")
    names: dict[tuple[str, str], list[str]] = {}
    for one, _, _, _ in found.values():
        if one.account:
            names.setdefault((one.service.casefold(), one.account.casefold()), []).append(one.name or one.id)
    for one, uses, effects, steps in found.values():
        yield {
            "name": one.name or one.id, "service": one.service, "account": one.account, "steps": steps[0], "effects": sorted(effects - {"none"}),
            **uses.columns, "marks": list(_marks(estate, one, uses, names)),
        }  # fmt: skip


def _marks(estate: EstateView, one: Connection, uses: Uses, names: dict[tuple[str, str], list[str]]) -> Iterator[str]:
    others = [
        name for name in names.get((one.service.casefold(), one.account.casefold()), ()) if name != (one.name or one.id)
    ]
    if others:
        yield f"same account as {', '.join(others)}"
    if _UNCLEAR.match(one.name or one.id):
        yield "unclear name"
    if _TEST.search(f"{one.account} {one.service}") or (_TEST.search(one.name) and uses.flows):
        yield "test endpoint"
    if not uses.flows:
        yield "unused"
    if one.account.casefold() in estate.people:
        yield "account of a person"


CATALOGUE = Catalogue(
    "connections", "accounts and endpoints", (
        Column("name", "connection"), Column("service", "service"), Column("account", "account", rank=1), Column("steps", "steps", "count"),
        Column("effects", "what through it", "list", rank=1),
    ), _rows,
)  # fmt: skip

# What is asked (a thing, and what happens to it), and what follows flow by flow.
"""Records of impacts."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from zeitbuch.core.report.what_if import Odds

Happening = Literal["gone", "slower", "dearer"]
Ending = Literal["gone", "never starts", "stops", "may stop", "goes on", "waits longer", "costs more"]
# The worst first; a flow that ends in one of the first four may fail those that call it.
ENDINGS: tuple[Ending, ...] = ("gone", "never starts", "stops", "may stop", "goes on", "waits longer", "costs more")
BROKEN: frozenset[Ending] = frozenset({"gone", "stops", "may stop"})


class Touched(Struct, frozen=True):
    """A step that needs the thing: how sure that is, and why."""

    id: str
    name: str
    why: str
    odds: Odds = "certain"


class FlowImpact(Struct, frozen=True):
    """What follows for one flow. ``through`` names the flow by which it is reached; ``steps`` need the thing, ``lost`` is no longer done
    (``perhaps_lost`` perhaps not), ``dead`` are triggers that fire no more; figures are those of a month today, None for unknown;
    ``unpriced`` is what is not in the cost, for it has no price."""

    id: str
    name: str
    ending: Ending
    odds: Odds
    through: str = ""
    steps: tuple[Touched, ...] = ()
    dead: tuple[str, ...] = ()
    lost: tuple[str, ...] = ()
    perhaps_lost: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    owners: tuple[str, ...] = ()
    runs: float | None = None
    calls: float | None = None
    cost: float | None = None
    dearer: float | None = None
    unpriced: tuple[str, ...] = ()


class ImpactResult(Struct, frozen=True):
    """`impact --format json`: the flows, the worst first, sums over those whose figures are known, whom to tell, and why nothing was
    found; ``unknown`` are flows without a volume, ``unpriced`` is what has no price: neither is in the sums. ``dearer`` is None where it is not
    asked, and where nobody knows."""

    thing: str
    happening: Happening
    flows: tuple[FlowImpact, ...]
    month: str = ""
    currency: str = ""
    runs: float = 0.0
    calls: float = 0.0
    cost: float = 0.0
    dearer: float | None = None
    unknown: tuple[str, ...] = ()
    tell: tuple[str, ...] = ()
    nothing: str = ""
    unpriced: tuple[str, ...] = ()

# What a comparison says, as records: changes with their evidence, flows with their changes, the estate.
"""Records of changes."""

from __future__ import annotations

import datetime
from typing import Literal

from msgspec import Struct

from zeitbuch.core.assumptions.money import Money
from zeitbuch.core.model.canonical import SAME, Ids
from zeitbuch.core.model.records import Origin

from .change_types import Concern
from .edits import Edit
from .word_diff import Word


class ChangeFigures(Struct, frozen=True):
    """What a run takes and costs (with the flows it calls), and a month; None where it is not known."""

    passes: float
    calls: float
    tokens: float
    run: Money | None
    month: Money | None


class Change(Struct, frozen=True):
    """One change of meaning. ``where`` names the step; ``words`` marks changed words of a text; ``remarks`` say what is
    to be seen in them. ``edits`` are what was done, complete; a change that only follows from others has none.
    ``share`` is what this change alone adds: the new version less the new version without it. ``confidence`` is that of
    the matching of the step (1 where its id held). ``concern`` is what it concerns, by which changes are ordered."""

    type: str
    topic: str
    weight: Literal["risk", "meaning", "note"]
    where: str
    old: str = ""
    new: str = ""
    words: tuple[Word, ...] = ()
    remarks: tuple[str, ...] = ()
    step: str = ""
    confidence: float = 1.0
    old_origin: Origin | None = None
    new_origin: Origin | None = None
    edits: tuple[Edit, ...] = ()
    share: ChangeFigures | None = None
    concern: Concern = "rest"


class FlowChanges(Struct, frozen=True):
    """The changes of one flow; ``status`` is added, removed or changed. ``matched`` says what paired the two versions, ``rival`` what
    else the old one could be, ``renumbered`` whether its new id is one of several that its file gave anew,
    ``renewed`` how many steps have other ids; ``ids`` how the old version's ids are spelled in the new one, where its edits
    set out from. ``before`` and ``after`` are figures of the two versions, ``interaction`` what the changes do together
    beyond the sum of their shares."""

    id: str
    name: str
    status: Literal["added", "removed", "changed"]
    changes: tuple[Change, ...]
    old_id: str = ""
    matched: Literal["id", "name", "content"] = "id"
    confidence: float = 1.0
    rival: str = ""
    renumbered: bool = False
    renewed: int = 0
    ids: Ids = SAME
    before: ChangeFigures | None = None
    after: ChangeFigures | None = None
    interaction: ChangeFigures | None = None
    old_origin: Origin | None = None
    new_origin: Origin | None = None


class UnreadableFlow(Struct, frozen=True):
    """A flow whose file could not be read in one of the versions (``missing_in``): nobody can say whether it changed. ``origin`` is where
    the other version has it."""

    id: str
    name: str
    missing_in: Literal["old", "new"]
    origin: Origin | None = None


class FirstChange(Struct, frozen=True):
    """One of the changes to look at first, with its flow."""

    flow: str
    id: str
    change: Change


class MonthSide(Struct, frozen=True):
    """A month of one version: calls, cost (None without a rate card) and what of it meters and fees are, how many flows of unknown volume
    are not in it, and how many of ``known`` volume are."""

    calls: float
    cost: Money | None
    unknown_volume: int
    known: int = 0
    metered: Money = Money()


class AffectedFlow(Struct, frozen=True):
    """A flow that did not change itself and whose month did: it calls a flow that changed, or is called by one."""

    id: str
    name: str
    calls_before: float | None
    calls_after: float | None
    before: Money | None
    after: Money | None


class MonthTotals(Struct, frozen=True):
    """One month before and after: of the whole ``estate`` with meters and fees, or of the flows that ``changed`` and those around them
    (models only)."""

    scope: Literal["estate", "changed"]
    month: str
    before: MonthSide
    after: MonthSide
    affected: tuple[AffectedFlow, ...] = ()


class AllowedDifference(Struct, frozen=True):
    """Changes that one entry of a mapping allows, and how many."""

    reason: str
    by: str
    changes: int
    until: datetime.date | None = None


class EstateChanges(Struct, frozen=True):
    """All flows that differ in meaning, and how many do not; ``renumbered``: how many flows have other ids, by files that gave several
    anew; ``unreadable``: flows that could not be compared; ``totals``: the month before and after; ``first``: the changes to look at
    first; ``left_out``: how many changes a selection of topics does not show; ``unread_old`` and ``unread_new`` the
    files that could not be read, whatever stood in them; ``allowed``: differences that a mapping allows, left out of ``flows``."""

    flows: tuple[FlowChanges, ...]
    unchanged: int
    renumbered: dict[str, int] = {}
    unreadable: tuple[UnreadableFlow, ...] = ()
    totals: MonthTotals | None = None
    first: tuple[FirstChange, ...] = ()
    left_out: int = 0
    unread_old: tuple[str, ...] = ()
    unread_new: tuple[str, ...] = ()
    allowed: tuple[AllowedDifference, ...] = ()

# What a check is, and what it finds. A check says how it looks and what it misses: an owner decides by that whether to believe it.
"""Records of checks and findings."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING, Literal, NamedTuple

from msgspec import Struct

from zeitbuch.core.model.records import Origin, Step, Trigger

if TYPE_CHECKING:
    from .views import FlowView

Severity = Literal["high", "medium", "low"]
SEVERITIES: tuple[Severity, ...] = ("high", "medium", "low")


class Hit(NamedTuple):
    """One find of a check: the step or trigger (None: the flow), the sentence with the values, and whether it is certain."""

    part: Step | Trigger | None
    message: str
    certain: bool = True


class Check(NamedTuple):
    """One row: the code, how bad it is, what is wrong, why that matters, how it is found, what it misses, what to do; and what looks for it
    in one flow."""

    code: str
    severity: Severity
    title: str
    why: str
    how: str
    misses: str
    remedy: str
    find: Callable[[FlowView], Iterable[Hit]]


class CheckFinding(Struct, frozen=True):
    """One finding. ``certain`` False is a suspicion; ``state`` is that of the flow: drafts and flows that are off never fail a gate;
    ``accepted`` says by whom and why it is let be."""

    code: str
    severity: Severity
    certain: bool
    flow: str
    flow_id: str
    state: str
    message: str
    remedy: str
    step: str = ""
    step_id: str = ""
    origin: Origin | None = None
    month: str | None = None
    accepted: str = ""

    @property
    def counts(self) -> bool:
        """Whether a gate looks at it."""
        return not self.accepted and self.state not in ("off", "draft")

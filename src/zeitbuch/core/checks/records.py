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
Over = Literal["flow", "step", "trigger", "input", "prompt"]  # what a rule looks at
SEVERITIES: tuple[Severity, ...] = ("high", "medium", "low")


class Limits(Struct, frozen=True, forbid_unknown_fields=True):
    """From where on a check tells: ``[check_limits]`` of the workspace. ``temperature`` of a model whose answer is a label; ``poll_every``:
    seconds between two checks of a polling trigger; ``finds_one_in``: a poll that finds something once in so many checks is too often;
    ``same_minute``: flows with model calls that start together; ``stale_days`` without a change; ``retired_days`` ahead of the day on which a
    model ends."""

    temperature: float = 0.5
    poll_every: float = 60.0
    finds_one_in: float = 200.0
    same_minute: int = 4
    stale_days: int = 540
    retired_days: int = 90


class Person(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A person of the house: ``[[person]]`` of the workspace, or a row of the CSV file that it names. ``left``: is no more there."""

    name: str
    mail: str = ""
    team: str = ""
    left: bool = False


class Rule(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """``[[rule]]`` of the workspace: what is not to be. ``where`` is a condition over each flow, step, trigger, input or prompt
    (``over``); ``sentence`` may hold facts in braces."""

    code: str
    where: str
    sentence: str
    reason: str
    over: Over = "step"
    severity: Severity = "medium"
    remedy: str = ""


class Copied(Struct, frozen=True):
    """What was left in a copied branch or flow as it was, found before the checks: the flow and step (ids), and the sentence."""

    flow: str
    step: str
    message: str


class UsageFact(Struct, frozen=True):
    """What a usage log says against a flow: the code of the check, the step (empty: the whole flow), and what to say."""

    code: str
    flow: str
    step: str
    message: str


class EstateFacts(Struct, frozen=True):
    """What is known around the flows: the day (YYYY-MM-DD), the people, the limits, what was left in copies, flows alike, checks of a poll that find
    nothing for one that does (flow id/trigger id), and the operations that each dialect counts as its own (format -> beginnings); what usage logs say."""

    today: str = ""
    people: tuple[Person, ...] = ()
    limits: Limits = Limits()
    copied: tuple[Copied, ...] = ()
    alike: tuple[Copied, ...] = ()
    idle_polls: dict[str, float] = {}
    own_operations: dict[str, tuple[str, ...]] = {}
    usage: tuple[UsageFact, ...] = ()


class Hit(NamedTuple):
    """One find of a check: the step or trigger (None: the flow), the sentence with the values, and whether it is certain."""

    part: Step | Trigger | None
    message: str
    certain: bool = True


class Check(NamedTuple):
    """One row: the code, how bad it is, what is wrong, why that matters, how it is found, what it misses, what to do; and what looks for it
    in one flow; only in flows with steps of one of ``kinds``, where it names any."""

    code: str
    severity: Severity
    title: str
    why: str
    how: str
    misses: str
    remedy: str
    find: Callable[[FlowView], Iterable[Hit]]
    kinds: frozenset[str] = frozenset()
    of_estate: bool = False  # whether it holds every flow against all others


class CheckAbout(Struct, frozen=True):
    """What is said of a check beside its findings."""

    code: str
    severity: Severity
    title: str
    why: str
    how: str
    misses: str
    remedy: str


class CheckFinding(Struct, frozen=True):
    """One finding. ``certain`` False is a suspicion; ``state`` is that of the flow: drafts and flows that are off never fail a gate;
    ``month`` is what the flow costs in a month, where that is known, and ``unpriced`` what is not in it; ``accepted`` says by whom and why it is let be."""

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
    month: float | None = None
    unpriced: tuple[str, ...] = ()
    accepted: str = ""

    @property
    def counts(self) -> bool:
        """Whether a gate looks at it."""
        return not self.accepted and self.state not in ("off", "draft")

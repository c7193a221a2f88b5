# How the steps of a flow hang together, as a dialect may say it: records, objects from step to targets, pointers within steps,
# and what the ways out mean.
# ruff: noqa: RUF012  (msgspec copies what stands as a default)
"""Rules for links."""

from __future__ import annotations

from typing import Literal

from msgspec import field

from zeitbuch.core.model.records import Outcome

from .reshape_rules import DottedPath, Paths, QueryText, Rule

WayRole = Literal["next", "case", "error", "attach", "body"]  # the roles of links, and the way into the body of a loop


class LinkRule(Rule, frozen=True):
    """Where the links are (``at``, JSONPath from the flow); ends are step ids, or names with ``by = "name"``."""

    at: QueryText
    source: Paths = field(name="from")
    target: Paths = field(name="to")
    outlet: Paths = ""
    label: Paths = ""
    condition: Paths = ""
    by: Literal["id", "name"] = "id"
    role: WayRole | None = None
    reversed: bool = False
    noise: list[DottedPath] = []


class AdjacencyRule(Rule, frozen=True):
    """Links as an object: step (id or name) -> targets, or -> outlet -> targets. ``at`` is JSONPath from the flow;
    ``target`` is the dotted path within a target that is an object."""

    at: QueryText
    target: Paths = ""
    role: WayRole | None = None
    reversed: bool = False


class PointerRule(Rule, frozen=True):
    """A pointer within a step to the steps that follow: ``at`` is the dotted path to a name, a list, an object from
    outlet to these, or objects of which ``target`` is the name and ``via`` the outlet.

    ``outlet`` is the outlet of pointers that name none; ``label`` and ``condition`` are paths within an object.
    ``role`` overrules what the outlet means; with ``reversed`` the pointer leads from the named step to this one. With ``meets`` it names
    no step, but what steps have at that path: a topic that one gives out and others listen to leads from the one to the others.
    """

    at: DottedPath
    target: Paths = ""
    via: Paths = ""
    outlet: str = ""
    label: Paths = ""
    condition: Paths = ""
    meets: Paths = ""
    role: WayRole | None = None
    reversed: bool = False


class OrderRule(Rule, frozen=True):
    """Steps that run in the order in which they stand, where nothing else links them: all steps of one group (``groups``, JSONPath
    from the flow) before all of the next, and those of one group side by side; without groups one step after the other. Where steps are
    numbered, ``by`` is where in a step its number is: those with the same run side by side."""

    groups: QueryText | None = None
    by: DottedPath = ""


class OutletRule(Rule, frozen=True):
    """What an outlet means: ``match`` is a pattern with ``*``; ``reversed`` turns the arrow round. What lies behind a ``body`` is in the
    loop that it leaves, unless other ways of the loop lead there too."""

    match: str
    role: WayRole
    label: str | None = None
    after: list[Outcome] = []
    reversed: bool = False


class PredecessorRule(Rule, frozen=True):
    """Steps that name the steps before them: ``at`` is the dotted path within a step to a name, a list of names or
    objects (``source`` and ``outcome`` are paths within one), or an object from name to outcomes.

    ``outcomes`` says what the builder's words for outcomes mean; a name without outcome continues after success. ``condition`` is where an
    object says when the step runs after the one that it names.
    """

    at: DottedPath
    source: Paths = ""
    outcome: Paths = ""
    outcomes: dict[str, Outcome] = {}
    condition: Paths = ""

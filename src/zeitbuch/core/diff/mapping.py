# Two lines of one estate (dev and prod) differ on purpose: connections, hosts, ids, accounts, values of variables. A mapping says what is
# the same under another name; the older side is spelled as the newer one before anything is compared. What still differs and is meant to
# is allowed for a reason, by somebody, until a day.
"""What is called otherwise on purpose, and differences that are allowed."""

from __future__ import annotations

import datetime
import fnmatch
from typing import Literal

from msgspec import Struct, structs

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Origin

from .change_types import CHANGE_KINDS
from .consequence import first_changes
from .records import AllowedDifference, Change, EstateChanges, FlowChanges

What = Literal["connection", "account", "host", "flow", "variable", "text"]


class Same(Struct, frozen=True, forbid_unknown_fields=True):
    """What is the same under several ``names``, one for each line. A connection or flow is named by id or name; of a ``variable`` the
    values may differ; a ``text`` is any part of an input, prompt, condition or name."""

    what: What
    names: tuple[str, ...]


class Allowed(Struct, frozen=True, forbid_unknown_fields=True):
    """A difference that is meant: changes of a ``type`` in a ``flow`` (id or name) at a place (``where``), each a pattern with ``*``;
    ``until`` is the first day on which it is allowed no more."""

    reason: str
    by: str
    flow: str = "*"
    type: str = "*"
    where: str = "*"
    until: datetime.date | None = None


class Mapping(Struct, frozen=True, forbid_unknown_fields=True):
    """A mapping file."""

    same: tuple[Same, ...] = ()
    allowed: tuple[Allowed, ...] = ()


def mapping_problems(mapping: Mapping) -> list[Problem]:
    """What is wrong in a mapping by itself."""
    found: list[Problem] = []
    for place, row in enumerate(mapping.same):
        least = 1 if row.what == "variable" else 2
        if len(row.names) < least or "" in row.names[: least - 1] or len(set(row.names)) < len(row.names):
            found.append(
                Problem(
                    "mapping-names",
                    "error",
                    f"expected {least} different names or more for a {row.what}, found {list(row.names)}",
                    Origin("", f"/same/{place}/names"),
                    'names = ["mail-dev", "mail-prod"]',
                )
            )
    for place, rule in enumerate(mapping.allowed):
        if not rule.reason.strip() or not rule.by.strip():
            found.append(
                Problem(
                    "mapping-reason",
                    "error",
                    "expected a reason and the name of who allowed it, found one of them empty",
                    Origin("", f"/allowed/{place}"),
                    'reason = "...", by = "Maren Dahl"',
                )
            )
        if "*" not in rule.type and rule.type not in CHANGE_KINDS:
            known = ", ".join(kind for kind in CHANGE_KINDS if set(kind.split()) & set(rule.type.split()))
            found.append(
                Problem(
                    "mapping-type",
                    "error",
                    f"expected a type of changes, found '{rule.type}'",
                    Origin("", f"/allowed/{place}/type"),
                    f"did you mean one of: {known}" if known else "`zeitbuch diff` shows the types before the colon",
                )
            )
    return found


def idle_entries(mapping: Mapping, used: list[int], allowed: list[int], today: str) -> list[Problem]:
    """Entries that fitted nothing, and those that are out of date."""
    found = []
    for place, (row, count) in enumerate(zip(mapping.same, used, strict=True)):
        if not count:
            names = " and ".join(f"'{name}'" for name in row.names)
            found.append(
                Problem(
                    "mapping-idle",
                    "warning",
                    f"expected a {row.what} that is called {names}, found none",
                    Origin("", f"/same/{place}"),
                    "is a name misspelled, or the entry no longer needed?",
                )
            )
    for place, (rule, count) in enumerate(zip(mapping.allowed, allowed, strict=True)):
        over = rule.until is not None and rule.until.isoformat() <= today
        if over or not count:
            words = (
                f"expected an entry that holds, found that it was allowed until {rule.until} by {rule.by}"
                if over
                else f"expected a difference that this allows ({rule.reason}), found none"
            )
            hint = "renew it or take it out" if over else "is it no longer needed?"
            found.append(Problem("mapping-idle", "warning", words, Origin("", f"/allowed/{place}"), hint))
    return found


def without_allowed(found: EstateChanges, mapping: Mapping, today: str) -> tuple[EstateChanges, list[int]]:
    """The changes without those that are allowed, and how many changes each entry fitted."""
    counts = [0] * len(mapping.allowed)
    flows = []
    for flow in found.flows:
        kept = []
        for change in flow.changes:
            place = _entry_for(mapping, flow, change, today)
            if place is None:
                kept.append(change)
            else:
                counts[place] += 1
        if kept:
            flows.append(structs.replace(flow, changes=tuple(kept)))
    told = tuple(
        AllowedDifference(rule.reason, rule.by, count, rule.until)
        for rule, count in zip(mapping.allowed, counts, strict=True)
        if count
    )
    same = len(found.flows) - len(flows)
    flows_left = tuple(flows)
    return (
        structs.replace(
            found, flows=flows_left, unchanged=found.unchanged + same, first=first_changes(flows_left), allowed=told
        ),
        counts,
    )


def _entry_for(mapping: Mapping, flow: FlowChanges, change: Change, today: str) -> int | None:
    for place, rule in enumerate(mapping.allowed):
        names = any(
            fnmatch.fnmatchcase(name.casefold(), rule.flow.casefold()) for name in (flow.id, flow.name, flow.old_id)
        )
        kinds = fnmatch.fnmatchcase(change.type, rule.type)
        if rule.until is not None and rule.until.isoformat() <= today:
            continue
        if names and kinds and fnmatch.fnmatchcase(change.where.casefold(), rule.where.casefold()):
            return place
    return None

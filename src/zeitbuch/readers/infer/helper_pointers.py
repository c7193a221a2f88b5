# Lists in agents that name their helpers, beside link records: what an agent names and no link leads to is there for the agent.
"""Finding the pointers of agents to their helpers."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zeitbuch.readers.dialects.link_rules import PointerRule
from zeitbuch.readers.dialects.paths import as_text

from .fields import Column
from .kinds import HELPERS
from .survey import STAR, dotted_path, is_scalar

if TYPE_CHECKING:
    from .evidence import Evidence

_MOST = 0.8  # of the names that agents have at a path


def helper_pointers(e: Evidence) -> list[PointerRule]:
    """The rules for the fields in which agents name helpers."""
    if all(name.isdecimal() for table in e.identity.ids for name in table):
        return []  # any number might be an id
    columns, _ = e.columns_for("agent")
    found = [path for path, column in columns.items() if _name_helpers(e, column)]
    bare = [path[:-1] if path[-1] == STAR else path for path in found]
    return [PointerRule(at=dotted_path(path), role="attach", reversed=True) for path in bare]


def _name_helpers(e: Evidence, column: Column) -> bool:
    """Whether most values of a field name steps that help, or that no link leads to."""
    texts = [as_text(value) for value in column.values if is_scalar(value)]
    hints: list[bool] = []
    for number, sample in enumerate(e.found.samples):
        table = {**e.identity.names[number], **e.identity.ids[number]}
        ends = {end for join in e.joins.pairs if join.sample == number for end in (join.source, join.target)}
        named = [value for value in texts if value in table]
        hints += [e.kind_of(sample.steps[table[value]].raw) in HELPERS or value not in ends for value in named]
    return bool(texts) and len(hints) >= _MOST * len(texts) and sum(hints) >= _MOST * len(hints)

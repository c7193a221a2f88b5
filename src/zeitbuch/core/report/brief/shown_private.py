# What leaves the house for an auditor: pages and files as they are, but for the names, addresses and numbers that texts of the flows hold. Those who answer for
# a flow are named: that is what an audit is about.
"""Results with placeholders for whom and what the flows' texts name."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any, TypeVar

from msgspec import Struct, structs

from zeitbuch.core.estimate.records import StepEstimate
from zeitbuch.core.model.records import Connection, Flow, Link, Origin, Record, Schedule, Secret, Step, Trigger

from .masked_flow import all_texts, words_in_small_letters
from .placeholders import KINDS, Placeholders, plain_thing
from .private_words import LEAST_DIGITS, NameLists, PrivateKind

T = TypeVar("T")
# Words of ours, and what leads from one flow to another or to its pages, reviews and figures: they stay, whatever they look like.
_KEYS = frozenset(
    "flow_id calls fingerprint key keys kind role effect by owners approvers code severity file evidence created changed month currency digest modality decided format".split()
)
_PERSONAL: frozenset[PrivateKind] = frozenset(KINDS) - {"host"}
# Ids of parts are looked through like texts, wherever they stand, so that one is still found from another; ids of flows stay.
_PARTS: tuple[type[Struct], ...] = (Step, Trigger, Connection, Link, StepEstimate)
_RAW = frozenset({"value", "unread", "around", "noise"})  # values of the export as they are
_AS_THEY_ARE: tuple[type[Struct], ...] = (Schedule, Secret, Origin)


def placeholders_for(flows: Sequence[Flow], lists: NameLists, people: Iterable[str]) -> Placeholders:
    """Knows whatever is personal in the texts of flows; ``people`` of the house, owners and approvers, ids and hosts stay."""
    made = Placeholders(lists, words_in_small_letters(flows))
    answering = {plain_thing(name) for name in people}
    for flow in flows:
        answering |= {plain_thing(name) for name in flow.owners}
        for step in flow.steps:
            if step.approval is not None:
                answering |= {plain_thing(name) for name in step.approval.approvers}
        answering |= {
            plain_thing(key)
            for key in [flow.id, *[step.id for step in flow.steps], *[trigger.id for trigger in flow.triggers]]
        }
    made.learn(all_texts(flows), _PERSONAL, answering)
    return made


def with_placeholders(made: Placeholders, value: T) -> T:
    """A record, or any value of texts, with placeholders in its texts; keys that lead from one record to another stay."""
    return _changed(made, value, False)  # type: ignore[no-any-return]


def _changed(made: Placeholders, value: Any, raw: bool) -> Any:
    """``raw``: the value is one of the export, whose long numbers may be somebody's; those of our records are counts."""
    if isinstance(value, str):
        return made.again(value)
    if raw and isinstance(value, int) and not isinstance(value, bool):
        return made.of(str(value), "number") if len(str(abs(value))) >= LEAST_DIGITS else value
    if isinstance(value, _AS_THEY_ARE):
        return value
    if isinstance(value, Struct):
        return _changed_record(made, value, raw)
    if isinstance(value, tuple) and hasattr(value, "_fields"):
        return type(value)(*[_changed(made, item, raw) for item in value])
    if isinstance(value, list | tuple):
        return type(value)([_changed(made, item, raw) for item in value])
    if isinstance(value, dict):
        return {key: _changed(made, item, raw) for key, item in value.items()}
    return value


def _changed_record(made: Placeholders, record: Struct, raw: bool) -> Struct:
    changed = {}
    for name in record.__struct_fields__:
        old = getattr(record, name)
        kept = name in _KEYS or (name == "id" and not isinstance(record, _PARTS))
        new = old if kept else _changed(made, old, raw or (name in _RAW and isinstance(record, Record)))
        if new is not old:
            changed[name] = new
    return structs.replace(record, **changed) if changed else record

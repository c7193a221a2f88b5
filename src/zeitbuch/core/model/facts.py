# What a step, trigger or flow states beside what it is and does: one row a fact, with its words. Maps, explanations, documents and
# comparisons all take them from here, so that none of them can say it otherwise or leave it out.
"""Typed facts in words."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any, NamedTuple

from msgspec import Struct

from .records import Approval, Pause, Pieces, Step
from .references import replace_refs
from .words import join_words, span_words

Names = dict[str, str]


class FactRow(NamedTuple):
    """One fact: the field of the record, its title in lists, what a change of it is called, and its value in words (empty where
    nothing is stated)."""

    field: str
    title: str
    change: str
    words: Callable[[Any, Names], str]


_SILENCE = {
    "approves": "no answer counts as yes", "rejects": "no answer counts as no",
    "escalates": "without an answer others are asked", "waits": "without an answer the run waits on",
}  # fmt: skip


def _approval_words(step: Step, names: Names) -> str:
    said: Approval | None = step.approval
    if said is None:
        return ""
    people = replace_refs(join_words(list(said.approvers), "or"), said.refs, names)
    parts = [f"asks {people}" if people else "asks a person"]
    parts += [f"{said.needed} must agree"] if said.needed is not None else []
    parts += [_SILENCE[said.silence]] if said.silence else []
    return "; ".join(parts)


def pause_words(step: Step, names: Names) -> str:
    """'for 2 hours', 'until the tide turns'; empty where nothing is stated."""
    said: Pause | None = step.pause
    if said is None:
        return ""
    parts = [f"for {span_words(said.seconds)}"] if said.seconds is not None else []
    parts += [f"until {replace_refs(said.until, said.refs, names)}"] if said.until else []
    return ", or ".join(parts)


def _pieces_words(step: Step, _names: Names) -> str:
    said: Pieces | None = step.pieces
    if said is None:
        return ""
    unit = said.unit or "units not stated"
    parts = [f"pieces of {said.size:,} {unit}"] if said.size is not None else []
    parts += [f"{said.overlap:,} {unit} shared by neighbours"] if said.overlap is not None else []
    parts += [f"{said.batch:,} embedded with one call"] if said.batch is not None else []
    parts += (
        [f"the {said.count:,} nearest found" if said.count != 1 else "the nearest found"]
        if said.count is not None
        else []
    )
    parts += [f"in {said.store}"] if said.store else []
    return ", ".join(parts)


ITEM_FAULTS = {"stop": "an item that fails ends the loop", "continue": "an item that fails does not end the loop"}


def _item_fault_words(step: Step, _names: Names) -> str:
    said = step.repeat.on_item_fault if step.repeat is not None else None
    return ITEM_FAULTS[said] if said is not None else ""


_LIMITS = {"try": "is for each try", "all": "is for all tries together"}

STEP_FACTS: tuple[FactRow, ...] = (
    FactRow("approval", "Who agrees", "approval", _approval_words),
    FactRow("pause", "Waits", "wait", pause_words),
    FactRow("timeout", "Time limit", "timeout", lambda s, _: span_words(s.timeout) if s.timeout is not None else ""),
    FactRow("timeout_for", "The time limit", "timeout", lambda s, _: _LIMITS.get(s.timeout_for or "", "")),
    FactRow("sample", "Sample data", "sample data", lambda s, _: "data kept for trying stand in for its result" if s.sample else ""),
    FactRow("pieces", "Pieces", "pieces", _pieces_words),
    FactRow("repeat", "When an item fails", "loop", _item_fault_words),
    FactRow("concurrency", "At a time", "concurrency", lambda s, _: f"at most {s.concurrency:,}" if s.concurrency is not None else ""),
    FactRow("ordered", "Order", "order", lambda s, _: "its ways run one after the other, in this order" if s.ordered else ""),
    FactRow(
        "awaits", "The called flow", "called flow",
        lambda s, _: "" if s.awaits is None else "it waits for its end" if s.awaits else "it does not wait for its end",
    ),
    FactRow("about", "About", "note", lambda s, names: join_words([names.get(key, key) for key in s.about])),
)  # fmt: skip

TRIGGER_FACTS: tuple[FactRow, ...] = (
    FactRow("authentication", "Callers show who they are by", "authentication", lambda t, _: t.authentication),
)

FLOW_FACTS: tuple[FactRow, ...] = (
    FactRow("fault_handlers", "When a run fails", "fault handler",
            lambda f, _: f"starts {join_words(list(f.fault_handlers))}" if f.fault_handlers else ""),
    FactRow("concurrency", "Runs at a time", "concurrency", lambda f, _: f"at most {f.concurrency:,}" if f.concurrency is not None else ""),
)  # fmt: skip


def facts_of(record: Struct, rows: Iterable[FactRow], names: Names) -> list[tuple[str, str]]:
    """(title, words) of what a record states."""
    return [(row.title, words) for row in rows if (words := row.words(record, names))]


def input_role_words(role: str | None, secured: bool) -> str:
    """'recipient, kept out of logs'."""
    return ", ".join(filter(None, [role or "", "kept out of logs" if secured else ""]))

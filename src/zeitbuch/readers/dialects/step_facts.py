# The typed facts of a step, from the paths that a dialect names for them: each is read only where the dialect names a path.
"""Approvals, waits, pieces and the like of one step."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, get_args

from zeitbuch.core.model.records import Approval, Effect, ItemFault, JoinMode, Pause, Pieces, Silence, TimeoutFor
from zeitbuch.readers.input import clock_texts

from .paths import Getter, as_count, as_flag, as_text, as_whole_number
from .placeholders import Placeholders
from .rules import Fields, KindRule

Reader = Callable[[dict[str, Any], Placeholders, dict[str, str]], Any]
_PIECES = {"size": "piece_size", "overlap": "piece_overlap", "batch": "piece_batch", "count": "pieces_found"}
FACT_PATHS = (
    "wait", "wait_until", "approvers", "approvals_needed", "silence", *_PIECES.values(), "store", "concurrency", "ordered",
    "awaits", "on_item_fault", "join", "about", "timeout_for", "sample",
)  # fmt: skip


# Methods that a client does not ask to change anything with are safe (RFC 9110, section 9.2.1); others may change what they name.
METHOD_EFFECTS: dict[str, Effect] = {
    "GET": "read", "HEAD": "read", "OPTIONS": "read", "TRACE": "read", "POST": "write", "PUT": "write", "PATCH": "write", "DELETE": "delete",
}  # fmt: skip
# Fields whose words a table of the dialect translates; without one the words of the model itself are known.
WORDS_OF = {"timeout_for": "timeouts_for", "silence": "silences", "on_item_fault": "on_item_faults", "join": "joins"}
_OWN_WORDS: dict[str, tuple[str, ...]] = {
    "silences": get_args(Silence), "on_item_faults": get_args(ItemFault), "joins": get_args(JoinMode),
    "timeouts_for": get_args(TimeoutFor),
}  # fmt: skip


def words_known(table: str, rule: Fields, common: Fields) -> dict[str, Any]:
    """What the builder's words of a field mean."""
    given: dict[str, Any] = getattr(rule, table) or getattr(common, table)
    return given or {word: word for word in _OWN_WORDS[table]}


def fact_readers(rule: KindRule, common: Fields, get: dict[str, Getter]) -> list[tuple[str, Reader]]:
    """(field of the step, what reads it) for the facts that the dialect names paths for."""
    found: list[tuple[str, Reader]] = []
    if "wait" in get or "wait_until" in get:
        unit = clock_texts.UNITS[rule.wait_unit if rule.wait else common.wait_unit]
        found.append(("pause", _pause_reader(get, unit)))
    if any(name in get for name in ("approvers", "approvals_needed", "silence")):
        found.append(("approval", _approval_reader(get, words_known("silences", rule, common))))
    if any(name in get for name in (*_PIECES.values(), "store")):
        found.append(("pieces", _pieces_reader(get, rule.piece_unit or common.piece_unit)))
    if "concurrency" in get:
        found.append(("concurrency", lambda raw, *_: as_count(get["concurrency"](raw))))
    for name in ("ordered", "awaits"):
        if name in get:
            found.append((name, _flag_reader(get[name])))
    if "join" in get:
        modes = words_known("joins", rule, common)
        found.append(("join", lambda raw, *_: modes.get(as_text(get["join"](raw)))))
    if "timeout_for" in get:
        limits = words_known("timeouts_for", rule, common)
        found.append(("timeout_for", lambda raw, *_: limits.get(as_text(get["timeout_for"](raw)))))
    if "sample" in get:
        found.append(("sample", lambda raw, *_: True if get["sample"](raw) else None))
    if "about" in get:
        found.append(
            ("about", lambda raw, _, names: tuple(names.get(key, key) for key in _texts_of(get["about"](raw))) or None)
        )
    return found


def _flag_reader(get: Getter) -> Reader:
    return lambda raw, *_: as_flag(get(raw))


def _texts_of(value: Any) -> list[str]:
    return [text for item in (value if isinstance(value, list) else [value]) if (text := as_text(item))]


def _pause_reader(get: dict[str, Getter], unit: float) -> Reader:
    def read(raw: dict[str, Any], places: Placeholders, names: dict[str, str]) -> Pause | None:
        seconds = clock_texts.duration_of(get["wait"](raw), unit) if "wait" in get else None
        until = as_text(get["wait_until"](raw)) if "wait_until" in get else ""
        if seconds is None and not until:
            return None
        return Pause(seconds=seconds, until=until or None, refs=places.in_text(until, names))

    return read


def _approval_reader(get: dict[str, Getter], silences: dict[str, Any]) -> Reader:
    def read(raw: dict[str, Any], places: Placeholders, names: dict[str, str]) -> Approval | None:
        people = tuple(_texts_of(get["approvers"](raw))) if "approvers" in get else ()
        needed = as_whole_number(get["approvals_needed"](raw)) if "approvals_needed" in get else None
        silence = silences.get(as_text(get["silence"](raw))) if "silence" in get else None
        if not people and needed is None and silence is None:
            return None
        refs = tuple(ref for name in people for ref in places.in_text(name, names))
        return Approval(approvers=people, needed=needed, silence=silence, refs=refs)

    return read


def _pieces_reader(get: dict[str, Getter], unit: Any) -> Reader:
    def read(raw: dict[str, Any], _places: Placeholders, _names: dict[str, str]) -> Pieces | None:
        counts = {field: as_whole_number(get[name](raw)) for field, name in _PIECES.items() if name in get}
        store = (as_text(get["store"](raw)) or None) if "store" in get else None
        if store is None and all(count is None for count in counts.values()):
            return None
        sized = counts.get("size") is not None or counts.get("overlap") is not None
        return Pieces(**counts, unit=unit if sized else None, store=store)

    return read

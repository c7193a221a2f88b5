# Triggers that stand apart may be switched off one by one: by a field of true and false that a word for on or off names, or by such words.
"""Finding what switches separate triggers off."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

from zeitbuch.readers.dialects.paths import as_text

from .starts import Starts
from .state_words import is_off_key, says_state, state_of_word
from .step_surroundings import is_flag
from .survey import Path, dotted_path, find_leaves
from .vocabulary import words_of

if TYPE_CHECKING:
    from .evidence import Evidence


def claim_trigger_switch(e: Evidence, starts: Starts) -> dict[str, Any]:
    """The fields of the [trigger] table, with a claim; empty where nothing switches triggers off."""
    rows = [record for _, record in starts.records]
    taken = {starts.operation, starts.id, starts.starts, starts.name}
    for path, values in sorted(_columns_of(rows).items(), key=lambda entry: (len(entry[0]), entry[0])):
        found = _switch_at(path, values) if path not in taken else {}
        if found:
            off = sum(_is_off(found, value) for value in values)
            words = f"'{dotted_path(path)}' says whether a trigger is on: {off} of {len(rows)} are off"
            e.add_claim("trigger off", words, {})
            return found
    return {}


def _columns_of(rows: Iterable[dict[str, Any]]) -> dict[Path, list[Any]]:
    columns: dict[Path, list[Any]] = {}
    for row in rows:
        for path, value in find_leaves(row, depth=2):
            columns.setdefault(path, []).append(value)
    return columns


def _switch_at(path: Path, values: list[Any]) -> dict[str, Any]:
    """How a field says that records are on, by the word for it and its values; empty where it says something else."""
    return _switch_by_word(path) if all(map(is_flag, values)) else _switch_by_values(path, values)


def _switch_by_word(path: Path) -> dict[str, Any]:
    words = words_of(path[-1])
    named = {state_of_word(word) for word in (*words, path[-1])} - {""} or ({"off"} if is_off_key(words) else set())
    field = {"on": "enabled", "off": "disabled"}.get(named.pop() if len(named) == 1 else "", "")
    return {field: dotted_path(path)} if field else {}


def _switch_by_values(path: Path, values: list[Any]) -> dict[str, Any]:
    said = {as_text(value): state_of_word(as_text(value)) for value in values}
    if {"on", "off"} != set(said.values()) or not any(map(says_state, said)):
        return {}
    return {"enabled": dotted_path(path), "switches": {word: state == "on" for word, state in sorted(said.items())}}


def _is_off(found: dict[str, Any], value: Any) -> bool:
    if "switches" in found:
        return not found["switches"][as_text(value)]
    return bool(value) == ("disabled" in found)

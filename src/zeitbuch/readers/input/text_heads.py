# What a file of text is by its suffix and its first lines, when it holds no flow: tables and logs by their columns, our own TOML
# files by their first key. Nothing beyond those lines is read.
"""Recognising tables, logs and settings by their first lines."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Collection
from typing import NamedTuple

HEAD = 16_384  # bytes of a file that are looked at


class TextKind(NamedTuple):
    """What a file is, in words, and what takes it, where something of ours does."""

    words: str
    hint: str


NOTHING = "no flow is in it; leave it out, or name the files that hold flows"
MAYBE = "if flows are in it a dialect can read it (zeitbuch dialect suggest FILE); else leave it out"
_USAGE = frozenset(
    {"tokens", "input_tokens", "output_tokens", "prompt_tokens", "completion_tokens", "total_tokens", "cost"}
)
_EVENTS = frozenset({"activity", "concept:name", "event", "action"})
_CASES = frozenset({"case", "case_id", "case:concept:name", "run", "run_id", "trace_id"})
_TIMES = frozenset({"time", "timestamp", "time:timestamp", "at", "started", "start_time"})
# Of a row the names of its fields in lower case.
ROWS: tuple[tuple[str, Callable[[Collection[str]], bool]], ...] = (
    ("a usage log", lambda names: not _USAGE.isdisjoint(names) and not _TIMES.isdisjoint(names)),
    (
        "an event log",
        lambda names: not (_EVENTS.isdisjoint(names) or _CASES.isdisjoint(names) or _TIMES.isdisjoint(names)),
    ),
    ("a billing table", lambda names: {"billingperiodstart", "billedcost"}.issubset(names)),
)
_OWN = {
    "dialect": TextKind("a dialect", "name it with --dialect, or in zeitbuch.toml"),
    "rate_card": TextKind("a rate card", "name it with --rates, or in zeitbuch.toml"),
    "assumptions": TextKind("assumptions", "name them with --assumptions, or in zeitbuch.toml"),
    "scenario": TextKind("a scenario", "`zeitbuch compare` takes it"),
    "sources": TextKind("a workspace file", "it is found from the folder it stands in"),
}
_OWN_KEY = re.compile(rf"^(?P<key>{'|'.join(_OWN)})\s*=", re.MULTILINE)
_BUILD = re.compile(r"^\[(project|build-system|package|workspace|tool\.\w+|dependencies)\]", re.MULTILINE)
TEXT_SUFFIXES = (".csv", ".tsv", ".jsonl", ".ndjson", ".toml")


def kind_of_row(names: Collection[str]) -> str | None:
    """What rows with these fields are: a usage log, an event log, a billing table; None for all others."""
    low = {name.strip().strip('"').lower() for name in names}
    return next((words for words, fits in ROWS if fits(low)), None)


def kind_of_head(name: str, head: bytes) -> TextKind | None:
    """What a file is by its suffix and its first bytes; None when its suffix is none of those that are looked at."""
    low = name.lower()
    if not low.endswith(TEXT_SUFFIXES):
        return None
    text = head[:HEAD].decode("utf-8-sig", "replace")
    if low.endswith(".toml"):
        own = _OWN_KEY.search(text)
        if own is not None:
            return _OWN[own["key"]]
        return (
            TextKind("a package or build file", NOTHING) if _BUILD.search(text) else TextKind("settings (TOML)", MAYBE)
        )
    first = next((line for line in text.splitlines() if line.strip()), "")
    if low.endswith((".csv", ".tsv")):
        known = kind_of_row(re.split(r"[,;\t|]", first))
        return TextKind(known, NOTHING) if known else TextKind("a table (CSV)", MAYBE)
    try:
        row = json.loads(first)
    except (ValueError, RecursionError):
        row = None
    known = kind_of_row(list(row)) if isinstance(row, dict) else None
    return TextKind(known, NOTHING) if known else TextKind("records (JSON Lines)", MAYBE)

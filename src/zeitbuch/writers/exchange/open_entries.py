# Entries of an assumptions file to be filled in. Written again, the file keeps all that stands in it: only what it lacks is added, and entries
# that fit nothing any more are marked.
"""Assumptions files that grow."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable, Mapping

from zeitbuch.core.estimate.open_entries import OpenEntry
from zeitbuch.core.model.sheet import money_text, number_text

from .templates import quote_toml

MARK = "# no longer fits: "
_HEAD = re.compile(r"^#?\s*\[\[assume\]\]")
_PAIR = re.compile(r"^#?\s*([a-z_]+)\s*=\s*(\"(?:[^\"\\]|\\.)*\"|'[^']*'|[^#]*)")
_PLACES = ("flow", "step", "trigger", "case", "placeholder")
ADDED = "# What else the estimate stands on, what moves it most first. Take the comment signs of an entry away and fill it in."
Identity = tuple[tuple[str, str], ...]


def entry_text(entry: OpenEntry, currency: str) -> str:
    """One entry, as comments: it changes nothing until somebody fills it in."""
    if entry.value is None:
        head, value = f"# nobody knows: {entry.why}", f"# {entry.quantity} = 0"
    else:
        moved = f"moves the {entry.per} by {money_text(entry.moves)} {currency}: " if currency else ""
        head = f"# {moved}{entry.told}"
        value = f"# {entry.quantity} = {number_of(entry.value)}"
        value += f"   # {entry.why}; between {number_text(entry.low)} and {number_text(entry.high)}"
    places = [f"# {side} = {quote_toml(pattern)}" for side, pattern in entry.where]
    return "\n".join([_one_line(head), "# [[assume]]", *places, _one_line(value)]) + "\n"


def number_of(value: float) -> str:
    """A number as TOML writes it."""
    return f"{value:.6g}" if "e" not in f"{value:.6g}" else f"{value:.0f}"


def grown_text(text: str, entries: Iterable[OpenEntry], faults: Mapping[int, str], currency: str) -> tuple[str, int]:
    """An assumptions file with what it lacks, and how many entries that are. ``faults``: the lines (from 1) of entries that fit nothing,
    and why; marks from before are taken away first. The ends of lines stay those of the file."""
    end = "\r\n" if "\r\n" in text else "\n"
    marked: list[str] = []
    for number, line in enumerate(text.removesuffix(end).split(end), 1):
        if number in faults and _HEAD.match(line):
            marked.append(MARK + _one_line(faults[number]))
        if not line.startswith(MARK):
            marked.append(line)
    known = _identities(marked)
    missing = [entry for entry in entries if _identity(dict(entry.where), entry.quantity) not in known]
    if missing and ADDED not in marked:
        marked += ["", ADDED]
    for entry in missing:
        marked += ["", *entry_text(entry, currency).splitlines()]
    grown = end.join(marked) + (end if text.endswith(end) or missing else "")
    return grown, len(missing)


def _identity(where: Mapping[str, str], quantity: str) -> Identity:
    return (*((side, where[side].casefold()) for side in _PLACES if where.get(side)), ("", quantity))


def _identities(lines: list[str]) -> set[Identity]:
    """What the entries of a file are for, those in comments too."""
    found: set[Identity] = set()
    where: dict[str, str] | None = None
    for line in lines:
        if _HEAD.match(line):
            where = {}
            continue
        pair = _PAIR.match(line) if where is not None else None
        if pair is None:
            where = where if where is not None and line.startswith("#") else None
        elif where is not None and pair[1] in _PLACES:
            where[pair[1]] = _said(pair[2])
        elif where is not None:
            found.add(_identity(where, pair[1]))
    return found


def _said(value: str) -> str:
    """A text as TOML writes it; nothing where it is none."""
    try:
        said = tomllib.loads(f"text = {value.strip()}")["text"]
    except tomllib.TOMLDecodeError:
        return ""
    return said if isinstance(said, str) else ""


def _one_line(text: str) -> str:
    return " ".join(text.split())

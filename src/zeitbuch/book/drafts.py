# Texts that were drafted from a brief, each an entry of the chain. The text stands there with placeholders; the key that fills them in is a content of the
# book, so that the chain can be shown to others and the names cannot.
"""Drafts in the book."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Literal, NamedTuple

import msgspec
from msgspec import Struct

from .records import Entry, Version, sha256

if TYPE_CHECKING:
    from .store import Writing

DRAFT_KIND = "draft"


class Draft(Struct, frozen=True, omit_defaults=True):
    """What was done: a text (Markdown, with placeholders) taken for a flow (its key in the book) of a fingerprint, with the number of its brief and the
    hash of the key; or dropped."""

    act: Literal["take", "drop"]
    flow: int
    fingerprint: str
    number: str = ""
    text: str = ""
    key: str = ""


class Taken(NamedTuple):
    """A draft with who took it and when."""

    draft: Draft
    who: str
    at: str
    seq: int


def add_draft(writing: Writing, draft: Draft, key: bytes, *, at: str, who: str, version: Version) -> Entry:
    """One entry of the chain, and the content of its key."""
    if draft.key:
        writing.put_contents([key])
        assert draft.key == sha256(key)
    body = msgspec.json.encode(draft, order="sorted").decode()
    return writing.append_entry(DRAFT_KIND, at, who, "", body, version.line)


def drafts_of(entries: Iterable[Entry]) -> dict[int, Taken]:
    """The last draft of each flow, where it was not dropped."""
    found: dict[int, Taken] = {}
    for entry in entries:
        if entry.kind == DRAFT_KIND:
            draft = msgspec.json.decode(entry.body, type=Draft)
            found[draft.flow] = Taken(draft, entry.who, entry.at, entry.seq)
    return {flow: one for flow, one in found.items() if one.draft.act == "take"}


def draft_keys(entries: Iterable[Entry]) -> set[str]:
    """The hashes of the keys of all drafts, dropped ones too."""
    bodies = [msgspec.json.decode(entry.body, type=Draft) for entry in entries if entry.kind == DRAFT_KIND]
    return {draft.key for draft in bodies if draft.key}

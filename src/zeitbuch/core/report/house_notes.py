# What people of the house add to a document: each note stands where its writer wanted it, survives every run, and is shown as left over when its
# place is gone. Nothing of a note is ever taken for a statement of the export.
"""Notes of the house in documents."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Literal

from msgspec import Struct, structs

from .blocks import Aside, Block, Heading, NoteBlock, Page, Paragraph, Signatures

NotePlace = Literal["flow", "section", "step"]


class HouseNote(Struct, frozen=True):
    """One note: of a flow (its id), at the flow, a section (its title) or a step (its id), as blocks, and where it was written. ``was`` is
    the id that its step had then, where it has another now; ``version``
    the recorded version whose ids it names, 0 for those of now, ``sure`` whether
    this is that step beyond doubt, ``part`` the tool that it is about where it stands at the heading of its agent."""

    flow: str
    place: NotePlace
    name: str
    blocks: tuple[NoteBlock, ...]
    file: str
    line: int = 1
    version: int = 0
    was: str = ""
    sure: bool = True
    part: str = ""


def with_notes(page: Page, notes: Sequence[HouseNote], anchors: Mapping[str, str]) -> Page:
    """The page with its notes: each behind what its heading says; those of the flow, and those whose place is gone, before the
    signatures. ``anchors`` leads from the id of a step to the anchor of its heading."""
    at: dict[str, list[HouseNote]] = {}
    rest: list[HouseNote] = []
    lost = lost_notes(page, notes, anchors)
    sections = _sections(page)
    for note in notes:
        if note.place == "flow":
            rest.append(note)
        elif note not in lost:
            anchor = anchors[note.name] if note.place == "step" else sections[note.name.casefold()]
            at.setdefault(anchor, []).append(note)
    rest += [_gone_note(note) for note in lost]
    return structs.replace(page, blocks=tuple(_placed(page.blocks, at, rest))) if notes else page


def lost_notes(page: Page, notes: Sequence[HouseNote], anchors: Mapping[str, str]) -> list[HouseNote]:
    """The notes whose step or section is not on the page."""
    sections = _sections(page)
    return [
        note
        for note in notes
        if (note.place == "step" and note.name not in anchors)
        or (note.place == "section" and note.name.casefold() not in sections)
    ]


def sections_of(page: Page) -> list[str]:
    """The titles that a note can name."""
    return [block.text for block in page.blocks if isinstance(block, Heading) and block.level == 2]


def _sections(page: Page) -> dict[str, str]:
    return {
        block.text.casefold(): block.anchor for block in page.blocks if isinstance(block, Heading) and block.level == 2
    }


def _placed(blocks: Sequence[Block], at: Mapping[str, list[HouseNote]], rest: Sequence[HouseNote]) -> Iterator[Block]:
    waiting: list[HouseNote] = []
    for block in blocks:
        if isinstance(block, Heading | Signatures):
            yield from [_aside(note) for note in waiting]
            waiting = at.get(block.anchor, []) if isinstance(block, Heading) and block.anchor else []
        if isinstance(block, Signatures) and rest:
            yield Heading(2, "Notes of the house", "house-notes")
            yield from [_aside(note) for note in rest]
        yield block
    yield from [_aside(note) for note in waiting]


def _aside(note: HouseNote) -> Aside:
    was = f"; written to {note.was}" if note.was else ""
    was += "" if note.sure else (", probably this step" if was else "; probably written to this step")
    about = f" to {note.part}" if note.part else ""
    return Aside(f"Note of the house{about} ({note.file}, line {note.line}{was})", note.blocks)


def _gone_note(note: HouseNote) -> HouseNote:
    """The note as it is shown when its place is gone."""
    thing = "step" if note.place == "step" else "section"
    said = Paragraph(f"Written to the {thing} ‘{note.name}’, which is not in this description.", quiet=True)
    return structs.replace(note, place="flow", name="", blocks=(said, *note.blocks))

# Files of notes: Markdown that names its flow at the head, and under headings the steps and sections that its texts belong to. Headings in
# fenced text are text.
"""Reading notes of the house."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import pairwise
from pathlib import Path

import yaml
from markdown_it import MarkdownIt
from markdown_it.token import Token

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Origin
from zeitbuch.core.report.blocks import Bullets, NoteBlock, Outline, Paragraph, Quote
from zeitbuch.core.report.house_notes import HouseNote, NotePlace

_PLACES: dict[str, NotePlace] = {"step": "step", "section": "section"}
_FENCE = "---"
_LISTS = frozenset({"bullet_list_open", "ordered_list_open"})


def notes_of_folder(folder: str) -> tuple[list[HouseNote], list[Problem]]:
    """The notes of all .md files of a folder and of those below, by file, and what is wrong in them. A file with a fault is left out."""
    if not Path(folder).is_dir():
        words = "expected a folder of notes, found none"
        return [], [Problem("notes", "error", words, Origin(folder), "make it, or correct `notes` in the workspace")]
    notes: list[HouseNote] = []
    problems: list[Problem] = []
    for path in sorted(Path(folder).rglob("*.md")):
        shown = f"{Path(folder).name}/{path.relative_to(folder).as_posix()}"  # no page says where a machine keeps it
        try:
            notes += notes_of_text(path.read_text(encoding="utf-8-sig"), shown)
        except (OSError, ValueError) as error:
            hint = "begin it with three lines: ---, flow: ID, ---; it is left out"
            problems.append(Problem("notes", "error", str(error), Origin(path.as_posix(), line=1), hint))
    return notes, problems


def notes_of_text(text: str, file: str) -> list[HouseNote]:
    """The notes of one file. Raises ValueError when it names no flow."""
    flow, version, body, skipped = _head_of(text)
    lines = body.split("\n")
    parser = MarkdownIt("commonmark")
    cuts: list[tuple[int, int, NotePlace, str]] = [(0, 0, "flow", "")]
    tokens = parser.parse(body)
    for token, inner in pairwise(tokens):
        if token.type == "heading_open" and token.level == 0 and token.map is not None:
            word, _, name = inner.content.partition(":")
            place = _PLACES.get(word.strip().casefold())
            if place is not None and name.strip():
                cuts.append((token.map[0], token.map[1], place, name.strip().strip("`")))
    notes = []
    for (start, first, place, name), following in zip(cuts, [*[cut[0] for cut in cuts[1:]], len(lines)], strict=True):
        blocks = tuple(_blocks_of(parser.parse("\n".join(lines[first:following]))))
        if blocks:
            notes.append(HouseNote(flow, place, name, blocks, file, skipped + start + 1, version))
    return notes


def blocks_of_text(text: str) -> tuple[NoteBlock, ...]:
    """Blocks of a text in Markdown."""
    return tuple(_blocks_of(MarkdownIt("commonmark").parse(text)))


def _head_of(text: str) -> tuple[str, int, str, int]:
    """The flow that a file names, the version whose ids it names (0: those of now), the text behind its head, and how many lines the
    head has."""
    lines = text.replace("\r\n", "\n").split("\n")
    end = next((place for place, line in enumerate(lines[1:], 1) if line.rstrip() == _FENCE), 0)
    if lines[0].rstrip() != _FENCE or not end:
        raise ValueError("expected the flow at the head of a file of notes, found no head between two lines ---")
    try:
        head = yaml.safe_load("\n".join(lines[1:end]))
    except yaml.YAMLError as error:
        raise ValueError(f"expected `flow: ID` at the head of a file of notes, found no YAML ({error})") from None
    flow = head.get("flow") if isinstance(head, dict) else None
    if flow is None or isinstance(flow, dict | list | bool):
        raise ValueError("expected `flow: ID` at the head of a file of notes, found none")
    version = head.get("version", 0)
    if not isinstance(version, int) or isinstance(version, bool) or version < 0:
        raise ValueError(f"expected the number of a recorded version for `version`, found {version!r}")
    unknown = sorted(str(key) for key in head if key not in ("flow", "version"))
    if unknown:
        raise ValueError(f"expected `flow` and `version` at the head of a file of notes, found {', '.join(unknown)}")
    return str(flow), version, "\n".join(lines[end + 1 :]), end + 1


def _blocks_of(tokens: Sequence[Token]) -> Iterator[NoteBlock]:
    """Paragraphs, lists and fenced texts; whatever else Markdown has, as its words."""
    outline: list[tuple[int, str]] = []
    depth = 0
    for token in tokens:
        if token.type in _LISTS:
            depth += 1
        elif token.type in ("bullet_list_close", "ordered_list_close"):
            depth -= 1
            if depth == 0 and outline:
                yield _list_of(outline)
                outline = []
        elif token.type == "inline":
            words = _words_of(token)
            if depth and words:
                outline.append((depth - 1, words))
            elif words:
                yield Paragraph(words)
        elif token.type in ("fence", "code_block"):
            yield Quote(token.info.strip(), token.content)
        elif token.type == "html_block":
            yield Paragraph(" ".join(token.content.split()))


def _list_of(lines: Sequence[tuple[int, str]]) -> Bullets | Outline:
    plain = all(level == 0 for level, _ in lines)
    return Bullets(tuple([words for _, words in lines])) if plain else Outline(tuple(lines))


def _words_of(token: Token) -> str:
    """The words of a paragraph; a link with its address behind it."""
    parts: list[str] = []
    address = ""
    for child in token.children or ():
        if child.type in ("softbreak", "hardbreak"):
            parts.append(" ")
        elif child.type == "link_open":
            address = str(child.attrs.get("href", ""))
        elif child.type == "link_close":
            parts.append(f" ({address})" if address and address not in parts else "")
        else:
            parts.append(child.content)
    return "".join(parts).strip()

# The text that a writing assistant may see, and the text that it sends back. What leaves the house has placeholders; the key that leads back stays, and
# what comes back is a draft until somebody signs.
"""Briefs and drafts."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Mapping, Sequence
from typing import Literal

import msgspec
from msgspec import Struct

from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.fingerprint import fingerprint
from zeitbuch.core.model.records import Flow
from zeitbuch.core.model.secret_labels import map_texts
from zeitbuch.core.report.blocks import Aside, Block, Bullets, Heading, NoteBlock, Page, Paragraph
from zeitbuch.core.report.first_sheet.sheet import SheetFacts, told_blocks
from zeitbuch.core.report.step_sections import steps_section

from .masked_flow import brief_flow, know_people, words_in_small_letters
from .placeholders import Placeholders
from .private_words import NameLists

NUMBER = re.compile(r"\bbrief\s+([0-9a-f]{16})\b", re.I)
DraftState = Literal["draft", "reviewed", "earlier"]
_RULES = (
    "Begin with the line ‘Brief {number}’ as it stands at the head of this page.",
    "Words in square brackets, such as [person 1] or [value 2], stand for what is not shown here. Leave each of them as it is; do not guess what it is.",
    "Say nothing that does not follow from this page. Where it does not say something that a reader needs, write ‘not stated’.",
    "Write in plain words for somebody who is no engineer: what it is for, what it does for whom, where a person decides, what can go wrong. At most 300 words, in Markdown.",
)


class BriefKey(Struct, frozen=True):
    """What leads from a brief back: its number, its flow and state, and what each placeholder stands for. It stays at home."""

    number: str
    flow: str
    name: str
    fingerprint: str
    placeholders: dict[str, str]


class FlowDraft(Struct, frozen=True):
    """A text that came back, with the names in their places: who brought it in and when, and whether it is a draft, was ``reviewed`` (by whom), or
    describes an ``earlier`` state."""

    blocks: tuple[NoteBlock, ...]
    by: str
    on: str
    state: DraftState
    signed: tuple[str, ...] = ()


def brief_of(
    flow: Flow, facts: SheetFacts, lists: NameLists, people: Sequence[str], prompts: bool, titles: Mapping[str, str]
) -> tuple[Page, BriefKey]:
    """The page of a brief and its key; ``facts`` are the names of the flows around, ``people`` those of the house, ``titles`` those of the
    flows that it may call."""
    made = Placeholders(lists, words_in_small_letters([flow]))
    know_people(made, [flow], people)
    for name in (*facts.callers, *facts.called, *facts.handlers):
        made.learn([name])
    graph = Graph(brief_flow(made, flow, prompts), {key: made.within(title) for key, title in titles.items()})
    around = SheetFacts(
        callers=tuple(made.within(name) for name in facts.callers),
        called=tuple(made.within(name) for name in facts.called),
        handlers=tuple(made.within(name) for name in facts.handlers),
    )
    blocks = told_blocks(graph, around)
    blocks += [Heading(2, "Steps", "steps"), *steps_section(graph)]
    blocks = [map_texts(block, made.again) for block in blocks]
    title = graph.flow.title
    state = fingerprint(flow)
    number = hashlib.sha256(msgspec.json.encode([state, sorted(made.key.items())])).hexdigest()[:16]
    head: list[Block] = [
        Heading(1, f"Brief {number}"),
        Paragraph(f"Please describe the automation ‘{title}’ for the people who answer for it."),
        Bullets(tuple(rule.format(number=number) for rule in _RULES)),
    ]
    page = Page(f"brief-{number}", f"Brief {number}", (*head, *blocks))
    return page, BriefKey(number, flow.id, flow.title, state, made.key)


def number_in(text: str) -> str:
    """The number of the brief that a draft names; empty where it names none."""
    found = NUMBER.search(text)
    return found[1].lower() if found else ""


def without_number(text: str) -> str:
    """A draft without the line that names its brief."""
    lines = text.replace("\r\n", "\n").split("\n")
    kept = [line for line in lines if not re.fullmatch(rf"[#*_\s`‘’]*{NUMBER.pattern}[*_\s`‘’.:]*", line, re.I)]
    return "\n".join(kept).strip() + "\n"


def draft_blocks(draft: FlowDraft | None) -> tuple[Block, ...]:
    """The draft as it stands on a sheet, with what it is worth."""
    if draft is None:
        return ()
    came = f"brought in by {draft.by} on {draft.on}"
    label = {
        "draft": f"Draft, not reviewed ({came}; written from a brief, not by Zeitbuch)",
        "reviewed": f"Description ({came}; reviewed with the signature of {' and '.join(draft.signed)})",
        "earlier": f"Draft of an earlier state ({came}): the flow has changed since, and this may no more be true",
    }[draft.state]
    return (Aside(label, draft.blocks),)


def sorted_key(key: Mapping[str, str]) -> list[tuple[str, str]]:
    """Placeholders and what they stand for, by kind and number."""
    return sorted(key.items(), key=lambda one: (one[0].split()[0], int(one[0].rstrip("]").split()[1])))

# Changes for the terminal and as Markdown. Removed words and added words are told apart by signs, never by colour
# alone.
"""Writers for changes."""

from __future__ import annotations

import re

from zeitbuch.core.diff.records import Change, EstateChanges, FlowChanges
from zeitbuch.core.diff.word_diff import Word
from zeitbuch.core.model.words import count_words
from zeitbuch.core.report.change_head import first_lines, head_sentences
from zeitbuch.core.report.change_tables import (
    SIGN,
    STATUS,
    change_line,
    change_places,
    figures_words,
    match_words,
    share_words,
)
from zeitbuch.core.report.finding_changes import finding_notes
from zeitbuch.core.report.presentations import ChangesReport
from zeitbuch.writers.escape.text import make_inert
from zeitbuch.writers.table.grid import fill_cells
from zeitbuch.writers.table.tables import markdown_text
from zeitbuch.writers.theme.terminal import TextLook

LONGEST = 600  # letters of what was added or removed in one piece


def shorten_same(words: tuple[Word, ...], around: int = 60) -> list[Word]:
    """Long stretches that are the same, cut to their ends; long ones that are not, with how much is left out."""
    short: list[Word] = []
    for index, word in enumerate(words):
        text = word.text
        if word.mark == "same" and len(text) > 2 * around + 20:
            head = "" if index == 0 else text[:around].rsplit(" ", 1)[0]
            tail = "" if index == len(words) - 1 else text[-around:].split(" ", 1)[-1]
            text = f"{head} … {tail}"
        elif len(text) > LONGEST:
            head, tail = text[: LONGEST // 2].rsplit(" ", 1)[0], text[-around:].split(" ", 1)[-1]
            text = f"{head} … ({count_words(len(text.split()) - len(head.split()) - len(tail.split()), 'word')} more) … {tail}"
        short.append(Word(word.mark, text))
    return short


_OLD, _NEW, _END = "\ue000", "\ue001", "\ue002"  # stand for the marks while lines are broken
_PRIVATE = re.compile("[\ue000-\ue002]")


def _mark_plainly(words: tuple[Word, ...]) -> str:
    parts = []
    for word in shorten_same(words):
        text = _PRIVATE.sub("?", make_inert(word.text))
        core = text.strip()
        if word.mark == "same" or not core:
            parts.append(text)
            continue
        lead, tail = text[: len(text) - len(text.lstrip())], text[len(text.rstrip()) :]
        parts.append(f"{lead}{_OLD if word.mark == 'old' else _NEW}{core}{_END}{tail}")
    return "".join(parts)


def _marked_lines(words: tuple[Word, ...], width: int, colour: bool) -> list[str]:
    """Marked text on lines; a mark that runs over a line's end is coloured on both."""
    lead, found, style = "      | ", [], ""
    codes = {_OLD: "\x1b[31;9m", _NEW: "\x1b[32;4m"}
    signs = {_OLD: "«−", _NEW: "«+", _END: "»"}
    for part in _mark_plainly(words).split("\n"):
        for row in fill_cells(part, width - len(lead) - 2).split("\n"):
            text = style
            for letter in row:
                if letter in codes:
                    style = codes[letter] if colour else ""
                    text += style + signs[letter]
                elif letter == _END:
                    text += signs[letter] + ("\x1b[0m" if style else "")
                    style = ""
                else:
                    text += letter
            found.append((lead + text + ("\x1b[0m" if style else "")).rstrip())
    return found


def _flatten_text(text: str) -> str:
    return make_inert(text, keep_lines=False)


def _fill_text(text: str, width: int, first: str, rest: str) -> str:
    return fill_cells(text, width, first, rest)


def change_lines(change: Change, currency: str, width: int, colour: bool, evidence: bool) -> list[str]:
    """One change on lines of a terminal."""
    lines = [_fill_text(f"{SIGN[change.weight]} {_flatten_text(change_line(change))}", width, "  ", "      ")]
    if change.words:
        lines += _marked_lines(change.words, width, colour)
    if change.remarks:
        lines.append(_fill_text(f"({_flatten_text('; '.join(change.remarks))})", width, "      ", "      "))
    share = share_words(change.share, currency)
    if share:
        lines.append(_fill_text(share, width, "      = ", "        "))
    spot = _flatten_text(change_places(change))
    if evidence and spot:
        lines.append(f"      @ {spot}")
    return lines


def to_text(
    found: EstateChanges, currency: str, width: int, colour: bool, evidence: bool = False, notes: tuple[str, ...] = ()
) -> str:
    """Changes for a terminal. ``evidence`` says where each stands in the exports."""
    width = min(width, 120)
    lines = [_fill_text(_flatten_text(words), width, "", "  ") for words in (*head_sentences(found, currency), *notes)]
    if first := first_lines(found):
        lines += ["", "Look at these first:"]
        lines += [_fill_text(_flatten_text(words), width, f"  {n}. ", "     ") for n, words in enumerate(first, 1)]
    for flow in found.flows:
        title = f"{_flatten_text(flow.name)} ({STATUS[flow.status]})"
        lines += ["", f"\x1b[1m{title}\x1b[0m" if colour else title]
        matched = match_words(flow)
        if matched:
            lines.append(_fill_text(matched, width, "  ~ ", "      "))
        for change in flow.changes:
            lines += change_lines(change, currency, width, colour, evidence)
        together = share_words(flow.interaction, currency)
        if together:
            lines.append(
                _fill_text(f"the changes together, beyond the sum of each: {together}", width, "  = ", "      ")
            )
        money = figures_words(flow, currency)
        if money:
            lines.append(_fill_text(money, width, "  = ", "      "))
    return "\n".join(lines) + "\n"


def _markdown_words(words: tuple[Word, ...]) -> str:
    parts = []
    for word in shorten_same(words):
        text = word.text
        core = text.strip()
        lead = " " if text[:1].isspace() else ""
        tail = " " if core and text[-1:].isspace() else ""
        shown = markdown_text(core)
        if word.mark == "old" and core:
            shown = f"~~{shown}~~"
        elif word.mark == "new" and core:
            shown = f"**{shown}**"
        parts.append(f"{lead}{shown}{tail}")
    return "".join(parts)


def markdown_change(change: Change, currency: str) -> list[str]:
    """One change as an item of a list, with what it adds and where it stands below it."""
    mark = "**!** " if change.weight == "risk" else ""
    lines = [f"- {mark}{markdown_text(change_line(change))}"]
    if change.words:
        lines += ["", f"  > {_markdown_words(change.words)}", ""]
    said = [markdown_text("; ".join(change.remarks))] if change.remarks else []
    share = share_words(change.share, currency)
    said += [f"this alone: {markdown_text(share)}"] if share else []
    spot = change_places(change)
    said += [f"at {markdown_text(spot)}"] if spot else []
    return [*lines, *[f"  - {words}" for words in said]]


def _markdown_flow(flow: FlowChanges, currency: str) -> list[str]:
    lines = [f"## {markdown_text(flow.name)} ({STATUS[flow.status]})", ""]
    matched = match_words(flow)
    if matched:
        lines += [f"*This flow {markdown_text(matched)}.*", ""]
    for change in flow.changes:
        lines += markdown_change(change, currency)
    together = share_words(flow.interaction, currency)
    if together:
        lines += ["", f"The changes together, beyond the sum of each: {markdown_text(together)}"]
    money = figures_words(flow, currency)
    if money:
        lines += ["", f"Cost: {markdown_text(money)}"]
    return [*lines, ""]


def to_markdown(found: EstateChanges, currency: str, notes: tuple[str, ...] = ()) -> str:
    """Changes for a review: removed words struck out, added words in bold."""
    lines = ["# Changes", ""]
    for said in (*head_sentences(found, currency), *notes):
        lines += [markdown_text(said), ""]
    if first := first_lines(found):
        lines += ["Look at these first:", "", *[f"{n}. {markdown_text(words)}" for n, words in enumerate(first, 1)], ""]
    for flow in found.flows:
        lines += _markdown_flow(flow, currency)
    return "\n".join(lines).rstrip() + "\n"


def write_text(report: ChangesReport, look: TextLook) -> str:
    """Changes for the terminal."""
    notes = finding_notes(report.body.findings)
    return to_text(report.changes, report.body.currency, look.width, look.colour, look.evidence, notes)


def write_markdown(report: ChangesReport, look: TextLook) -> str:
    """Changes as Markdown."""
    return to_markdown(report.changes, report.body.currency, finding_notes(report.body.findings))

# Changes for the terminal and as Markdown. Removed words and added words are told apart by signs, never by colour
# alone.
"""Writers for changes."""

from __future__ import annotations

import re
import textwrap

from zeitbuch.core.change_cost import CostChange
from zeitbuch.core.changes import Change, EstateChanges, FlowChanges
from zeitbuch.core.estimate import Money
from zeitbuch.core.estimate_sheet import money_words
from zeitbuch.core.sheet import number
from zeitbuch.core.word_diff import Word
from zeitbuch.core.words import plural

from .plain import inert
from .tables import markdown_text

_STATUS = {"added": "new flow", "removed": "removed flow", "changed": "changed"}
_SIGN = {"risk": "!", "meaning": "*", "note": "."}


def _shorten(words: tuple[Word, ...], around: int = 60) -> list[Word]:
    """Long stretches that are the same, cut to their ends."""
    short: list[Word] = []
    for i, word in enumerate(words):
        text = word.text
        if word.mark == "same" and len(text) > 2 * around + 20:
            head = "" if i == 0 else text[:around].rsplit(" ", 1)[0]
            tail = "" if i == len(words) - 1 else text[-around:].split(" ", 1)[-1]
            text = f"{head} … {tail}"
        short.append(Word(word.mark, text))
    return short


_OLD, _NEW, _END = "\ue000", "\ue001", "\ue002"  # stand for the marks while lines are broken
_PRIVATE = re.compile("[\ue000-\ue002]")


def _marked(words: tuple[Word, ...]) -> str:
    parts = []
    for word in _shorten(words):
        text = _PRIVATE.sub("?", inert(word.text))
        core = text.strip()
        if word.mark == "same" or not core:
            parts.append(text)
            continue
        lead, tail = text[: len(text) - len(text.lstrip())], text[len(text.rstrip()) :]
        parts.append(f"{lead}{_OLD if word.mark == 'old' else _NEW}{core}{_END}{tail}")
    return "".join(parts)


def _lines(words: tuple[Word, ...], width: int, colour: bool) -> list[str]:
    """Marked text on lines; a mark that runs over a line's end is coloured on both."""
    lead, found, style = "      | ", [], ""
    codes = {_OLD: "\x1b[31;9m", _NEW: "\x1b[32;4m"}
    signs = {_OLD: "«−", _NEW: "«+", _END: "»"}
    for part in _marked(words).split("\n"):
        for line in textwrap.wrap(part, width - len(lead) - 2, break_on_hyphens=False) or [""]:
            text = style
            for letter in line:
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


def _money(cost: CostChange | None, currency: str) -> str:
    if cost is None:
        return ""

    def pair(a: str, b: str, unit: str) -> str:
        return f"{a} {unit} as before" if a == b else f"{a} → {b} {unit}"

    def known(value: Money | None, otherwise: str) -> str:
        return otherwise if value is None else money_words(value)

    before = "none" if cost.calls_before is None else number(cost.calls_before)
    after = "none" if cost.calls_after is None else number(cost.calls_after)
    calls = pair(before, after, "calls a run")
    run = pair(known(cost.cost_before, "none"), known(cost.cost_after, "none"), f"{currency} a run")
    month = pair(known(cost.month_before, "?"), known(cost.month_after, "?"), f"{currency} a month")
    return f"{calls}; {run}; {month}"


def summary(found: EstateChanges) -> str:
    """'6 flows changed, 1 new, 4 unchanged; 5 changes that carry risk'."""
    counts = {s: sum(f.status == s for f in found.flows) for s in ("changed", "added", "removed")}
    risks = sum(c.weight == "risk" for f in found.flows for c in f.changes)
    if not found.flows:
        return f"No change of meaning; {plural(found.unchanged, 'flow')} compared."
    parts = [f"{plural(counts['changed'], 'flow')} changed"]
    parts += [f"{counts[s]} {w}" for s, w in (("added", "new"), ("removed", "removed")) if counts[s]]
    return f"{', '.join(parts)}, {found.unchanged} unchanged; {plural(risks, 'change')} to look at closely (!)."


def _line(change: Change) -> str:
    old, new = inert(change.old, keep_lines=False), inert(change.new, keep_lines=False)
    where = inert(change.where, keep_lines=False)
    head = f"{change.type}: {where}"
    if change.words:
        return head
    if old and new:
        return f"{head}: {old} → {new}"
    return f"{head}: {old or new}" if old or new else head


def to_text(found: EstateChanges, costs: tuple[CostChange, ...], currency: str, width: int, colour: bool) -> str:
    """Changes for a terminal."""
    width = min(width, 120)
    by_id = {(c.id, c.name): c for c in costs}
    lines = [summary(found)]
    for flow in found.flows:
        title = f"{inert(flow.name, keep_lines=False)} ({_STATUS[flow.status]})"
        lines += ["", f"\x1b[1m{title}\x1b[0m" if colour else title]
        for change in flow.changes:
            sign = _SIGN[change.weight]
            lines.append(
                textwrap.fill(
                    f"{sign} {_line(change)}",
                    width,
                    initial_indent="  ",
                    subsequent_indent="      ",
                    break_on_hyphens=False,
                )
            )
            if change.words:
                lines += _lines(change.words, width, colour)
        money = _money(by_id.get((flow.id, flow.name)), currency)
        if money:
            lines.append(textwrap.fill(f"= {money}", width, initial_indent="  ", subsequent_indent="      "))
    return "\n".join(lines) + "\n"


def _markdown_words(words: tuple[Word, ...]) -> str:
    parts = []
    for word in _shorten(words):
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


def _markdown_flow(flow: FlowChanges, cost: CostChange | None, currency: str) -> list[str]:
    lines = [f"## {markdown_text(flow.name)} ({_STATUS[flow.status]})", ""]
    for change in flow.changes:
        mark = "**!** " if change.weight == "risk" else ""
        lines.append(f"- {mark}{markdown_text(_line(change))}")
        if change.words:
            lines += ["", f"  > {_markdown_words(change.words)}", ""]
    money = _money(cost, currency)
    if money:
        lines += ["", f"Cost: {markdown_text(money)}"]
    return [*lines, ""]


def to_markdown(found: EstateChanges, costs: tuple[CostChange, ...], currency: str) -> str:
    """Changes for a review: removed words struck out, added words in bold."""
    by_id = {(c.id, c.name): c for c in costs}
    lines = ["# Changes", "", markdown_text(summary(found)), ""]
    for flow in found.flows:
        lines += _markdown_flow(flow, by_id.get((flow.id, flow.name)), currency)
    return "\n".join(lines).rstrip() + "\n"

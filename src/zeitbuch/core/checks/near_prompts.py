# Prompts that are the same but for a word: found by the halves that they share, so that a large estate is looked through once.
"""Prompts that differ by a word or two."""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache
from itertools import islice

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.records import Flow, Step
from zeitbuch.core.model.words import join_words

ENOUGH_WORDS = 12  # of a prompt that is held against others
_FEWEST_LETTERS = 24  # that so many words have at the least
_WORD_LETTERS = 12  # by which two prompts that differ in a word may differ in length
_MOST_COMPARED = 20
Near = tuple[Step, str, str]
Row = tuple[str, str, str]  # a text, and the titles of its flow and its step


def near_prompts(flows: Iterable[Flow]) -> dict[str, list[Near]]:
    """Flow id -> steps whose prompt is, but for a word or two, another that stands before it; with where that stands and what differs.
    Two that differ in so little share their beginning or their end, nearly half their length."""
    rows: dict[tuple[int, str], dict[str, Row]] = {}  # each text once: the first that has it
    found: dict[str, list[Near]] = {}
    for flow in flows:
        for step in flow.steps:
            for prompt in step.model.prompts if step.enabled and step.model is not None else ():
                if len(prompt.text) < _FEWEST_LETTERS:
                    continue
                row = (prompt.text, flow.title, step.title)
                same = []
                for key in _keys_of(prompt.text):
                    held = rows.get(key)
                    if held is None:
                        rows[key] = {prompt.text: row}
                    else:
                        same.append(held)
                if not same:
                    continue
                near = _nearest(
                    prompt.text, (other for held in same for other in islice(held.values(), _MOST_COMPARED))
                )
                if near is not None:
                    found.setdefault(flow.id, []).append((step, *near))
                for held in same:
                    held.setdefault(prompt.text, row)
    return found


def _keys_of(text: str) -> list[tuple[int, str]]:
    """The beginning and the end of a text, as long as texts of nearly its length have them in common."""
    less, more = _sizes_of(len(text))
    keys = [(less, text[:less]), (-less, text[-less:])]
    return keys if less == more else [*keys, (more, text[:more]), (-more, text[-more:])]


@lru_cache(maxsize=20_000)
def _sizes_of(letters: int) -> tuple[int, int]:
    """Powers of two, nearly half of the letters that a text has which is shorter by a word, and of one that is longer."""
    less, more = [1 << (max(2, (letters + by) * 9 // 20).bit_length() - 1) for by in (-_WORD_LETTERS, _WORD_LETTERS)]
    return less, more


def _nearest(text: str, rows: Iterable[Row]) -> tuple[str, str] | None:
    """Where the first of the texts stands that differs by a word or two, and what differs."""
    words: tuple[str, ...] = ()
    for other, flow, step in rows:
        if abs(len(other) - len(text)) > 2 * _WORD_LETTERS:
            continue
        words = words or tuple(text.split())
        if len(words) < ENOUGH_WORDS:
            return None
        said = _difference(tuple(other.split()), words) if other != text else ""
        if said:
            return f"{quote_name(step)} of {quote_name(flow)}", said
    return None


def _difference(one: tuple[str, ...], other: tuple[str, ...]) -> str:
    """'‘Oslo’ for ‘Bergen’'; empty where more than two words differ, or nothing but case and signs."""
    if abs(len(one) - len(other)) == 1:
        short, long = sorted((one, other), key=len)
        at = next((n for n, (a, b) in enumerate(zip(short, long, strict=False)) if a != b), len(short))
        return f"{quote_name(long[at])}" if short[at:] == long[at + 1 :] else ""
    if len(one) != len(other):
        return ""
    pairs = [(a, b) for a, b in zip(one, other, strict=True) if a != b]
    return join_words([f"{quote_name(b)} for {quote_name(a)}" for a, b in pairs]) if 0 < len(pairs) <= 2 else ""

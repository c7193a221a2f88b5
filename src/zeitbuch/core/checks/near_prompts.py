# Prompts that are the same but for a word: found by the halves that they share, so that a large estate is looked through once.
"""Prompts that differ by a word or two."""

from __future__ import annotations

from collections.abc import Iterable

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.records import Flow, Step
from zeitbuch.core.model.words import join_words

ENOUGH_WORDS = 12  # of a prompt that is held against others


def near_prompts(flows: Iterable[Flow]) -> dict[str, list[tuple[Step, str, str]]]:
    """Flow id -> steps whose prompt is, but for a word or two, another that stands before it; with where that stands and what differs.
    Two that differ in so little share their first or their second half."""
    halves: dict[tuple[int, tuple[str, ...]], list[tuple[tuple[str, ...], Flow, Step]]] = {}
    found: dict[str, list[tuple[Step, str, str]]] = {}
    for flow in flows:
        for step in flow.steps:
            for prompt in step.model.prompts if step.enabled and step.model is not None else ():
                words = tuple(prompt.text.split())
                if len(words) < ENOUGH_WORDS:
                    continue
                half = len(words) // 2
                keys = [(0, words[:half]), (1, words[-half:])]
                near = [
                    (row, _difference(row[0], words))
                    for key in keys
                    for row in halves.get(key, ())[:20]
                    if row[0] != words
                ]
                told = next(((row, words_told) for row, words_told in near if words_told), None)
                if told is not None:
                    (_, other_flow, other), said = told
                    found.setdefault(flow.id, []).append(
                        (step, f"{quote_name(other.title)} of {quote_name(other_flow.title)}", said)
                    )
                for key in keys:
                    halves.setdefault(key, []).append((words, flow, step))
    return found


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

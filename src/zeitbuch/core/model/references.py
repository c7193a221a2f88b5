# References in the builder's own spelling read badly; people see the step's name and the path instead.
"""Placeholders replaced by the names of what they refer to."""

from __future__ import annotations

import re
from collections.abc import Iterable

from .records import Flow, Ref, Repeat


def names_of(flow: Flow) -> dict[str, str]:
    """Id -> title of all steps and triggers."""
    return {**{trigger.id: trigger.title for trigger in flow.triggers}, **{step.id: step.title for step in flow.steps}}


def ref_words(ref: Ref, names: dict[str, str]) -> str:
    """'rows of Look up handed-in items'."""
    if ref.step is None:
        return ref.variable or ref.path
    name = names.get(ref.step, ref.step)
    return f"{ref.path} of \u2018{name}\u2019" if ref.path else f"\u2018{name}\u2019"


def replace_refs(text: str, refs: Iterable[Ref], names: dict[str, str]) -> str:
    """A text with its placeholders in words; of two without anything between them the second follows a plus sign."""
    words = {ref.text: ref_words(ref, names) for ref in refs if ref.text}
    if len(words) < 2:
        for written, said in words.items():
            text = text.replace(written, said)
        return text
    pattern = re.compile("|".join(map(re.escape, sorted(words, key=len, reverse=True))))
    parts: list[str] = []
    end = -1
    for found in pattern.finditer(text):
        parts += [" + "] if found.start() == end else [text[max(end, 0) : found.start()]]
        parts.append(words[found.group()])
        end = found.end()
    return "".join([*parts, text[max(end, 0) :]])


def refs_of_end(repeat: Repeat) -> tuple[Ref, ...]:
    """What the condition refers to that ends a loop: it is asked after each round, so that steps of the loop have run by then."""
    if repeat.until is None or not repeat.items:
        return repeat.refs if repeat.until is not None else ()
    return tuple(ref for ref in repeat.refs if ref.text in repeat.until and ref.text not in repeat.items)


def refs_of_items(repeat: Repeat) -> tuple[Ref, ...]:
    """What the list that a loop goes over is taken from, before its first round."""
    of_end = refs_of_end(repeat)
    return tuple(ref for ref in repeat.refs if ref not in of_end)

# Prompts: by word, with what a reviewer asks first: which placeholders came or went, whether the language changed, how
# much was added and taken out.
"""Changes of prompts."""

from __future__ import annotations

import re
from difflib import SequenceMatcher

from zeitbuch.core.diff.edits import Edit
from zeitbuch.core.diff.word_diff import Word, word_changes
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.canonical import same_prompt
from zeitbuch.core.model.records import ModelUse, Prompt, Ref, Step
from zeitbuch.core.model.references import ref_words
from zeitbuch.core.model.words import count_words, join_words
from zeitbuch.core.pricing.language_names import name_languages

from .pairing import FlowPairing, Places, in_words

_WORD = re.compile(r"\w+")


def judge_prompts(pair: FlowPairing, step: Step, old: ModelUse, new: ModelUse, at: Places) -> None:
    """Prompts in their order; those of one role are held against each other."""
    first, second = [same_prompt(prompt) for prompt in old.prompts], [same_prompt(prompt) for prompt in new.prompts]
    if first == second:
        return
    for tag, i1, i2, j1, j2 in SequenceMatcher(None, first, second, autojunk=False).get_opcodes():
        if tag == "equal":
            continue
        _judge_stretch(pair, step, (old, list(range(i1, i2))), (new, list(range(j1, j2))), at)


def _judge_stretch(
    pair: FlowPairing, step: Step, before: tuple[ModelUse, list[int]], after: tuple[ModelUse, list[int]], at: Places
) -> None:
    """A stretch of prompts that differs (a model use and the places in it, before and after): those of one role are pairs, the
    rest was added or removed."""
    (old, left), (new, right) = before, after
    while left and right:
        index = left[0]
        inner = next((inner for inner in right if new.prompts[inner].role == old.prompts[index].role), right[0])
        left.remove(index)
        right.remove(inner)
        edit = Edit("set", "step", step.id, f"prompt.{index}", old.prompts[index], new.prompts[inner])
        _judge_prompt(pair, step, old.prompts[index], new.prompts[inner], edit, at)
    for index in left:
        edit = Edit("remove", "step", step.id, f"prompt.{index}", old.prompts[index])
        _judge_prompt(pair, step, old.prompts[index], None, edit, at)
    for inner in right:
        edit = Edit("add", "step", step.id, f"prompt.{inner}", None, new.prompts[inner])
        _judge_prompt(pair, step, None, new.prompts[inner], edit, at)


def _judge_prompt(pair: FlowPairing, step: Step, a: Prompt | None, b: Prompt | None, edit: Edit, at: Places) -> None:
    # Names of the new version on both sides: a step that was renamed is no change of the prompt.
    names = {**pair.old_names, **pair.new_names}
    text = in_words(a.text, a.refs, names) if a is not None else ""
    second_text = in_words(b.text, b.refs, names) if b is not None else ""
    role = (b or a).role  # type: ignore[union-attr]
    words = word_changes(text, second_text)
    remarks = _prompt_remarks(a, b, names, words)
    pair.add_change(
        "prompt", f"{quote_name(step.title)} ({role} prompt)", text, second_text, (edit,), at, words, remarks, step.id
    )


def _placeholder_words(p: Prompt | None, names: dict[str, str]) -> list[str]:
    return list(dict.fromkeys(_placeholder_word(ref, names) for ref in p.refs)) if p is not None else []


def _placeholder_word(ref: Ref, names: dict[str, str]) -> str:
    return ref_words(ref, names) if ref.step is not None else (ref.text or ref.variable or ref.path)


def _prompt_remarks(
    a: Prompt | None, b: Prompt | None, names: dict[str, str], words: tuple[Word, ...]
) -> tuple[str, ...]:
    said = []
    if a is None or b is None:
        said.append("a new prompt" if a is None else "the prompt is gone")
    elif a.role != b.role:
        said.append(f"role {a.role} → {b.role}")
    before, after = _placeholder_words(a, names), _placeholder_words(b, names)
    come, gone = [part for part in after if part not in before], [part for part in before if part not in after]
    if come:
        said.append(f"now filled with {join_words(come)}")
    if gone:
        said.append(f"no longer filled with {join_words(gone)}")
    _language_remarks(a, b, said)
    _amount_remarks(words, said)
    return tuple(said)


def _language_remarks(a: Prompt | None, b: Prompt | None, said: list[str]) -> None:
    if a is not None and b is not None:
        old, new = set(_WORD.findall(a.text.casefold())), set(_WORD.findall(b.text.casefold()))
        if 2 * len(old & new) < 0.5 * (len(old) + len(new)):
            one, two = name_languages(a.text), name_languages(b.text)
            if one and two and not set(one) & set(two):
                said.append(f"language of instruction {' or '.join(one)} → {' or '.join(two)}")


def _amount_remarks(words: tuple[Word, ...], said: list[str]) -> None:
    counts = {
        name: sum(len(_WORD.findall(word.text)) for word in words if word.mark == name) for name in ("new", "old")
    }
    parts = [
        f"{count_words(counts[name], 'word')} {word}"
        for name, word in (("new", "added"), ("old", "taken out"))
        if counts[name]
    ]
    if parts:
        said.append(" and ".join(parts))

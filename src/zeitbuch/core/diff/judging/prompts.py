# Prompts: by word, with what a reviewer asks first: which placeholders came or went, whether the language changed, how
# much was added and taken out.
"""Changes of prompts."""

from __future__ import annotations

import re
from difflib import SequenceMatcher

from zeitbuch.core.diff.edits import Edit
from zeitbuch.core.diff.word_diff import Word, word_changes
from zeitbuch.core.graph.phrases import quoted
from zeitbuch.core.model.canonical import same_prompt
from zeitbuch.core.model.records import ModelUse, Prompt, Ref, Step
from zeitbuch.core.model.references import ref_words
from zeitbuch.core.model.words import joined, plural

from .pairing import FlowPairing, Places, in_words

_WORD = re.compile(r"\w+")
_ENOUGH = 40  # letters from which the language of a text can be told
LANGUAGES = {
    "ar": "Arabic", "bg": "Bulgarian", "cs": "Czech", "da": "Danish", "de": "German", "el": "Greek", "en": "English",
    "es": "Spanish", "et": "Estonian", "fi": "Finnish", "fr": "French", "he": "Hebrew", "hi": "Hindi", "hr": "Croatian",
    "hu": "Hungarian", "id": "Indonesian", "it": "Italian", "ja": "Japanese", "ko": "Korean", "lt": "Lithuanian",
    "lv": "Latvian", "nl": "Dutch", "nn": "Norwegian", "no": "Norwegian", "pl": "Polish", "pt": "Portuguese",
    "ro": "Romanian", "ru": "Russian", "sk": "Slovak", "sl": "Slovenian", "sr": "Serbian", "sv": "Swedish", "th": "Thai",
    "tr": "Turkish", "uk": "Ukrainian", "vi": "Vietnamese", "zh": "Chinese",
}  # fmt: skip


def language(text: str) -> str:
    """The language of a text in English, empty when it is too short to tell or unknown."""
    if sum(c.isalpha() for c in text) < _ENOUGH:
        return ""
    from py3langid import classify

    return LANGUAGES.get(classify(text)[0], "")


def judge_prompts(pair: FlowPairing, step: Step, old: ModelUse, new: ModelUse, at: Places) -> None:
    """Prompts in their order; those of one role are held against each other."""
    first, second = [same_prompt(p) for p in old.prompts], [same_prompt(p) for p in new.prompts]
    if first == second:
        return
    for tag, i1, i2, j1, j2 in SequenceMatcher(None, first, second, autojunk=False).get_opcodes():
        if tag == "equal":
            continue
        left, right = list(range(i1, i2)), list(range(j1, j2))
        while left and right:
            i = left[0]
            j = next((j for j in right if new.prompts[j].role == old.prompts[i].role), right[0])
            left.remove(i)
            right.remove(j)
            edit = Edit("set", "step", step.id, f"prompt.{i}", old.prompts[i], new.prompts[j])
            _prompt(pair, step, old.prompts[i], new.prompts[j], edit, at)
        for i in left:
            edit = Edit("remove", "step", step.id, f"prompt.{i}", old.prompts[i])
            _prompt(pair, step, old.prompts[i], None, edit, at)
        for j in right:
            edit = Edit("add", "step", step.id, f"prompt.{j}", None, new.prompts[j])
            _prompt(pair, step, None, new.prompts[j], edit, at)


def _prompt(pair: FlowPairing, step: Step, a: Prompt | None, b: Prompt | None, edit: Edit, at: Places) -> None:
    # Names of the new version on both sides: a step that was renamed is no change of the prompt.
    names = {**pair.old_names, **pair.new_names}
    x = in_words(a.text, a.refs, names) if a is not None else ""
    y = in_words(b.text, b.refs, names) if b is not None else ""
    role = (b or a).role  # type: ignore[union-attr]
    words = word_changes(x, y)
    remarks = _remarks(a, b, names, words)
    pair.add("prompt", f"{quoted(step.title)} ({role} prompt)", x, y, (edit,), at, words, remarks, step.id)


def _placeholders(p: Prompt | None, names: dict[str, str]) -> list[str]:
    return list(dict.fromkeys(_placeholder(r, names) for r in p.refs)) if p is not None else []


def _placeholder(ref: Ref, names: dict[str, str]) -> str:
    return ref_words(ref, names) if ref.step is not None else (ref.text or ref.variable or ref.path)


def _remarks(a: Prompt | None, b: Prompt | None, names: dict[str, str], words: tuple[Word, ...]) -> tuple[str, ...]:
    said = []
    if a is None or b is None:
        said.append("a new prompt" if a is None else "the prompt is gone")
    elif a.role != b.role:
        said.append(f"role {a.role} → {b.role}")
    before, after = _placeholders(a, names), _placeholders(b, names)
    come, gone = [p for p in after if p not in before], [p for p in before if p not in after]
    if come:
        said.append(f"now filled with {joined(come)}")
    if gone:
        said.append(f"no longer filled with {joined(gone)}")
    if a is not None and b is not None:
        old, new = set(_WORD.findall(a.text.casefold())), set(_WORD.findall(b.text.casefold()))
        if 2 * len(old & new) < 0.5 * (len(old) + len(new)):
            one, two = language(a.text), language(b.text)
            if one and two and one != two:
                said.append(f"language of instruction {one} → {two}")
    counts = {m: sum(len(_WORD.findall(w.text)) for w in words if w.mark == m) for m in ("new", "old")}
    parts = [f"{plural(counts[m], 'word')} {w}" for m, w in (("new", "added"), ("old", "taken out")) if counts[m]]
    if parts:
        said.append(" and ".join(parts))
    return tuple(said)

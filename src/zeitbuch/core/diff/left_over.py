# Who copies a branch changes the name of the port in four places and forgets the fifth: what became something else everywhere but here.
"""What was left in a copy as it was."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator
from difflib import SequenceMatcher
from functools import lru_cache

from msgspec import Struct

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.records import Origin, Step
from zeitbuch.core.model.references import replace_refs
from zeitbuch.core.model.secret_labels import LABEL

# Words also within names like oslo_desk, osloDesk and B4: letters of one case, or digits.
_TOKEN = re.compile(r"[^\W\d_]+|\d+")
_HUMP = re.compile(r"(?<=[^\W\d_A-Z])(?=[A-Z])")
Pairs = list[tuple[Step, Step]]
Swap = tuple[str, str]


class Left(Struct, frozen=True):
    """A field that says the same in both copies, though elsewhere ``old`` became ``new`` (``times`` times)."""

    where: str
    text: str
    old: str
    new: str
    times: int
    origin: Origin | None = None


@lru_cache(maxsize=2_000)  # the texts of what was copied are held against those of every copy
def _tokens_of(text: str) -> tuple[str, ...]:
    return tuple([part for word in _TOKEN.findall(text) for part in _HUMP.split(word)])


def _texts_of_step(step: Step) -> Iterator[tuple[str, str]]:
    """The texts of a step that people write, with what each is."""
    yield "name", step.name
    if step.condition:
        yield "condition", step.condition
    if step.model is not None:
        for prompt in step.model.prompts:
            refs = [ref for ref in prompt.refs if ref.step is not None]
            yield f"{prompt.role} prompt", replace_refs(prompt.text, refs, {})
    for second in step.inputs:
        if isinstance(second.value, int | float) and not isinstance(second.value, bool):
            yield f"input {second.name}", str(second.value)
        if isinstance(second.value, str) and not LABEL.fullmatch(second.value):
            yield f"input {second.name}", second.value
    if step.calls:
        yield "called flow", step.calls


def _swapped_words(old: str, new: str) -> Iterator[Swap]:
    """Words of a text that became other words; one may have become two, or two one."""
    if old == new:
        return
    first, second = _tokens_of(old), _tokens_of(new)
    for tag, i1, i2, j1, j2 in SequenceMatcher(None, first, second, autojunk=False).get_opcodes():
        if tag != "replace":
            continue
        if i2 - i1 == j2 - j1:
            yield from zip(first[i1:i2], second[j1:j2], strict=True)
        elif 1 in (i2 - i1, j2 - j1) and max(i2 - i1, j2 - j1) == 2:
            yield " ".join(first[i1:i2]), " ".join(second[j1:j2])


def left_over_texts(titles: tuple[str, str], pairs: Pairs) -> Iterator[Left]:
    """Texts of the second copy that still say what the copying changed elsewhere."""
    swaps, shown = _count_swaps(titles, pairs)
    # What became several things, or what several things became, is no systematic replacement.
    olds, news = Counter(name for name, _ in swaps), Counter(name for _, name in swaps)
    for (old, new), times in sorted(swaps.items(), key=lambda s: (-s[1], s[0])):
        if times < 2 or olds[old] > 1 or news[new] > 1:
            continue
        yield from _unswapped_texts(pairs, shown[old, new], times)


def _says_enough(word: str) -> bool:
    """Whether a word can be a name: a short one only as a code (NO, B, 7)."""
    return len(word) > 2 or word.isdigit() or word.isupper()


def _count_swaps(titles: tuple[str, str], pairs: Pairs) -> tuple[Counter[Swap], dict[Swap, Swap]]:
    """How often each word was swapped for another between the copies, and how both were written."""
    swaps: Counter[Swap] = Counter()
    shown: dict[Swap, Swap] = {}
    for one, two in pairs:
        for (_, word), (_, second_text) in zip(_texts_of_step(one), _texts_of_step(two), strict=False):
            for old, new in set(_swapped_words(word, second_text)):
                if _says_enough(old) and old.casefold() != new.casefold():
                    key = old.casefold(), new.casefold()
                    swaps[key] += 1
                    shown.setdefault(key, (old, new))
    if titles[0] != titles[1]:
        for old, new in _swapped_words(*titles):
            if (old.casefold(), new.casefold()) in swaps:
                swaps[old.casefold(), new.casefold()] += 1
    return swaps, shown


def _unswapped_texts(pairs: Pairs, swap: Swap, times: int) -> Iterator[Left]:
    old = swap[0]
    wanted = [part.casefold() for part in _tokens_of(old)]
    for one, two in pairs:
        mine = dict(_texts_of_step(two))
        for what, text in _texts_of_step(one):
            if mine.get(what) == text and _holds(text, wanted, old):
                yield Left(f"{quote_name(two.title)} ({what})", text, *swap, times, two.origin)


def _holds(text: str, wanted: list[str], old: str) -> bool:
    """Whether a text has these words one after the other; a short code only as it is written."""
    tokens = _tokens_of(text)
    if len(old) <= 2 and not old.isdigit():
        return old in tokens
    folded = [token.casefold() for token in tokens]
    return any(folded[at : at + len(wanted)] == wanted for at in range(len(folded) - len(wanted) + 1))


def left_words(left: Left) -> str:
    """'left as it was: ‘X’ (input to) still says ‘Oslo’, which became ‘Bergen’ in 3 other places'."""
    places = "1 other place" if left.times == 1 else f"{left.times} other places"
    return f"left as it was: {left.where} still says {quote_name(left.old)}, which became {quote_name(left.new)} in {places}"

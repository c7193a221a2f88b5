# A prompt often says how long its answer may be: one word, yes or no, at most so many words. Nobody has declared more: the default answer ends
# there.
"""Lengths of answers that prompts ask for."""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import lru_cache

from zeitbuch.core.model.records import Prompt

# Tokens of one of each, rather too many than too few: an answer that is asked for may be a little longer.
_TOKENS = {
    "word": 1.5, "token": 1.0, "character": 0.3, "letter": 0.3, "sentence": 30.0, "line": 20.0, "bullet": 30.0, "point": 30.0,
    "paragraph": 120.0, "label": 5.0, "number": 5.0, "digit": 1.0, "name": 6.0,
}  # fmt: skip
_NUMBERS = {"one": 1, "a single": 1, "single": 1, "two": 2, "three": 3, "four": 4, "five": 5, "six": 6, "ten": 10}
_COUNTED = tuple(_TOKENS)
_BLANKS = "\n\r\t\v\f"
_NUMBER_WORDS = tuple(f" {word} " for word in _NUMBERS)
_DIGIT_BEFORE = re.compile("[0-9] ")
_FEWEST = 10.0
_UNITS = r"(words?|tokens?|characters?|letters?|sentences?|lines?|bullets?|(?:bullet )?points?|paragraphs?)"
_AT_MOST = re.compile(
    r"\b(?:at most|no more than|not more than|up to|a maximum of|maximum|max\.?|fewer than|less than|under|within)\s+"
    rf"(\d{{1,5}}|one|two|three|four|five|six|ten)\s+{_UNITS}\b",
    re.IGNORECASE,
)
_EXACTLY = re.compile(
    r"\b(?:answer|reply|respond|return|give|output|say|write|name)\b[^.!?\n]{0,40}?\b(?:with|in|as)?\s*(?:only |just |exactly )?"
    r"(one|a single|single|two|three|\d{1,3})\s+(word|label|number|digit|letter|name|sentence|line)s?\b",
    re.IGNORECASE,
)
_YES_OR_NO = re.compile(r"\b(?:yes or no|yes/no|true or false|true/false)\b", re.IGNORECASE)


def _may_number(lower: str) -> bool:
    """Whether a number may stand before a blank: most prompts have none, and single signs are looked for quickly."""
    if not lower.isascii():
        return True
    flat = f" {lower}"
    for blank in _BLANKS:
        flat = flat.replace(blank, " ")
    for word in _NUMBER_WORDS:
        if word in flat:
            return True
    return _DIGIT_BEFORE.search(flat) is not None


def _may_count(lower: str) -> bool:
    """Whether a number stands before what a length is counted in."""
    before = ""
    for word in lower.split() if _may_number(lower) else ():
        if (before in _NUMBERS or before[-1:].isdigit()) and word.startswith(_COUNTED):
            return True
        before = word
    return False


@lru_cache(maxsize=4096)
def _limit_in(text: str) -> tuple[float, str] | None:
    lower = text.lower()
    found: dict[int, tuple[float, str]] = {}  # by the place of the number
    for pattern in (_AT_MOST, _EXACTLY) if _may_count(lower) else ():
        for match in pattern.finditer(text):
            number, unit = match.groups()
            count = _NUMBERS.get(number.lower()) or int(number)
            one = _TOKENS[unit.lower().split()[-1].rstrip("s")]
            found.setdefault(match.start(1), (max(_FEWEST, count * one), f"{number} {unit}"))
    if ("yes" in lower or "true" in lower) and _YES_OR_NO.search(text):
        found[-1] = _FEWEST, "yes or no"
    return next(iter(found.values())) if len(found) == 1 else None  # of several nothing says which is the answer's


def asked_length(prompts: Iterable[Prompt]) -> tuple[float, str] | None:
    """The most tokens that an answer may have by its prompts, and the words that say so; None where they say nothing, or several things."""
    found = {limit for prompt in prompts if (limit := _limit_in(prompt.text)) is not None}
    return found.pop() if len(found) == 1 else None

# Which answers a prompt asks for, where it lists them. Lists in prose are read only where every part of them is a short phrase: what is not
# sure to be a list of answers is none.
"""Answers that a prompt lists."""

from __future__ import annotations

import re
from functools import lru_cache

MOST_ANSWERS, MOST_WORDS, MOST_LETTERS = 12, 3, 30
# Words that ask for an answer, in the languages that the estimator knows, and words that may stand between them and the list.
_CUE = re.compile(
    r"(?i)\b(?:answer|reply|respond|return|output|say|choose|pick|classify|label|category|categories|one of|either|"
    r"antwort\w*|gib|nenne|wähle|répond\w*|choisis\w*|respond\w*|contest\w*|elige|rispond\w*|scegli|svar\w*|odpowi\w*|wybierz|vastaa|"
    r"antwoord\w*|kies)\b"
)
_BETWEEN = re.compile(
    r"(?i)^(?:[^\w\"'“‘„`]*\b(?:with|as|by|in|only|exactly|just|one|of|the|these|following|single|word|words|label|labels|is|either|using|"
    r"mit|nur|genau|einem|wort|von|par|un|seul|mot|de|con|una|sola|palabra|parola|med|ett|ord|jednym|słowem)\b)+[^\w\"'“‘„`]*"
)
# Words of an answer that has parts, each of which is given.
_FORM = re.compile(r"(?i)\b(?:json|xml|yaml|csv|objects?|fields?|keys?|columns?|felder\w*|champs?|campos?|spalten)\b")
# "The number, the date and the sum" are all given; of "red, blue and green" one is, where it says so.
_AND = re.compile(r"(?i)\b(?:and|und|et|och|y|e|i)\b")
_OR = re.compile(r"(?i)\b(?:or|oder|ou|eller|lub|o|tai|of)\b|[|/]")
_ONE = re.compile(
    r"(?i)\b(?:one|single|either|choose|pick|classify|label|categor\w*|sort|ein(?:e|em|er|es)?|un|une|una|et ord|jedn\w*|wähle|choisis\w*|elige|scegli|kies|velg|vælg|välj)\b"
)
_SPLIT = re.compile(r"(?i)\s*(?:[,;/|]|\b(?:or|and|oder|und|ou|et|eller|och|lub|of|tai)\b)\s*")
_REMARK = re.compile(r"\([^()]*\)")
_ROW = re.compile(r"(?m)^\s*(?:[-*•]|\d+[.)])\s+(.+)$")
_SIGNS = " \t\"'“”‘’„`*.:[]{}<>-"


@lru_cache(maxsize=4096)
def listed_answers(prompt: str) -> tuple[str, ...]:
    """The answers that a prompt lists behind words such as 'answer with one word'; none where it lists none, or several lists."""
    found: list[tuple[str, ...]] = []
    for sentence in re.split(r"(?<=[.!?])\s+|\n", _REMARK.sub(" ", prompt)):
        cue = _CUE.search(sentence)
        if cue is None:
            continue
        rest = sentence[cue.end() :]
        if _FORM.search(rest.partition(":")[0]):
            continue  # the parts of one answer, not answers of which one is given
        rest = rest.rpartition(":")[2] if ":" in rest else _BETWEEN.sub("", rest)
        if _AND.search(rest) and not _OR.search(rest) and not _ONE.search(sentence):
            continue
        if answers := _as_list(rest):
            found.append(answers)
    if not found and _CUE.search(prompt) and (answers := _as_rows(prompt)):
        found.append(answers)
    return found[0] if len(found) == 1 else ()


def _as_rows(prompt: str) -> tuple[str, ...]:
    """The answers of a list of one line each: what stands before a colon, a dash or a bracket."""
    rows = [re.split(r"\s*(?:[:(=]|\s[-–—]\s)", row)[0].strip(_SIGNS) for row in _ROW.findall(prompt)]
    short = all(row and len(row.split()) <= MOST_WORDS and len(row) <= MOST_LETTERS for row in rows)
    return tuple(dict.fromkeys(rows)) if short and 2 <= len(rows) <= MOST_ANSWERS else ()


def answers_of_field(prompt: str, field: str) -> tuple[str, ...]:
    """The answers that a prompt lists in brackets behind the name of a field: 'result (pass, fail)'."""
    found = re.findall(rf"(?i)\b{re.escape(field)}\s*\(([^()]+)\)", prompt) if field else []
    return _as_list(found[0]) if len(found) == 1 else ()


def _as_list(text: str) -> tuple[str, ...]:
    parts = [part.strip(_SIGNS) for part in _SPLIT.split(text)]
    parts = [part for part in parts if part]
    short = all(len(part.split()) <= MOST_WORDS and len(part) <= MOST_LETTERS for part in parts)
    return tuple(dict.fromkeys(parts)) if short and 2 <= len(parts) <= MOST_ANSWERS else ()

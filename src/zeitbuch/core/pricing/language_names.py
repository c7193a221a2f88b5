# The language of a whole text by name, from the same small words and letters that the token estimator goes by, and for what
# it counts as one group ("other") from words of their own. What two languages share is said as both, never guessed.
"""Naming the language of a text."""

from __future__ import annotations

import re
from collections import Counter

from .languages import LETTERS, WORDS

_NAMES = {
    "en": "English", "de": "German", "fr": "French", "es": "Spanish", "it": "Italian", "pl": "Polish", "cs": "Czech",
    "fi": "Finnish", "tr": "Turkish", "vi": "Vietnamese", "pt": "Portuguese", "nl": "Dutch", "sv": "Swedish",
    "no": "Norwegian", "da": "Danish", "hu": "Hungarian", "ro": "Romanian",
}  # fmt: skip
_OTHERS = {
    "pt": "o os as uma não com em para você mais foi pelo seu sua ao dos das um que por nos esta este são isso",
    "nl": "het een van niet voor met zijn wordt maar deze de en op te aan bij of uit naar ook geen als dit je",
    "sv": "och att det som är inte för med av till ett den på en om från eller så kan ska vi du har",
    "no": "og ikke er på til fra har som vil det av hva noe meg deg mye ble et en å om eller kan skal vi du",
    "da": "og ikke er på til fra har som vil det af hvad noget mig dig meget blev et en at om eller kan skal vi du",
    "hu": "az és nem hogy egy vagy van meg el csak ha mint már is ez ezt lehet kérjük",
    "ro": "nu pentru din sau care cu este și în la de pe mai fi sunt să ce dacă fără",
}
_WORDS: dict[str, tuple[str, ...]] = {
    word: tuple(name for name in names if name != "other") for word, names in WORDS.items()
}
for _language, _text in _OTHERS.items():
    for _word in _text.split():
        _WORDS[_word] = (*_WORDS.get(_word, ()), _language)
_SCRIPTS = (
    ("Greek", "\u0370-\u03ff\u1f00-\u1fff"), ("Hebrew", "\u0590-\u05ff"), ("Thai", "\u0e00-\u0e7f"),
    ("Japanese", "\u3040-\u30ff"), ("Korean", "\uac00-\ud7af"), ("Chinese", "\u3400-\u9fff"),
    ("Arabic script", "\u0600-\u06ff"), ("Cyrillic script", "\u0400-\u052f"), ("an Indic script", "\u0900-\u0dff"),
)  # fmt: skip
ENOUGH = 40  # letters from which the language of a text can be told
LEAST = 2.0  # small words that only one language has
MARGIN = 1.4  # how much more of them than of the next


def name_languages(text: str) -> tuple[str, ...]:
    """The language of a text in English; two where it cannot be told which; none for what is too short or unknown."""
    if sum(letter.isalpha() for letter in text) < ENOUGH:
        return ()
    for name, letters in _SCRIPTS:
        if len(re.findall(f"[{letters}]", text)) > 0.3 * sum(letter.isalpha() for letter in text):
            return (name,)
    score: Counter[str] = Counter()
    low = text.lower()
    for word in re.findall(r"[^\W\d_]+", low):
        for language in _WORDS.get(word, ()):
            score[language] += 1 / len(_WORDS[word])  # type: ignore[assignment]
    for letter in set(low) & LETTERS.keys():
        if LETTERS[letter] in _NAMES:
            score[LETTERS[letter]] += 1
    ranked = sorted(score.items(), key=lambda item: (-item[1], item[0]))
    near = [name for name, points in ranked if points * MARGIN > ranked[0][1]]
    if not ranked or sum(score[name] for name in near) < LEAST or len(near) > 2:
        return ()
    return tuple(sorted(_NAMES[name] for name in near))

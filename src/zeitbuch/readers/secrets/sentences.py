# People write "the password is ...", "PIN 4821", "das Kennwort lautet ...": a word that names a secret, and what looks like one behind it.
"""Secrets in sentences."""

from __future__ import annotations

import re
from collections.abc import Iterator

from .bare_values import NAME, TOKENS
from .names import Names
from .values import is_mixed, is_reference, looks_mixed

_IS = re.compile(r"(?i)(?:\s(?:is|ist|lautet|est|es|è|é|är|er|jest|heet|to|[-–—])\s*:?\s+|[是为為は는은]\s*)(?=\S)")
_BARE_WORD = re.compile(r"[\"'“”„«‘`(]?(?P<text>[^\s\"'“”»’`<>()]{4,200})")
_JOINED = frozenset("是为為は는은")  # verbs that stand without spaces: what follows is a value only in other letters
_ASCII_WORD = re.compile(r"[\"'“「『]?(?P<text>[!-~]{4,200})")
_PASSWORD = re.compile(r"(?i)^pass|wort$")
_AUTHENTICATE = re.compile(r"(?i)auth|api|secret|log in|login")
_NUMBERED = re.compile(r"[A-Za-z]{3,}[-_.]?\d{2,8}")  # a word with a number, as people make passwords
_ADJACENT = re.compile(r"[\s:]+[\"'“„«‘`(]*(?P<text>[^\s\"'“”»’`<>()]{4,200})")
_WORD = re.compile(r"[^\W_][\w\-]*")
_HEX = re.compile(r"[0-9a-f]{32,}")
_BREAKS = re.compile(r"[=:(\[{]")


class Sentences:
    """Finds secrets that a sentence tells; a match holds the secret in its group ``text``."""

    def __init__(self, names: Names) -> None:
        self.names = names

    def values_in(self, text: str) -> Iterator[re.Match[str]]:
        """What sentences tell."""
        yield from self._behind_verbs(text)
        for word in _WORD.finditer(text):
            if self._names_secret(word[0]) or word[0].lower() in ("key", "code", "phrase"):
                yield from self._next_to(text, word)

    def _names_secret(self, name: str) -> bool:
        return self.names.secrecy(name) in ("secret", "secrets")

    def _behind_verbs(self, text: str) -> Iterator[re.Match[str]]:
        for found in _IS.finditer(text):
            name = NAME.search(text, max(0, found.start() - 48), found.start())
            if name is None or not self._names_secret(last_words(name[0])):
                continue
            joined = found[0].strip() in _JOINED
            value = (_ASCII_WORD if joined else _BARE_WORD).match(text, found.end())
            if value and _tells(value["text"], last_words(name[0])):
                yield value

    def _next_to(self, text: str, word: re.Match[str]) -> Iterator[re.Match[str]]:
        """A value right behind the word: "the PIN 4821", "password Zx9!kk2"."""
        value = _ADJACENT.match(text, word.end())
        name = NAME.search(text, max(0, word.start() - 32), word.end())
        known = name is not None and self._names_secret(last_words(name[0]))
        if value is None or (word[0].lower() != "key" and not known):
            return
        held = value["text"].rstrip(".,;:!?")
        if _BREAKS.search(held) or is_reference(held):
            return
        authenticates = known or _AUTHENTICATE.search(text, max(0, word.start() - 40), word.start()) is not None
        if _stands_behind(word[0].lower(), held, authenticates):
            yield value


def _stands_behind(word: str, held: str, authenticates: bool) -> bool:
    """Whether what stands right behind a word is the secret that it names."""
    spoken = word not in ("key", "token", "cookie")
    if held.isdigit():
        return spoken and 4 <= len(held) <= 8 and not _PASSWORD.search(word)
    if _HEX.fullmatch(held):
        return authenticates
    if len(held) < 6 or not looks_mixed(held) or not (any(map(str.isdigit, held)) and any(map(str.isalpha, held))):
        return False
    return _uneven(held) or (spoken and _NUMBERED.fullmatch(held) is not None)


def last_words(name: str) -> str:
    """The last three words of a name that a sentence leads up to."""
    return " ".join(name.strip(" \t\"'`*\\])").split()[-3:])


def _tells(value: str, name: str) -> bool:
    """Whether a word behind "is" is the secret itself: it holds digits or signs, as plain words do not."""
    held = value.rstrip(".,;:!?")
    if held.isdigit():
        return len(held) >= 4 and not TOKENS.search(name)
    return looks_mixed(held) if TOKENS.search(name) else is_mixed(held)


def _uneven(text: str) -> bool:
    """Whether letters and digits are mixed as they are in no word with a number ("step2", "v12", "utf-8")."""
    return re.fullmatch(r"[A-Za-z]+[-_.]?\d{1,4}|v?\d[\d.\-:/]*[A-Za-z]{0,3}|\d+[A-Za-z\-]+", text) is None

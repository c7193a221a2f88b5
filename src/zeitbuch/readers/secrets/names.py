# Whether a name names a secret is decided by its words: which of them is the secret, what stands before it, what behind it.
# "password policy", "max tokens" and "token url" speak of secrets and hold none.
"""Names of secrets."""

from __future__ import annotations

import re
import unicodedata
from typing import Literal

from .words import (
    ACTIONS,
    AMBIGUOUS,
    ASKED,
    COUNTED,
    FILLERS,
    HOLDERS,
    KEY_WORDS,
    KEYS_OF,
    PAIRS,
    PASS_OF,
    PIN_OF,
    PLAIN_PARTS,
    SECRET_WORDS,
    SPEAKS_OF,
    TAILS,
    SecretWords,
)

# secret: what the name holds is one. secrets: a list or map of them. weak: where it looks like one. holder: its parts are, but for
# plain ones.
Secrecy = Literal["none", "weak", "secret", "secrets", "holder"]

_PARTS = re.compile(r"[A-Z]+(?![a-z])|[A-Z]?[a-z]+|[0-9]+|[^\W\d_a-zA-Z]+")
_LETTERS = str.maketrans({"ł": "l", "ø": "o", "ß": "ss", "ı": "i", "đ": "d", "æ": "ae", "Ł": "L", "Ø": "O", "ö": "o"})
_SMALL = frozenset("d de di do da del della dell van zum the of le la l".split())
_SEPARATORS = re.compile(r"[\s_.\-]+")
_LONGEST = 80  # letters of a name
_KEPT = 100_000


def fold_letters(text: str) -> str:
    """A text without accents."""
    if text.isascii():
        return text
    plain = unicodedata.normalize("NFKD", text.translate(_LETTERS))
    return unicodedata.normalize("NFC", "".join([sign for sign in plain if not unicodedata.combining(sign)]))


def split_name(name: str) -> list[str]:
    """The words of a name in lower case, without accents: camel case, underscores, hyphens, dots and spaces part them."""
    return [part.lower() for part in _PARTS.findall(fold_letters(name))]


def _folded(words: frozenset[str]) -> frozenset[str]:
    return frozenset(fold_letters(word) for word in words)


_ALL = frozenset(fold_letters(word) for row in SECRET_WORDS.values() for word in row.split())
_SHORT = frozenset({"pass", "pin", "pins"})
_ENDINGS = (*sorted(word for word in _ALL if len(word) >= 5 and word.isascii()), "pwd")
SIGNS = tuple(sorted(word for word in _ALL if not word.isascii()))
_PAIRS = _folded(PAIRS)
_AMBIGUOUS = _folded(AMBIGUOUS)
_HOLDERS = _folded(HOLDERS)
_KEY_WORDS, _KEYS_OF = _folded(KEY_WORDS), _folded(KEYS_OF)
_PLAIN = _folded(PLAIN_PARTS)
_TOKENS = frozenset({"token", "tokens"})


class Names:
    """What names say, with the words of a workspace; what was asked once is remembered."""

    def __init__(self, words: SecretWords | None = None) -> None:
        words = words or SecretWords()
        self.secret = frozenset(" ".join(split_name(word)) for word in words.secret)
        self.harmless = frozenset(" ".join(split_name(word)) for word in words.harmless)
        self._known: dict[str, Secrecy] = {}

    def secrecy(self, name: str) -> Secrecy:
        """What a value that goes by this name is."""
        known = self._known.get(name)
        if known is None:
            known = self._decide(name) if len(name) <= _LONGEST else "none"
            if len(self._known) < _KEPT:
                self._known[name] = known
        return known

    def _decide(self, name: str) -> Secrecy:
        words = split_name(name)
        whole = " ".join(words)
        if whole in self.harmless:
            return "none"
        if whole in self.secret or any(word in self.secret for word in words):
            return "secret"
        return _of_words(words, name)


def _of_words(words: list[str], name: str) -> Secrecy:
    words = _bare_words(words, " " in name.strip())
    if not words or (len(words) > 1 and words[0] in ASKED and " " not in name.strip()):
        return "none"
    if words[-1] in _HOLDERS:
        several: Secrecy = "secrets" if words[-1] in _ALL else "holder"
        return "none" if any(word in COUNTED for word in words[:-1]) else several
    joined = "" if name.isascii() else "".join(_SEPARATORS.split(fold_letters(name).lower()))
    if joined and any(sign in joined for sign in SIGNS):
        return "weak" if joined in _AMBIGUOUS else "secret"
    return _of_last_secret(words, name)


def _bare_words(words: list[str], spoken: bool) -> list[str]:
    """The words without numbers at the end and without what says nothing ("your ...", "... is")."""
    while words and words[-1].isdigit():
        words = words[:-1]
    while len(words) > 1 and words[0] in FILLERS:
        words = words[1:]
    while spoken and len(words) > 1 and words[-1] in ("is", "ist", "est", "es", "of"):
        words = words[:-1]
    return words


def _of_last_secret(words: list[str], name: str) -> Secrecy:
    for place in range(len(words) - 1, -1, -1):
        found, tail = _secret_at(words, place)
        if found != "none":
            spoken_of = any(word in SPEAKS_OF for word in tail) or any(word in COUNTED for word in words[:place])
            return "none" if spoken_of else _with_tail(found, words[place], tail, name)
    return "none"


def _with_tail(found: Secrecy, word: str, tail: list[str], name: str) -> Secrecy:
    """A plain word behind the secret's ("secret garden") makes it weak, but for names written as of an environment."""
    if not tail or name.isupper() or (word not in ("secret", "cookie", "pass") and all(item in TAILS for item in tail)):
        return found
    return "secret" if word == "secret" and tail[0] in TAILS else "weak"


def _secret_at(words: list[str], place: int) -> tuple[Secrecy, list[str]]:
    """What the word at a place says, and the words behind what it names."""
    word, rest = words[place], words[place + 1 :]
    if word in _SHORT:
        return ("secret" if _short_counts(words, place) else "none"), rest
    if word in _AMBIGUOUS:
        return "weak", rest
    if word in _ALL or (len(word) > 5 and word.endswith(_ENDINGS) and not _counts(word)):
        return "secret", rest
    if any(" ".join(words[max(0, place - before) : place + 1]) in _PAIRS for before in (1, 2)):
        return "secret", rest
    return _key_at(words, place)


def _short_counts(words: list[str], place: int) -> bool:
    """Whether "pass" or "pin", plain words too, stand alone or behind a word that makes them a secret's."""
    word, rest = words[place], words[place + 1 :]
    kin = PASS_OF if word == "pass" else PIN_OF
    alone = len(words) == 1 or (place == 0 and word != "pass" and all(item in PIN_OF for item in rest))
    return alone or (place > 0 and words[place - 1] in kin)


def _counts(word: str) -> bool:
    """Whether a long word is one like "maxtokens"."""
    return word.endswith("tokens") and word[:-6] in COUNTED


def _key_at(words: list[str], place: int) -> tuple[Secrecy, list[str]]:
    word, rest = words[place], words[place + 1 :]
    if word not in _KEY_WORDS:
        long = word.endswith(("schlussel", "sleutel", "nyckel", "nogle", "nokkel", "avain"))
        known = long and any(word.startswith(item) for item in _KEYS_OF)
        return ("secret", rest) if known else ("none", rest)
    if place and words[place - 1] in _KEYS_OF:
        return "secret", rest
    while rest and rest[0] in _SMALL:
        rest = rest[1:]
    if rest and rest[0] in _KEYS_OF and (word not in ("key", "keys") or rest[0] == "api"):
        return "secret", rest[1:]
    return "none", rest


def is_action(name: str) -> bool:
    """Whether a name is of something done ("get token"): an object by such a name is a part of the flow."""
    words = split_name(name)
    return len(words) > 1 and words[0] in ACTIONS


def is_plain_part(name: str) -> bool:
    """Whether a part of a holder by this name is no secret: its kind, its user, its address."""
    words = split_name(name)
    return not words or "".join(words) in _PLAIN or words[-1] in _PLAIN or words[-1] in SPEAKS_OF

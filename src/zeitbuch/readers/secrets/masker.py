# The walk over a decoded document. What stands under a secret's name is one, and so is what stands below it; a pair of a name and a
# value, in an object, a list or an XML element, counts as the name and its value.
"""Documents without secrets."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from typing import Any

from .assignments import Assignments
from .labels import Marks
from .names import Names, Secrecy, is_action, is_plain_part
from .texts import TextMasker
from .values import OPENINGS, is_harmless, looks_like_id, looks_mixed, looks_secret, mark_value
from .words import FLOW_KEYS, SecretWords

_NAMES = frozenset(
    "name key header field id param parameter attribute label variable env k n property setting title option flag as".split()
)
_VALUES = frozenset(
    "value values content contents val v data text default is raw current string secret plain old new const example x cdata".split()
)
_ID_KEY = re.compile(
    r"(?:^|[a-z_\-])(?:[iI]ds?|ID|_ref|Ref|uuid|UUID)$|^(?:\$?ref|uuid|guid|hash|checksum|etag|commit|revision|version|digest|sha\w*|from|to|source|target|next|previous|parent|href)$"
)
_HEADER_LIKE = re.compile(r"(?i)^(?:proxy-)?authorization$|^(?:set-)?cookie$|^x-|-")
_NUMBERED_ID = re.compile(r"[a-z]{2,8}-\d{1,3}")
_OPTION_ID = re.compile(r"[a-z]{1,8}_\d{1,3}")
_LONGEST_NAME = 60
_KEPT = 50_000
_DIGITS = 4  # a number of fewer digits is no secret


class Masker:
    """Masks documents of one reading: with the words of a workspace, and one set of marks."""

    def __init__(
        self, words: SecretWords | None = None, openings: tuple[str, ...] = OPENINGS, key: bytes = b""
    ) -> None:
        self.names = Names(words)
        self.openings = openings
        self.marks = Marks(key)
        self.texts = TextMasker(Assignments(self.names, openings), self.marks.mark)
        self.texts.mask_value = self._mask_decoded
        self._depth = 0
        self._document: Any = None
        self._ids: frozenset[str] | None = None
        self._texts_masked: dict[str, str] = {}

    # -- documents ----------------------------------------------------------------------------------------------------

    def mask_document(self, value: Any, raw: bytes | None, keys: Iterable[str] | None = None) -> Any:
        """A decoded document without secrets; the value itself when a look at its bytes and keys finds nothing to look for.

        ``raw`` are its bytes in UTF-8 (None: look at every text), ``keys`` all keys of its objects.
        """
        secrecy = self.names.secrecy
        if not self.texts.look(raw) and keys is not None and not any([secrecy(str(key)) != "none" for key in keys]):
            return value
        self._document, self._ids = value, None
        try:
            return self._mask(value, "none")
        finally:
            self._document = None

    def mask_text(self, text: str, label: str = "") -> str:
        """One text without secrets; ``label`` is the name it goes by."""
        known = self._texts_masked.get(text) if not label else None
        if known is None:
            self.texts.look(text.encode("utf-8", "surrogatepass"))
            known = self._mask_string(text, self.names.secrecy(label) if label else "none", label)
            if not label and len(self._texts_masked) < _KEPT:
                self._texts_masked[text] = known
        elif known != text:
            self.marks.made += 1  # remembered from another flow: this one has to be labelled too
        return known

    def note_plain(self, texts: Iterable[str]) -> None:
        """Look at several texts at once: when together they can hold no secret, each is remembered as it is."""
        fresh = [text for text in texts if text not in self._texts_masked]
        joined = "\n".join(fresh)
        if not fresh or '"' in joined or len(self._texts_masked) >= _KEPT:
            return  # what stands in quotes can hide a word from the look
        if not self.texts.look(joined.encode("utf-8", "surrogatepass")):
            self._texts_masked.update(zip(fresh, fresh, strict=True))

    def mask_part(self, text: str, secrecy: Secrecy, name: str) -> str:
        """A text of a document that was looked at already, which goes by a name and is as secret as is said."""
        if secrecy == "none" and self.texts.passes(text):
            return text
        return self._mask_string(text, secrecy, name)

    def secrecy_below(self, name: str, inherited: Secrecy) -> Secrecy:
        """What goes by a name is, below something of this secrecy."""
        own = self.names.secrecy(name)
        if inherited == "none" or own not in ("none", "weak"):
            return own
        if inherited in ("secret", "secrets") and name.lower() in _VALUES:
            return "secret"
        return "none" if is_plain_part(name) else "weak"

    def _mask_decoded(self, value: Any, depth: int) -> Any:
        before, self._depth = self._depth, depth
        try:
            return self._mask(value, "none")
        finally:
            self._depth = before

    # -- values -------------------------------------------------------------------------------------------------------

    def _mask(self, value: Any, secrecy: Secrecy, key: str = "") -> Any:
        kind = type(value)
        if kind is str:
            return self._mask_string(value, secrecy, key)
        if kind is dict:
            return self._mask_object(value, secrecy, key)
        if kind is list:
            return self._mask_list(value, secrecy, key)
        if secrecy in ("secret", "secrets") and kind in (int, float):
            return self._mask_number(value, secrecy, key)
        return value

    def _mask_number(self, value: float, secrecy: Secrecy, key: str) -> Any:
        digits = sum(map(str.isdigit, str(value)))
        least = 6 if key.lower().endswith("token") else _DIGITS
        return self.marks.mark(str(value)) if secrecy == "secret" and digits >= least else value

    def _mask_string(self, text: str, secrecy: Secrecy, key: str) -> str:
        if secrecy == "none":
            return self.texts.masked(text, bool(key) and _ID_KEY.search(key) is not None, self._depth)
        if text.startswith(("\ue0f0", "secret ")) and re.fullmatch(r"secret [A-Z]{1,3}", text):
            return text
        held = False
        if secrecy in ("secret", "secrets"):
            numbered = _NUMBERED_ID.fullmatch(text) is not None and key.lower().endswith(("token", "key"))
            held = not (numbered or _OPTION_ID.fullmatch(text) or self._is_id(text))
        elif secrecy == "weak":
            held = looks_secret(text) and not self._is_id(text)
        elif secrecy == "holder":
            held = (looks_mixed(text) or _is_user_and_password(text)) and not self._is_id(text)
        marked = self._mask_held(text, secrecy) if held else text
        return marked if marked != text else self.texts.masked(text, False, self._depth)

    def _mask_held(self, text: str, secrecy: Secrecy) -> str:
        inner = text.strip()
        if inner[:1] in ("{", "[") and inner[-1:] in ("}", "]"):
            masked = self.texts.masked(text, False, self._depth)
            if masked != text:
                return masked
        user, colon, rest = text.partition(":")
        if secrecy == "holder" and colon and user.isidentifier() and rest:
            return f"{user}:{self.marks.mark(rest)}"
        return mark_value(text, self.marks.mark, self.openings)

    # -- objects and lists --------------------------------------------------------------------------------------------

    def _mask_object(self, value: dict[Any, Any], inherited: Secrecy, name: str) -> dict[Any, Any]:
        if inherited != "none" and (is_action(name) or not FLOW_KEYS.isdisjoint(value)):
            inherited = "none"
        looked, passes = self.texts.looked, self.texts.passes
        named = self._named_by(value) if looked.stems else None
        if named is None and inherited == "none":
            return self._mask_plain_object(value, passes)
        made: dict[Any, Any] = {}
        for key, item in value.items():
            word = key if type(key) is str else str(key)
            secrecy = self.secrecy_below(word, inherited)
            if named and word != named[0] and secrecy in ("none", "weak") and self._is_value(word, item, value):
                secrecy = named[1]
            made[self._mask_key(key)] = self._mask(item, secrecy, word)
        return made

    def _mask_plain_object(self, value: dict[Any, Any], passes: Callable[[str], bool]) -> dict[Any, Any]:
        """An object that is below no secret and no pair: most are."""
        known = self.names.secrecy
        made: dict[Any, Any] = {}
        for key, item in value.items():
            word = key if type(key) is str else str(key)
            secrecy = known(word)
            kind = type(item)
            if kind is str:
                if secrecy != "none" or not passes(item):
                    item = self._mask_string(item, secrecy, word)
            elif kind is dict or kind is list or (secrecy != "none" and kind is not bool):
                item = self._mask(item, secrecy, word)
            made[self._mask_key(key) if len(word) >= 16 else key] = item
        return made

    def _named_by(self, value: dict[Any, Any]) -> tuple[str, Secrecy] | None:
        """The key whose text names a secret, where an object is a pair: {"header": "X-Api-Key", "is": "..."}."""
        if len(value) > 12:
            return None
        for key, item in value.items():
            if type(item) is str and 2 <= len(item) <= _LONGEST_NAME:
                secrecy = self.names.secrecy(item)
                if secrecy in ("secret", "secrets") and not is_action(item):
                    low = str(key).lower()
                    small = len(value) <= 3 and not is_plain_part(low)
                    if small or low in _NAMES or low.endswith(("name", "key", "header")):
                        return str(key), "secret"
        return None

    def _is_value(self, key: str, item: Any, pair: dict[Any, Any]) -> bool:
        if key.lower() in _VALUES or key.lower().endswith("value"):
            return True
        texts = [held for held in pair.values() if type(held) is str]
        return type(item) is str and len(texts) == 2 and len(pair) <= 4 and looks_mixed(item) and not is_plain_part(key)

    def _mask_key(self, key: Any) -> Any:
        """A key that holds a secret (a token as the name of an entry) is masked too."""
        if type(key) is not str or len(key) < 16 or self.texts.passes(key):
            return key
        return self.texts.masked(key, True, self._depth)

    def _mask_list(self, items: list[Any], secrecy: Secrecy, key: str) -> list[Any]:
        below: Secrecy = secrecy if secrecy != "secrets" else "secret"
        made = [self._mask(item, below, key) for item in items]
        if secrecy == "none" and len(items) >= 2 and self.texts.looked.forms and type(items[0]) in (str, list):
            self._mask_pairs(items, made)
        return made

    def _mask_pairs(self, items: list[Any], made: list[Any]) -> None:
        """Names and values side by side: ["X-Auth-Token", "..."], ["--password", "..."], [["password", "..."], ...]."""
        if type(items[0]) is list:
            pairs = [(item, masked) for item, masked in zip(items, made, strict=True) if _is_pair(item)]
            for item, masked in pairs if len(pairs) == len(items) else ():
                if self.names.secrecy(item[0]) in ("secret", "secrets"):
                    masked[1] = self._held_beside(item[1], masked[1])
            return
        for place in range(1, len(items)):
            before, item = items[place - 1], items[place]
            if type(before) is str and len(before) <= _LONGEST_NAME and type(item) in (str, int):
                made[place] = self._mask_beside(before, item, made[place])

    def _mask_beside(self, before: str, item: Any, masked: Any) -> Any:
        """An item of a list behind another that may be its name."""
        flag = before.startswith("-") and "=" not in before
        if flag and before in ("-u", "--user") and type(item) is str and ":" in item:
            user, _, rest = item.partition(":")
            return f"{user}:{self._held_beside(rest, rest)}"
        if str(item).startswith("-") or self.names.secrecy(before.lstrip("-")) not in ("secret", "secrets"):
            return masked
        tells = flag or _HEADER_LIKE.search(before) or before.isupper() or looks_mixed(str(item))
        return self._held_beside(item, masked) if tells else masked

    def _held_beside(self, item: Any, masked: Any) -> Any:
        if masked != item or (type(item) is int and len(str(item)) < _DIGITS):
            return masked
        return mark_value(str(item), self.marks.mark, self.openings) if not is_harmless(str(item)) else item

    # -- references ---------------------------------------------------------------------------------------------------

    def _is_id(self, text: str) -> bool:
        """Whether a text is the id of something in the document: a reference to it is no secret."""
        if self._document is None or len(text) > 100:
            return False
        if self._ids is None:
            self._ids = frozenset(_ids_of(self._document))
        return text in self._ids


def _is_pair(item: Any) -> bool:
    return type(item) is list and len(item) == 2 and all([type(part) is str for part in item])


def _is_user_and_password(text: str) -> bool:
    user, colon, rest = text.partition(":")
    if not colon or len(rest) < 6 or rest[0] == "/" or " " in text:
        return False
    if looks_like_id(text) and any(map(str.isdigit, rest)):
        return False
    return user.isidentifier() and not is_harmless(user)


def _ids_of(document: Any) -> Iterable[str]:
    stack = [document]
    while stack:
        value = stack.pop()
        if isinstance(value, dict):
            for key in ("id", "uuid", "ref"):
                if type(value.get(key)) is str and len(value) > 1:
                    yield value[key]
            stack += value.values()
        elif isinstance(value, list):
            stack += value

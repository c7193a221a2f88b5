# One look at a document says which forms of secrets it can hold at all; each of its texts is asked only for these. Secrets are
# found as stretches of a text and replaced at once, so that no form sees what another has put in.
"""Texts without secrets."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterable
from typing import Any, NamedTuple

from .assignments import Assignments, Span
from .forms import FORMS, Form
from .names import SIGNS, Names, fold_letters
from .values import Mark
from .words import KEY_WORDS, KEYS_OF, PAIRS

_MASKED = re.compile(r"\bsecret [A-Z]{1,3}\b")  # what an output of ours holds in the place of a secret
_ESCAPED = (b"\\u", b"\\x")
_OPENS = ('"', "{", "[")
_BREAK = re.compile(rb"\\[nrtbf]")
_ESCAPE = re.compile(rb"\\+(?:u([0-9a-fA-F]{4})|x([0-9a-fA-F]{2}))")  # within a text of JSON in JSON too
_ESCAPE_IN_TEXT = re.compile(r"\\+u([0-9a-fA-F]{4})")
_LETTERS_ALONE = bytes([code if code > 127 or chr(code).isalpha() else 32 for code in range(256)])
_RUN = re.compile(r"[^\W\d_]+")
_KEPT = 200_000


def _partners() -> dict[str, frozenset[str]]:
    """Words that name a secret only with another, and their others."""
    found: dict[str, set[str]] = {}
    for pair in PAIRS:
        first, *_, last = fold_letters(pair).split()
        found.setdefault(last, set()).add(first)
    return {
        word: frozenset(others)
        for word, others in found.items()
        if Names().secrecy(word) == "none" and word not in KEY_WORDS
    }


_LONELY = _partners()
_KEYS = frozenset(fold_letters(word) for word in KEY_WORDS)
_BARE_KEYS = frozenset({"key", "keys"})
_KEYS_OF = frozenset(fold_letters(word) for word in KEYS_OF)
_HALVES = frozenset(_LONELY) | _KEYS | _KEYS_OF
_ASKED_FOR = frozenset(word for form in FORMS for word in form.words) | frozenset(
    first for others in _LONELY.values() for first in others
)
_SILENT = (
    frozenset(word for word in _ASKED_FOR | _KEYS_OF if Names().secrecy(word) == "none") - _KEYS
)  # tell nothing by themselves
_SETTING = re.compile(r"(?m)^\s*(?:- +)?[\w.\- ]{1,40}:(?: |$)")
_LONGEST_YAML = 20_000
_DEEPEST = 4  # texts of JSON within texts of JSON


class Looked(NamedTuple):
    """The forms of secrets that a document can hold; the words in it that may name one, in lower case without accents; and what of
    all that a text must hold to be looked at."""

    forms: tuple[Form, ...]
    stems: tuple[str, ...]
    tells: tuple[str, ...]


_NOTHING = Looked((), (), ())
ANYTHING = Looked(FORMS, ("",), ("",))  # what was not looked at may hold every form


class Look:
    """Looks at whole documents. What a word says is remembered: an estate says the same words again and again."""

    def __init__(self, names: Names) -> None:
        self.names = names
        self._plain: set[bytes] = set()
        self._telling: dict[bytes, tuple[str, ...]] = {}

    def look_at_bytes(self, raw: bytes) -> Looked:
        """What a document with these bytes (UTF-8) can hold."""
        if any([begin in raw for begin in _ESCAPED]):
            raw = _ESCAPE.sub(_unescaped, raw)
        if b"\\" in raw:
            raw = _BREAK.sub(b" ", raw)
        every = raw.translate(_LETTERS_ALONE).split()
        words = set(every)
        for word in words - self._plain - self._telling.keys():
            self._learn(word)
        held = set[str]()
        for word in words & self._telling.keys():
            held.update(self._telling[word])
        stems = {
            word for word in held if (not _LONELY[word].isdisjoint(held) if word in _LONELY else word not in _SILENT)
        }
        if stems and stems <= _BARE_KEYS and held.isdisjoint(_KEYS_OF) and not _keys_elsewhere(every, raw):
            stems = set()
        low = raw.lower().decode("utf-8", "replace")
        forms = tuple([form for form in FORMS if _can_hold(form, low, held, bool(stems))])
        return Looked(forms, tuple(stems), _tells_of(forms, stems)) if forms else _NOTHING

    def _learn(self, word: bytes) -> None:
        """Keep what a run of letters says: its parts that name a secret, or that a form asks for."""
        text = word.decode("utf-8", "replace")
        folded = "" if word.isascii() else fold_letters(text.lower())
        said = [sign for sign in SIGNS if folded and sign in folded]
        for run in _RUN.findall(text):
            folded = fold_letters(run.lower())
            if folded in _HALVES or folded in _ASKED_FOR or self.names.secrecy(run) != "none":
                said.append(folded)
        if said:
            self._telling[word] = tuple(said)
        elif len(self._plain) < _KEPT:
            self._plain.add(word)


def _unescaped(found: re.Match[bytes]) -> bytes:
    return chr(int(found[1] or found[2], 16)).encode("utf-8", "replace")


def _keys_elsewhere(every: list[bytes], raw: bytes) -> bool:
    """Whether "key" is more than the name of fields."""
    return any(
        [
            word in every and every.count(word) > raw.count(b'"' + word)
            for word in (b"key", b"keys", b"Key", b"Keys", b"KEY")
        ]
    )


def _can_hold(form: Form, low: str, held: set[str], stems: bool) -> bool:
    if (form.named or form.words) and not (form.named and stems) and held.isdisjoint(form.words):
        return False
    if form.needs and not any([need in low for need in form.needs]):
        return False
    return form.confirm is None or form.confirm(low, held)


def _tells_of(forms: tuple[Form, ...], stems: set[str]) -> tuple[str, ...]:
    """One of these stands in every text that holds a secret: words, and the letters that each form needs."""
    tells: set[str] = set()
    for form in forms:
        tells.update(form.needs or form.words or stems)
    return tuple(sorted(tells, key=len))


class TextMasker:
    """Replaces secrets in texts by what ``mark`` gives for them."""

    def __init__(self, given: Assignments, mark: Mark) -> None:
        self.given = given
        self.mark = mark
        self.looking = Look(given.names)
        self.looked = ANYTHING
        self.mask_value: Callable[[Any, int], Any] | None = None  # how a value decoded from a text is masked

    def look(self, raw: bytes | None) -> bool:
        """Prepare for a document; False when none of its texts can hold a secret of any form."""
        self.looked = ANYTHING if raw is None else self.looking.look_at_bytes(raw)
        return bool(self.looked.forms)

    def passes(self, text: str) -> bool:
        """Whether a text holds nothing that any form needs."""
        low = text.lower()
        for tell in self.looked.tells:
            if tell in low:
                return False
        return (low.isascii() and "\\u" not in low) or not self.looked.tells

    def masked(self, text: str, plain: bool = False, depth: int = 0) -> str:
        """The text without secrets; with ``plain`` (an id, a reference) without what randomness alone tells."""
        forms, stems, tells = self.looked
        if len(text) < 4:
            return text
        low = _lowered(text)
        if not any([tell in low for tell in tells]):
            return text
        if text[:1] in _OPENS or text[:1].isspace():
            text = self._masked_json(text, depth)
        elif "\n" in text and len(_SETTING.findall(text)) > 1:
            text = self._masked_yaml(text, depth)
        named = any([stem in low for stem in stems])
        spans: list[Span] = []
        for form in forms:
            if not (plain and form.random) and (
                any([need in low for need in form.needs or form.words]) if form.needs or form.words else named
            ):
                spans += form.spans(text, self.given)
        return self._replaced(text, spans) if spans else text

    def _replaced(self, text: str, spans: list[Span]) -> str:
        kept = [found.span() for found in _MASKED.finditer(text)] if "secret " in text else []
        made, at = [], 0
        for first, last in _merged(spans):
            if any(a < last and first < b for a, b in kept) or text[first:last].startswith("\ue0f0"):
                continue
            made += [text[at:first], self.mark(text[first:last])]
            at = last
        return "".join(made) + text[at:]

    def _masked_json(self, text: str, depth: int) -> str:
        """A text that is JSON: masked as what it says, in its own spelling where that can be."""
        body = text.strip()
        if depth >= _DEEPEST or len(body) < 8 or body[-1] not in '"}]' or self.mask_value is None:
            return text
        try:
            value = json.loads(body)
        except (ValueError, RecursionError):
            return text
        masked = self.mask_value(value, depth + 1)
        if masked == value:
            return text
        spelled = body
        for old, new in _differences(value, masked):
            spelled = _respelled(spelled, old, new)
        try:
            if json.loads(spelled) == masked:
                return text.replace(body, spelled)
        except ValueError:
            pass
        return json.dumps(masked, ensure_ascii=False)

    def _masked_yaml(self, text: str, depth: int) -> str:
        """A text of settings in lines: masked as what it says, where it is YAML."""
        if depth >= _DEEPEST or len(text) > _LONGEST_YAML or self.mask_value is None:
            return text
        import yaml

        try:
            value = yaml.load(text, Loader=getattr(yaml, "CBaseLoader", yaml.BaseLoader))
        except (yaml.YAMLError, ValueError, RecursionError):
            return text
        if not isinstance(value, dict | list) or "&" in text:
            return text
        for old, new in _differences(value, self.mask_value(value, depth + 1)):
            text = text.replace(old, new) if isinstance(old, str) and len(old) >= 4 else text
        return text


def _lowered(text: str) -> str:
    """A text in lower case without accents and escapes."""
    if "\\u" in text:
        text = _ESCAPE_IN_TEXT.sub(lambda found: chr(int(found[1], 16)), text)
    return text.lower() if text.isascii() else fold_letters(text.lower())


def _merged(spans: Iterable[Span]) -> list[Span]:
    made: list[Span] = []
    for first, last in sorted(spans):
        if made and first < made[-1][1]:
            made[-1] = (made[-1][0], max(last, made[-1][1]))
        elif last > first:
            made.append((first, last))
    return made


def _differences(old: Any, new: Any) -> list[tuple[Any, Any]]:
    """The scalars that masking has changed."""
    if isinstance(old, dict) and isinstance(new, dict):
        if list(old) != list(new):
            return []
        return [pair for key in old for pair in _differences(old[key], new[key])]
    if isinstance(old, list) and isinstance(new, list):
        return [pair for first, second in zip(old, new, strict=False) for pair in _differences(first, second)]
    return [(old, new)] if old != new else []


def _respelled(text: str, old: Any, new: Any) -> str:
    fresh = json.dumps(new, ensure_ascii=False)
    for ascii_only in (False, True):
        spelled = json.dumps(old, ensure_ascii=ascii_only)
        if spelled in text:
            return text.replace(spelled, fresh)
    return text

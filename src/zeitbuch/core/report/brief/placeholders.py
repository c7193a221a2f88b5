# Placeholders stand for what must stay at home: [person 1], [address 2]. Equal things have equal placeholders, and the key that leads back is kept apart.
"""Putting placeholders into texts, and taking them out again."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping, Sequence
from itertools import pairwise
from typing import get_args

from .private_words import Found, NameLists, PrivateKind, private_stretches, without_overlaps

KINDS: tuple[PrivateKind, ...] = get_args(PrivateKind)
_NAMED: dict[str, PrivateKind] = {"person": "person", "address": "address", "account": "account"}
PEOPLE: frozenset[PrivateKind] = frozenset({"person"})
PLACEHOLDER = re.compile(rf"\\?\[\s*({'|'.join(KINDS)})\s+(\d+)\s*\\?\]", re.I)
_SHORTEST = 3  # letters of a thing that is looked for wherever it stands
_GAPS = re.compile(r"[\s_.\-]+")
_WORD = re.compile(r"[^\W_]+")
_WIDEST_GAP = 3


class Placeholders:
    """Hands out placeholders and keeps their key. ``seen`` are words that the flows use in small letters: they are nobody's name."""

    def __init__(self, lists: NameLists, seen: Collection[str] = ()) -> None:
        self.lists, self.seen = lists, seen
        self.key: dict[str, str] = {}
        self._by_thing: dict[str, str] = {}
        self._counts: dict[str, int] = dict.fromkeys(KINDS, 0)
        # First word -> all words of a thing and its kind: a look-up a word, however many things are known.
        self._known: dict[str, dict[tuple[str, ...], PrivateKind]] = {}

    def know(self, thing: str, kind: PrivateKind) -> None:
        """From now on a thing is found wherever it stands; of a person, each part that is no word of every day."""
        parts: list[str] = [thing]
        if kind == "person":
            words = re.findall(r"[^\W\d_]{3,}", thing)
            if len(words) > 1 and len(words) < 5:
                parts += [one for one in words if self._is_name(one)]
        for part in parts:
            plain = tuple(_WORD.findall(part.casefold()))
            if sum(map(len, plain)) >= _SHORTEST:
                self._known.setdefault(plain[0], {}).setdefault(plain, kind)

    def _is_name(self, word: str) -> bool:
        low = word.casefold()
        return word[0].isupper() and low not in self.lists.ordinary

    def learn(self, texts: Iterable[str], kinds: Collection[PrivateKind] = PEOPLE, but: Collection[str] = ()) -> None:
        """Looks texts through for what is private, so that it is found wherever it stands: things of these kinds, those of the names ``but`` (as `plain_thing` has them) apart."""
        for text in texts:
            for found in private_stretches(text, self.lists, self.seen):
                thing = text[found.start : found.end]
                if found.kind in kinds and plain_thing(thing) not in but:
                    self.know(thing, found.kind)

    def of(self, thing: str, kind: PrivateKind) -> str:
        """The placeholder of a thing."""
        plain = plain_thing(thing)
        made = self._by_thing.get(plain)
        if made is None:
            self._counts[kind] += 1
            made = f"[{kind} {self._counts[kind]}]"
            self._by_thing[plain] = made
            self.key[made] = thing
        return made

    def adopt(self, mark: str, thing: str, kind: PrivateKind) -> None:
        """Knows a thing by a placeholder that it has already."""
        self._by_thing[plain_thing(thing)] = mark
        self.know(thing, kind)

    def within(self, text: str, kept: Iterable[str] = ()) -> str:
        """A text with placeholders for what is private in it; the stretches ``kept`` (references) stay as they are, and what looks like a
        placeholder already is a text like others."""
        looks = [Found(match.start(), match.end(), "text") for match in PLACEHOLDER.finditer(text)]
        barred = [(match.start(), match.end()) for one in kept if one for match in re.finditer(re.escape(one), text)]
        return self._replaced(text, without_overlaps([*looks, *self._stretches(text)]), barred)

    def again(self, text: str) -> str:
        """A text of ours with placeholders already: whatever is known to be private by now is taken out wherever it stands."""
        barred = [(match.start(), match.end()) for match in PLACEHOLDER.finditer(text)]
        return self._replaced(text, without_overlaps(self._known_in(text)), barred)

    def _replaced(self, text: str, found: Sequence[Found], barred: Sequence[tuple[int, int]]) -> str:
        parts, last = [], 0
        for one in found:
            if not any(one.start < end and start < one.end for start, end in barred):
                parts += [text[last : one.start], self.of(text[one.start : one.end], one.kind)]
                last = one.end
        return "".join([*parts, text[last:]])

    def _stretches(self, text: str) -> list[Found]:
        return without_overlaps([*self._known_in(text), *private_stretches(text, self.lists, self.seen)])

    def _known_in(self, text: str) -> list[Found]:
        """Where the things that are known stand in a text; of two at one place the longer."""
        if not self._known:
            return []
        words = [(match[0].casefold(), match.start(), match.end()) for match in _WORD.finditer(text)]
        found = []
        for place, (word, start, _) in enumerate(words):
            fits = [
                (words[place + len(thing) - 1][2], kind)
                for thing, kind in self._known.get(word, {}).items()
                if _stands_at(words, place, thing)
            ]
            if fits:
                end, kind = max(fits)
                found.append(Found(start, end, kind))
        return found


def _stands_at(words: Sequence[tuple[str, int, int]], place: int, thing: tuple[str, ...]) -> bool:
    """Whether the words of a thing stand there one behind the other, with no more than signs between them."""
    there = words[place : place + len(thing)]
    if tuple(word for word, _, _ in there) != thing:
        return False
    return all(after[1] - before[2] <= _WIDEST_GAP for before, after in pairwise(there))


def plain_thing(thing: str) -> str:
    """A thing as it is compared: in small letters, with spaces for what separates its words."""
    return _GAPS.sub(" ", thing).strip().casefold()


def filled_in(text: str, key: Mapping[str, str]) -> str:
    """A text with what its placeholders stand for; one that the key does not have stays."""
    return PLACEHOLDER.sub(lambda found: key.get(_canonical(found), found[0]), text)


def taken_out(text: str, key: Mapping[str, str]) -> str:
    """A text with its placeholders as the key writes them, and people, addresses and accounts of the key that stand in it by name replaced."""
    made = Placeholders(NameLists())
    for mark, thing in key.items():
        kind = _NAMED.get(mark[1:].split()[0])
        if kind is not None:
            made.adopt(mark, thing, kind)
    return made.again(PLACEHOLDER.sub(lambda found: _canonical(found) if _canonical(found) in key else found[0], text))


def unknown_placeholders(text: str, key: Mapping[str, str]) -> list[str]:
    """The placeholders of a text that the key does not have, in order."""
    found = dict.fromkeys(_canonical(one) for one in PLACEHOLDER.finditer(text))
    return [one for one in found if one not in key]


def _canonical(found: re.Match[str]) -> str:
    return f"[{found[1].lower()} {int(found[2])}]"

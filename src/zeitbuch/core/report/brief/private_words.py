# What in running text belongs to somebody: addresses, numbers, names. Nothing here is certain: a text is searched for what looks so, and what looks so is
# taken out, for a word too many costs a reader a moment and a word too few costs a person more.
"""Finding names, addresses and numbers in running text."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Sequence
from typing import Literal, NamedTuple

from msgspec import Struct

PrivateKind = Literal["person", "address", "host", "account", "number", "value", "text"]

_CAP_LETTER = r"[^\W\d_a-zß-ÿ]"
_CAP = rf"{_CAP_LETTER}[\w'’]*(?:-[^\W\d_][\w'’]*)*"
_SURE_DOMAINS = "com|org|eu|de|ch|fr|nl|uk|example|invalid"  # endings that are no name of a field
_DOMAINS = f"{_SURE_DOMAINS}|net|at|no|se|dk|fi|it|es|pl|io|test|internal|local|lan|corp"
_STREETS = "Street|St|Road|Rd|Lane|Avenue|Ave|Drive|Close|Square|Quay|Terrace|Way|Wharf"
_ENDINGS = "straße|strasse|str|weg|gasse|platz|allee|ring|damm|ufer|kai|gata|gate|gaten|veien|vägen|gatan|vej|gade|straat|laan|plein"
# The earlier of two that begin at the same place is taken; patterns of a kind are written so that none of them can take long.
_PATTERNS: tuple[tuple[PrivateKind, re.Pattern[str]], ...] = (
    ("host", re.compile(r"\b[a-z][a-z0-9+.-]{1,15}://[^\s\"'<>)\]}]+", re.I)),
    ("address", re.compile(r"[\w.+'-]{1,64}@[\w-]+(?:\.[\w-]+)+")),
    ("host", re.compile(rf"\b(?:(?:[a-z0-9-]{{1,63}}\.){{2,6}}(?:{_DOMAINS})|[a-z0-9-]{{1,63}}\.(?:{_SURE_DOMAINS}))\b(?:/[^\s\"'<>)\]}}]*)?", re.I)),
    ("host", re.compile(r"\b\d{1,3}(?:\.\d{1,3}){3}\b")),
    ("address", re.compile(rf"\b\d{{1,4}}[a-z]? (?:{_CAP} ){{1,3}}(?:{_STREETS})\b\.?")),
    ("address", re.compile(rf"\b{_CAP_LETTER}[\w-]{{0,40}}?[ -]?(?i:{_ENDINGS})\.? \d{{1,4}}[a-z]?\b")),
    ("address", re.compile(r"\b(?:rue|via|calle|avenida|boulevard|place|piazza|plaza|rua)(?: [\w'’]+){1,4},? \d{1,4}\b", re.I)),
    ("address", re.compile(r"\b\d{1,4},? (?:rue|boulevard|avenue|place|chemin)(?: [\w'’]+){1,4}")),
    ("address", re.compile(rf"\b(?:[A-Z]{{1,2}}-)?\d{{4,5}} {_CAP}")),
    ("address", re.compile(r"\b[A-Z]{1,2}\d[A-Z\d]? \d[A-Z]{2}\b")),
    ("account", re.compile(r"\b[A-Z]{2}\d{2}(?: ?[A-Z0-9]{2,4}){3,8}\b")),
    ("person", re.compile(
        rf"\b(?:Mr|Mrs|Ms|Miss|Mx|Dr|Prof|Herrn?|Frau|Fru|Hr|Mme|Mlle|Sra?|Sig|Sig\.ra|Dott|Mevr|Dhr|Pan|Pani)\b\.? (?:(?:Dr|Prof)\.? )?{_CAP}(?: {_CAP})?"
    )),
    ("number", re.compile(r"\b[A-Z]{1,5}[-/ ]?\d{4,}\b")),
    ("number", re.compile(r"(?<![\w.,])\+?\(?\d[\d ()/.-]{3,24}\d(?![\w])")),
    ("number", re.compile(r"\b\d{5,}\b")),
)  # fmt: skip
LEAST_DIGITS = 5  # of what counts as a number of somebody; shorter ones are counts and limits
_YEAR_AND_MONTH = re.compile(r"(?:19|20)\d\d-(?:0[1-9]|1[0-2])")
_WORD = re.compile(r"[^\W\d_]+(?:['’-][^\W\d_]+)*")
_PARTICLES = frozenset("de del della der den di du da dos van von zu zur ten ter af av bin ibn el al la le y e".split())
_GAP = re.compile(r"(?: |\. |_|\u00a0)?")


class NameLists(Struct, frozen=True):
    """Names of people and words of every day, in small letters: ``given`` and ``family`` names, ``ordinary`` words."""

    given: frozenset[str] = frozenset()
    family: frozenset[str] = frozenset()
    ordinary: frozenset[str] = frozenset()


class Found(NamedTuple):
    """A stretch of a text that belongs to somebody."""

    start: int
    end: int
    kind: PrivateKind


class _Word(NamedTuple):
    start: int
    end: int
    low: str
    named: bool  # in one of the lists of names
    common: bool  # a word of every day
    seen: bool  # the flows use it in small letters, too: of an unknown word that says it is nobody's name, of a given name that stands alone, too


def private_stretches(text: str, lists: NameLists, seen: Collection[str]) -> list[Found]:
    """What looks private in a text, in order, none within another; ``seen`` are the words that the flows use in small letters."""
    found = [*_by_pattern(text), *_names_in(text, lists, seen)]
    return without_overlaps(found)


def without_overlaps(found: Sequence[Found]) -> list[Found]:
    """The stretches in order; where two overlap the one that begins first, or is longer."""
    kept: list[Found] = []
    for one in sorted(found, key=lambda one: (one.start, -one.end)):
        if not kept or one.start >= kept[-1].end:
            kept.append(one)
    return kept


def _by_pattern(text: str) -> Iterator[Found]:
    for kind, pattern in _PATTERNS:
        for match in pattern.finditer(text):
            if _YEAR_AND_MONTH.fullmatch(match[0]):
                continue
            if kind != "number" or sum(letter.isdigit() for letter in match[0]) >= LEAST_DIGITS - match[0][0].isalpha():
                yield Found(match.start(), match.end(), kind)


def _names_in(text: str, lists: NameLists, seen: Collection[str]) -> Iterator[Found]:
    """Runs of capitalised words that hold a name of the lists, or of which nobody knows a word otherwise."""
    for run in _runs_of(text, lists, seen):
        low = 0
        while low < len(run):
            high = low
            while high < len(run) and _may_be_name(run[high]):
                high += 1
            taken = _name_within(run[low:high], lists)
            if taken:
                yield Found(taken[0].start, taken[-1].end, "person")
            low = high + 1


def _may_be_name(word: _Word) -> bool:
    return word.named or not word.common


def _name_within(words: Sequence[_Word], lists: NameLists) -> Sequence[_Word]:
    """The name in a row of words that may each be one; nothing where all are words of every day, or one is no more than unknown. What follows a
    given name belongs to it, whatever it is; what stands before one may be 'Ask'."""
    first = next((place for place, word in enumerate(words) if word.named and not word.common), None)
    if first is not None and (len(words) > 1 or not words[first].seen):
        begin = next(place for place, word in enumerate(words) if place == first or not word.seen)
        return words[begin:]
    if sum(not word.common and not word.seen for word in words) > 1:
        return words
    full = len(words) > 1 and words[0].low in lists.given and words[-1].low in lists.family
    return words if full else ()


def _runs_of(text: str, lists: NameLists, seen: Collection[str]) -> Iterator[list[_Word]]:
    """Capitalised words that stand side by side, with 'van', 'de' and the like between them."""
    run: list[_Word] = []
    waiting: list[_Word] = []
    for match in _WORD.finditer(text):
        word = match[0]
        low = word.casefold()
        named = low in lists.given or low in lists.family
        made = _Word(match.start(), match.end(), low, named, low in lists.ordinary, low in seen)
        last = (waiting or run)[-1].end if run else match.start()
        beside = not run or (match.start() - last <= 2 and _GAP.fullmatch(text, last, match.start()) is not None)
        if not beside:
            yield run
            run, waiting = [], []
        if word[0].isupper():
            run += [*waiting, made]
            waiting = []
        elif run and low in _PARTICLES:
            waiting.append(made)
        elif run:
            yield run
            run, waiting = [], []
    if run:
        yield run

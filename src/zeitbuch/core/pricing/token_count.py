# How many tokens a text has, without any tokenizer: the text is cut into pieces (words, numbers, signs, spacing), each
# piece has shapes, each shape a coefficient. The coefficients stand in token_table.py; benchmarks/tokens.py fits and
# checks them. A piece's cost is worked out once and kept, so that counting is a look-up.
"""The offline token estimator."""

from __future__ import annotations

import re
from functools import lru_cache
from math import isnan

from msgspec import Struct

from zeitbuch.core.model.problems import fail

from .languages import is_neutral, is_traditional, language_of
from .token_table import FAMILIES, NAMES, RANGES

_ASCII_PIECE = re.compile(r" ?[A-Za-z]+|[0-9]+|\n[\n\r]*|[ \t]{2,}|\t| ?[!-/:-@\[-`{-~]+|[^\s]|\s")
_PIECE = (
    r" ?[A-Za-z\u00c0-\u024f\u1e00-\u1eff]+|[0-9]+|\n[\n\r]*|[ \t]{2,}|\t| ?[!-/:-@\[-`{-~]+| ?[\u0400-\u052f]+"
    r"| ?[\u0370-\u03ff\u1f00-\u1fff]+| ?[\u0590-\u05ff]+| ?[\u0600-\u07ff]+| ?[\u0900-\u0dff\u200c\u200d]+"
    r"|[\u0e00-\u0eff]+|[\u3040-\u30ff]+|[\u3400-\u9fff\uf900-\ufaff]+| ?[\uac00-\ud7af\u1100-\u11ff]+|[^\s]|\s"
)
_PARTS = re.compile(
    r"[A-Z]?[a-z\u00df-\u00ff\u0100-\u024f\u1e00-\u1eff]+|[A-Z\u00c0-\u00de]+(?![a-z])|[A-Z\u00c0-\u00de]"
)
_SCRIPTS = (
    ("cyr", 0x400, 0x52F), ("grk", 0x370, 0x3FF), ("grk", 0x1F00, 0x1FFF), ("heb", 0x590, 0x5FF), ("ara", 0x600, 0x7FF),
    ("ind", 0x900, 0xDFF), ("thai", 0xE00, 0xEFF), ("kana", 0x3040, 0x30FF), ("han", 0x3400, 0x9FFF),
    ("han", 0xF900, 0xFAFF), ("hang", 0xAC00, 0xD7AF), ("hang", 0x1100, 0x11FF),
)  # fmt: skip
# Pairs of letters that are frequent in English: words without them are foreign, made up, or random.
_COMMON = frozenset(
    "th he in er an re nd at on nt ha es st en ed to it ou ea hi is or ti as te et ng of al de se le sa si ar ve ra ld"
    " ur ro ne li io ri la el ma me ce ta ic us no ss ho ec co ac ch tr om pe ai be ge un ly ns em ct ee ll wa pr ot rs"
    " ut so wh ad id ie ul mo po di ni ca mi lo tu vi wi ts su up im am ir il ow os ke ol ep ay sh op fo ap ev ag pa pl"
    " ov da oo ty bl if ef ig ck ry ab fi cr ue fr nc ex ew my by rt ui br cu gr gh ht ds rn nf um sp rd iv va tt pp".split()
)
_KEPT = 200_000
_SPACES = re.compile(" {2,}")


@lru_cache(maxsize=1)
def _any_piece() -> re.Pattern[str]:
    """Pieces in any script. Compiled when a text is not plain ASCII: it takes as long as to count a hundred prompts."""
    return re.compile(_PIECE)


def cut_pieces(text: str) -> list[str]:
    """The pieces of a text: words, numbers, signs, spacing; joined they are the text."""
    return _ASCII_PIECE.findall(text) if text.isascii() else _any_piece().findall(text)


def _script_of(c: str) -> str:
    offset = ord(c)
    return next((name for name, first, last in _SCRIPTS if first <= offset <= last), "")


def _english_shape(word: str, lead: bool, f: dict[str, float]) -> None:
    parts = _PARTS.findall(word) or [word]
    if len(parts) >= 3 and len(word) < 3 * len(parts):
        f["noise"] = len(word)  # random letters, as in keys and encoded data
        return
    for place, part in enumerate(parts):
        _english_part(lead, f, part, place)
    f["accent"] = sum(not letter.isascii() for letter in word)


def _english_part(lead: bool, f: dict[str, float], part: str, place: int) -> None:
    number, low = len(part), part.lower()
    rare = sum(low[index : index + 2] not in _COMMON for index in range(number - 1))
    f["word"] = f.get("word", 0) + 1
    if place:
        f["hump"] = f.get("hump", 0) + 1
    elif not lead:
        f["glued"] = 1
    if number > 6:
        f["long"] = f.get("long", 0) + min(number, 12) - 6
    if number > 12:
        f["longer"] = f.get("longer", 0) + number - 12
    if number > 3:
        f["rare"] = f.get("rare", 0) + rare
    elif not lead:
        f["rare3"] = f.get("rare3", 0) + rare
    if number > 1 and part.isupper():
        f["upper"] = f.get("upper", 0) + 1
        f["upperlen"] = f.get("upperlen", 0) + max(0, number - 3)


def _foreign_shape(word: str, lead: bool, language: str, f: dict[str, float]) -> None:
    rest = len(word) - 1
    f["w_for"] = f["w_" + language] = 1
    f["l_for"] = f["l_" + language] = rest
    f["acc_for"] = sum(not letter.isascii() for letter in word)
    if not lead:
        f["glued"] = 1
    if rest and word.isupper():
        f["upper"], f["upperlen"] = 1, max(0, rest - 2)


def _other_shape(c: str) -> str:
    offset = ord(c)
    if offset in (0x200D, 0xFE0F):
        return "joiner"
    if offset >= 0x1F000:
        return "emoji"
    if 0x3000 <= offset <= 0x303F or 0xFF00 <= offset <= 0xFFEF:
        return "cjkp"
    return "punct" if 0x2000 <= offset <= 0x206F or offset < 0x100 else "rest"


def count_shapes(piece: str, language: str, hant: bool) -> dict[str, float]:
    """Counts of the shapes of one piece, by the names of token_table."""
    lead = piece[0] == " " and len(piece) > 1
    body = piece[1:] if lead else piece
    first, number = body[0], len(body)
    mapping: dict[str, float] = {}
    if first == "\n":
        mapping["nl"] = 1
    elif first.isspace():
        mapping["gap" if piece == " " else "tab" if piece == "\t" else "indent"] = 1
    elif first.isascii() and first.isdigit():
        mapping["num"], mapping["dig3"], mapping["dig"] = 1, -(-number // 3) - 1, number - 1
    elif first.isascii() and not first.isalpha():
        mapping["sign"] = 1
        _sign_shape(body, number, mapping)
    elif (script := _script_of(first)) != "":
        if script == "han" and hant:
            script = "hant"
        mapping[script], mapping[script + "_w"] = number, 1
    elif first.isalpha():
        if language == "en":
            _english_shape(body, lead, mapping)
        else:
            _foreign_shape(body, lead, language, mapping)
    else:
        mapping[_other_shape(first)] = 1
    return mapping


def _sign_shape(body: str, number: int, mapping: dict[str, float]) -> None:
    if len(set(body)) == 1:
        mapping["rep"] = min(max(0, number - 2), 6)
    else:
        mapping["sig2"], mapping["sign+"] = 1, number - 2


def range_group(piece: str, language: str, hant: bool) -> str:
    """The group of a piece whose error is stated together: english, latin (other languages), digits, signs, space, other, or a script."""
    body = piece.lstrip(" ") or " "
    first = body[0]
    if first.isspace():
        return "space"
    if first.isascii():
        return "digits" if first.isdigit() else "signs" if not first.isalpha() else _latin_group(language)
    script = _script_of(first)
    if script:
        return "hant" if script == "han" and hant else script
    return _latin_group(language) if first.isalpha() else "other"


def _latin_group(language: str) -> str:
    return "english" if language == "en" else "latin"


class _Costs(dict[str, float]):
    """Piece -> tokens, for one family, language and kind of Chinese characters."""

    def __init__(self, family: str, language: str, hant: bool) -> None:
        self.weights = dict(zip(NAMES, FAMILIES[family], strict=True))
        self.language, self.hant = language, hant

    def __missing__(self, piece: str) -> float:
        found = count_shapes(piece, self.language, self.hant)
        cost = max(0.0, sum(number * self.weights.get(name, 0.0) for name, number in found.items()))
        if len(self) < _KEPT:
            self[piece] = cost
        return cost


class _Chunks(dict[str, float]):
    """Tokens of what stands between two spaces of an English line, with the first of them (``lead``). Pieces never reach
    over a single space, so that a known word with its comma need not be cut again. What may be of another language is no
    number here."""

    def __init__(self, family: str, lead: str) -> None:
        self.pieces = _weights_of(family, "en", False)
        self.lead = lead

    def __missing__(self, chunk: str) -> float:
        if not is_neutral(chunk):
            return float("nan")
        cost = sum(map(self.pieces.__getitem__, cut_pieces(self.lead + chunk)))
        if len(self) < _KEPT // 10 and len(chunk) < 30:
            self[chunk] = cost
        return cost


_costs: dict[tuple[str, str, bool], _Costs] = {}
_chunks: dict[str, tuple[_Chunks, _Chunks]] = {}


def _weights_of(family: str, language: str, hant: bool) -> _Costs:
    key = (family, language, hant)
    if key not in _costs:
        if family not in FAMILIES:
            names = ", ".join(name for name in FAMILIES if name)
            raise fail("token-family", f"expected a tokenizer family ({names}), found '{family}'")
        _costs[key] = _Costs(family, language, hant)
    return _costs[key]


def cut_text(text: str) -> list[tuple[str, bool, list[str]]]:
    """Lines of a text as (language, Chinese in traditional characters, pieces)."""
    plain = text.isascii()
    hant = not plain and is_traditional(text)
    lines = []
    for line in text.splitlines(keepends=True):
        low = line.lower()
        lines.append((language_of(low, low.split()), hant, cut_pieces(line)))
    return lines


def count_tokens(text: str, family: str = "") -> float:
    """Estimated tokens of a text (not rounded), for a family of tokenizers or, without one, the median of five.

    Raises ZeitbuchError for an unknown family.
    """
    hant = not text.isascii() and is_traditional(text)
    if family not in _chunks:
        _chunks[family] = (_Chunks(family, ""), _Chunks(family, " "))
    begins, goes_on = _chunks[family]
    spaces = goes_on.pieces["  "]
    total = 0.0
    for line in text.splitlines(keepends=True):
        if "\t" not in line:
            # Several spaces are a piece of their own, however many; what comes after them has none before it.
            parts = _SPACES.split(line) if "   " in line else line.split("  ")
            cost = spaces * (len(parts) - 1)
            for part in parts:
                first, *rest = part.split(" ")
                cost += begins[first] + sum(map(goes_on.__getitem__, rest))
            if not isnan(cost):
                total += cost
                continue
        low = line.lower()
        total += sum(map(_weights_of(family, language_of(low, low.split()), hant).__getitem__, cut_pieces(line)))
    return total


class Count(Struct, frozen=True):
    """Estimated tokens with the range that nine texts in ten keep."""

    amount: float
    low: float
    high: float


def measure_tokens(text: str, family: str = "") -> Count:
    """Estimated tokens with their range; the range is wider where tokenizers differ and where text is short."""
    total = below = above = 0.0
    for language, hant, pieces in cut_text(text):
        table = _weights_of(family, language, hant)
        for piece in pieces:
            cost = table[piece]
            low, high = RANGES[family][range_group(piece, language, hant)]
            total, below, above = total + cost, below + cost * low, above + cost * high
    # Errors of single words even out: short texts are relatively less certain.
    short = 1 + 3 / (total + 1)
    return Count(total, max(0.0, total - below * short), total + above * short)

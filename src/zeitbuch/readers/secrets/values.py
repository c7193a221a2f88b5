# What stands under a secret's name is a secret, unless it is plainly something else: a reference to where the secret is kept, the
# name of a kind, a sentence that explains the field. What stands under a weak name is one only where it looks like one.
"""Values that are secrets, and values that are none."""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Callable

OPENINGS = ("{{", "${", "<%")  # how placeholders commonly begin
Mark = Callable[[str], str]

_PLACEHOLDER = re.compile(
    r"\{\{.{0,200}?\}\}|[$#%@]\{[^{}\n]{0,200}\}|<%.{0,200}?%>|%\([A-Za-z_]\w*\)s|\$\([A-Za-z_][\w. ]*\)|(?<!\{)\{[A-Za-z_][\w.]*\}(?!\})"
)
_VARIABLE = re.compile(
    r"[$@]?[A-Za-z_]\w*(?:\.[A-Za-z_][\w\-]*|\[[\"']?[\w\-]+[\"']?\])+|\$[A-Z][A-Z0-9_]*|\$[a-z]+(?:[A-Z][a-z]+)*|%[A-Z][A-Z0-9_]*%"
    r"|\$env:\w+|\$\.[A-Za-z_][\w.\[\]'\"*\-]*|\$(?:request|response|steps|inputs|outputs|workflows|message)\b[\w.\-#/]*"
)
_ROOTS = frozenset(
    (
        "env secret secrets var vars variable variables input inputs output outputs context steps step credentials config settings params "
        "parameters connection connections workflow trigger nodes node data vault process os global globals local flow body payload request "
        "response headers args self this item event state store project account user session form query"
    ).split()
)
_NAMED_LAST = re.compile(r"(?i)(?:passw(?:or)?d|passwort|pwd|token|secret|key|cookie|credentials?)[\"'\]]*$")
_POINTER = re.compile(
    r"(?:secrets?|vault|env|keys)/[\w/.\-]+|#?/[A-Za-z][\w/\-~.]*|[a-z]*(?:vault|secret|secrets|env|keyring|keychain|keystore|ref|file)[a-z+\-]*:(?://)?[\w/.\-#:@]+"
)
_TYPES = frozenset(
    (
        "true false enabled disabled yes no none null nil undefined string text number int integer boolean bool object array any required optional "
        "hidden masked redacted removed omitted basic bearer digest oauth oauth2 openid apikey api_key api-key header query cookie "
        "password secret token passphrase credentials default auto automatic inherit inherited anonymous open private public off on n/a na tbd "
        "todo unset empty unknown custom manual static dynamic vault env environment keychain authorization_code client_credentials implicit "
        "x-api-key pass pwd user authorization lax strict new old current value jwt pin otp sms email certificate set given used needed ask never always session encrypted stored"
    ).split()
)
_EXAMPLE = re.compile(
    r"(?i)<[^<>\n]{1,60}>|[\[(][a-z _\-]{1,60}[\])]|(?:your|my|insert|enter|example|replace)[-_ ][a-z0-9 _\-]{1,50}|[*x.•\-_?#]{3,}|\.{3}|…"
)
SCHEME = re.compile(r"(?i)(?:bearer|basic|token|digest|apikey|api-key)\s+")  # of a header (RFC 9110, section 11.1)
_SMALL_WORDS = re.compile(
    r"(?i)\b(?:the|a|an|to|of|for|your|you|is|are|be|and|or|in|with|when|this|that|der|die|das|den|ein|eine|zum|und|oder|mit|ist|le|la|les|un|une|de|du|pour|"
    r"el|los|del|para|con|que|il|per|che|het|een|van|voor|en)\b"
)
_ID = re.compile(
    r"(?i)[a-z]{2,12}(?:[_\-:.][a-z]{2,16}){0,3}[_\-:.#]\d{1,6}|[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}|"
    r"[a-z]{2,12}[_\-:][0-9a-f]{6,40}|[0-9a-f]{24}|[0-9A-HJKMNP-TV-Z]{26}|[a-z]{2,16}(?:[_\-. /:][a-z]{2,16})+(?:[_\-. ]v?\d{1,4})?"
)
_PLACE = re.compile(
    r"(?i)[a-z][a-z0-9+.\-]*://\S*|[\w.+\-]+@[\w\-]+(?:\.[\w\-]+)+|(?:[\w\-]+\.)+[a-z]{2,12}(?::\d+)?|\.{0,2}/[\w./\-]*|\d{4}-\d\d-\d\d.*"
)
_HEX = re.compile(r"^[0-9a-fA-F\-_]+$")
_WORDS = re.compile(r"[A-Z][a-z]{3,}|(?<![A-Za-z])[a-z]{4,}")


def stripped(text: str, openings: tuple[str, ...] = OPENINGS) -> list[tuple[int, int]]:
    """The stretches of a text that are no placeholder."""
    if not any(sign in text for sign in "{<%$"):
        return [(0, len(text))] if text else []
    spots, at = [], 0
    for found in _PLACEHOLDER.finditer(text):
        if found.start() > at:
            spots.append((at, found.start()))
        at = found.end()
    if at < len(text):
        rest = text[at:]
        opened = next((at + place for opening in openings if (place := rest.find(opening)) >= 0), len(text))
        if opened > at:
            spots.append((at, opened))
    return spots


def is_reference(text: str) -> bool:
    """Whether a text says where a secret is kept: a variable, a path into what a step gave, an address of a vault."""
    text = text.strip().lstrip("=").strip()
    if _POINTER.fullmatch(text):
        return True
    if not _VARIABLE.fullmatch(text):
        return False
    if text[0] in "$%@":
        return True
    first, *_, last = re.split(r"[.\[]", text)
    return first.lower() in _ROOTS or _NAMED_LAST.search(last) is not None


def is_harmless(text: str) -> bool:
    """Whether a text under a secret's name is plainly none: a kind, a stand-in, a sentence about it."""
    text = text.strip()
    return (
        len(text) < 3
        or text.lower().replace("not ", "") in _TYPES
        or _EXAMPLE.fullmatch(text) is not None
        or is_sentence(text)
    )


def is_sentence(text: str) -> bool:
    """Whether a text explains: words with small words among them."""
    words = text.split()
    if len(words) < 4 or any(any(sign.isdigit() for sign in word) and len(word) > 4 for word in words):
        return False
    small = len(_SMALL_WORDS.findall(text))
    return small >= 2 or (small >= 1 and text.endswith((".", "?", ":", "!")))


def mark_value(text: str, mark: Mark, openings: tuple[str, ...] = OPENINGS) -> str:
    """A text under a secret's name with the secret marked: all of it but for placeholders, references and the scheme of a header."""
    if is_harmless(text) or is_reference(text):
        return text
    scheme = SCHEME.match(text)
    begin = scheme.end() if scheme else 0
    if scheme and (is_harmless(text[begin:]) or is_reference(text[begin:])):
        return text
    made, at = [text[:begin]], begin
    for first, last in stripped(text[begin:], openings):
        piece = text[begin + first : begin + last]
        core = piece.strip(" \t\r\n:;,./&?=-+|\"'()@")
        made.append(text[at : begin + first])
        made.append(piece.replace(core, mark(core), 1) if _weighs(core, piece, text[begin:]) else piece)
        at = begin + last
    return "".join(made) + text[at:]


def _weighs(core: str, piece: str, whole: str) -> bool:
    """Whether what is left beside placeholders is more than their frame."""
    if piece == whole or len(piece) == len(whole):
        return bool(core)
    return len(core) >= 4 and core.lower() not in _TYPES and not is_reference(core)


def looks_secret(text: str) -> bool:
    """Whether a text that goes by a weak name, or is a part of what holds secrets, is one."""
    if is_harmless(text) or is_reference(text) or len(text) < 4 or len(text) > 4000:
        return False
    return not (_ID.fullmatch(text) or _PLACE.fullmatch(text) or (" " in text and not any(map(str.isdigit, text))))


def looks_like_id(text: str) -> bool:
    """Whether a text is shaped as builders number their things."""
    return _ID.fullmatch(text) is not None


def looks_mixed(text: str) -> bool:
    """Whether a bare text is of letters and digits or signs, as passwords are and words and ids are not."""
    return looks_secret(text) and is_mixed(text)


def is_mixed(text: str) -> bool:
    """As ``looks_mixed``, of what stands behind a password's name: a shape like that of an id is a password there."""
    if " " in text or is_harmless(text) or is_reference(text):
        return False
    return any(map(str.isdigit, text)) or any(sign in "!$#*%^&=?@" for sign in text)


def random_like(text: str) -> bool:
    """Whether characters look drawn at random: letters of both cases and digits mixed, or digits within letters that
    are no hexadecimal number, with 3 bits a character or more (3.6 in one case). Ids in hexadecimal (UUIDs, hashes) are
    left alone, and words joined in one with a few random characters behind them."""
    if _HEX.match(text) or not any(letter.isdigit() for letter in text):
        return False
    runs = max((len(record) for record in re.findall(r"[A-Za-z0-9]+", text)), default=0)
    if runs < 16 or _ID.fullmatch(text):
        return False
    if sum([len(item) for item in _WORDS.findall(text) if _can_be_said(item)]) >= max(10, 0.4 * len(text)):
        return False  # random letters of both cases hardly ever make words
    return _enough_bits(text)


def _can_be_said(word: str) -> bool:
    """Whether letters are like those of a word: with vowels, and no five consonants in a row."""
    vowels = sum([letter in "aeiouAEIOU" for letter in word])
    return vowels >= 0.2 * len(word) and re.search(r"[^aeiouAEIOU]{5}", word) is None


def _enough_bits(text: str) -> bool:
    lower, upper = any(letter.islower() for letter in text), any(letter.isupper() for letter in text)
    digits = sum(letter.isdigit() for letter in text)
    if not (lower and upper) and digits < 0.15 * len(text):
        return False
    count = Counter(text)
    bits = -sum(number / len(text) * math.log2(number / len(text)) for number in count.values())
    return bits >= (3.0 if lower and upper else 3.6)

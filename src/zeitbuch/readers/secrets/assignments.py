# A name, a sign, a value: settings, code, headers, address parameters, command lines and sentences all give secrets that way. The
# name is looked up in names.py; what counts as a value depends on how it is written.
"""Secrets that a text gives by name."""

from __future__ import annotations

import re
from collections.abc import Iterator

from .bare_values import NAME, TOKENS, BareValue
from .names import Names
from .sentences import Sentences
from .values import OPENINGS, SCHEME, is_harmless, is_reference, looks_mixed, looks_secret, stripped

Span = tuple[int, int]

_SIGN = re.compile(r"(?P<before>[^\s:=>]?)(?P<space>\s*)(?P<sign>:=|=>|->|[!=]==?|[:=：＝]|,(?=\s*\\*[\"']))(?!=|//)")
_NAMES_BEFORE = re.compile(r"(?:[A-Za-z_]\w*\s*,\s*)+$")
_COMMA = re.compile(r"\s*,\s*")
_ANNOTATION = re.compile(r"\??:\s*[A-Za-z_][\w.<>|?]*(?:\[\w*\])?\s*$")
_QUOTED = re.compile(
    r"[ \t]*(?:\\?\r?\n[ \t]*)?\(?\s*[fFrRbB]?(?P<quote>\\*[\"'`])(?P<text>(?:(?!(?P=quote)).){1,2000}?)(?P=quote)",
    re.DOTALL,
)
_BARE = re.compile(
    r"[ \t]*(?P<text>(?:(?:bearer|basic|token|apikey|digest)[ \t]+(?=\S{6}))?[^\s,;\"'<>()\[\]{}&|`]*(?:[$#%]?\{[^{}\s]{1,80}\}+[^\s,;\"'<>()\[\]{}&|`]*)*)",
    re.IGNORECASE,
)
_BLOCK = re.compile(r"[ \t]*[|>][-+]?[ \t]*\r?\n[ \t]+(?P<text>\S[^\n]{2,400})")
_COOKIES = re.compile(r"[ \t]*(?P<text>[^\n\"'<>]{4,2000})")
_PUTS = re.compile(r"(?i)(?:set|put|add|append|header|update|default|define|insert)\w*\(\s*\\*[\"'`]$")
_LOGIN = re.compile(
    r"(?i)\b\w*(?:auth|login|log_in|signin|authenticate|credentials|creds)\w*\s*[=:]?\s*[(\[]\s*[\"'][^\"'\n]{1,80}[\"']\s*,\s*[\"'](?P<text>[^\"'\n]{3,200})[\"']"
)
_USER_AND = re.compile(
    r"(?i)\b(?:log ?in|(?:basic[ _\-]?)?auth|base64\w*|b64encode|btoa|creds?|credentials|zugang|zugangsdaten|anmeldung|account|identifiants"
    r"|credenciales)\b\W{0,3}\s*[\w.@\-]{2,40}\s*[/:|]\s*(?P<text>[^\s/,;\"']{6,100})"
)
_PIPED = re.compile(
    r"(?i)\becho\s+(?:-n\s+)?[\"']?(?P<text>[^\s\"'|$]{4,400})[\"']?\s*\|[^|\n]{0,200}(?:password|token|secret)[\w\-]*stdin"
)
_TO_SEMICOLON = re.compile(r"[ \t]*(?P<text>[^;\"'\n]{1,400})(?=;|$)")
_HEADER = re.compile(r"(?i)(?:proxy-)?authorization|(?:set-)?cookie|x-[\w\-]+|[\w]+(?:-[\w]+)+")
_ELEMENT_NAMED = re.compile(
    r"<[\w:.\-]+\s[^<>]{0,200}?\b(?:name|key|id)=[\"'](?P<name>[\w.\- ]{2,60})[\"'][^<>]{0,200}>\s*(?P<text>[^<>]{3,2000}?)\s*</"
)
_FLAG = re.compile(
    r"(?<![\w\-])--?(?P<name>[A-Za-z][\w\-]{2,40})(?:=|[ \t]+)(?:(?P<quote>[\"'])(?P<held>[^\"'\n]{3,400})(?P=quote)|(?P<text>[^\s\"'<>]{3,400}))"
)
_FLAG_WORDS = frozenset(
    "and the for flag flags option options parameter argument must should with was has are can will not instead from into when".split()
)
_QUERY = re.compile(r"[?&;#](?P<name>[\w.\-%\[\]]{1,60})=(?P<text>[^\s&;\"'<>#]{3,2000})")
QUERY_NAMES = tuple(
    "sig signature hmac auth key code apikey session sessionid sid ticket jwt assertion credential".split()
)
_ELEMENT = re.compile(
    r"<(?:\w+:)?(?P<name>[\w.\-]{2,60})(?:\s[^<>]{0,300})?>\s*(?:<!\[CDATA\[)?(?P<text>[^<>]{3,2000}?)\s*(?:\]\]>)?</"
)
_TWO_ATTRIBUTES = re.compile(
    r"(?P<q>[\"'])(?P<name>[\w.\- ]{2,60})(?P=q)\s+(?:value|content|val)\s*=\s*(?P<w>[\"'])(?P<text>[^\"'<>]{3,2000})(?P=w)"
)


class Assignments:
    """Finds secrets given by name in a text."""

    def __init__(self, names: Names, openings: tuple[str, ...] = OPENINGS) -> None:
        self.names = names
        self.openings = openings
        self.sentences = Sentences(names)

    def spans(self, text: str) -> Iterator[Span]:
        """Where secrets stand in a text that holds a word of secrets."""
        yield from self._by_sign(text)
        for found in self.sentences.values_in(text):
            yield from self._value(found)
        yield from self._by_flag(text)
        for form in (_LOGIN, _USER_AND, _PIPED):
            for found in form.finditer(text):
                if form is not _USER_AND or looks_mixed(found["text"]):
                    yield from self._value(found)
        if "</" in text:
            yield from self._in_elements(text, _ELEMENT)
            yield from self._in_elements(text, _ELEMENT_NAMED)
        if "<" in text:
            yield from self._in_elements(text, _TWO_ATTRIBUTES)

    def query_spans(self, text: str) -> Iterator[Span]:
        """Secrets among the parameters of addresses."""
        for found in _QUERY.finditer(text):
            name = found["name"]
            known = self.names.secrecy(name) in ("secret", "secrets")
            last = name.lower().rsplit("-", 1)[-1].rsplit("_", 1)[-1]
            signed = last in QUERY_NAMES and looks_secret(found["text"]) and len(found["text"]) >= 6
            if known or signed or last in ("sig", "signature"):
                yield from self._value(found)

    def _value(self, found: re.Match[str], group: str = "text") -> Iterator[Span]:
        """The secret in the value of a match: without placeholders and the scheme of a header."""
        first = found.start(group)
        value = found[group]
        scheme = SCHEME.match(value)
        if scheme:
            first, value = first + scheme.end(), value[scheme.end() :]
        if is_harmless(value) or is_reference(value):
            return
        for begin, end in stripped(value, self.openings):
            piece = value[begin:end].strip(":;,./&?=-+|@ ")
            if piece and (len(piece) >= 4 or (begin, end) == (0, len(value))) and not is_harmless(piece):
                at = value.index(piece, begin)
                yield first + at, first + at + len(piece)

    # -- name, sign, value --------------------------------------------------------------------------------------------

    def _by_sign(self, text: str) -> Iterator[Span]:
        for sign in _SIGN.finditer(text):
            end = sign.start("sign")
            found = NAME.search(text, max(0, end - 64), end)
            if found is None:
                continue
            name = found[0][: found.start("close") - found.start()]
            secrecy = self.names.secrecy(name)
            if secrecy == "none" and (typed := _ANNOTATION.search(text, max(0, end - 64), end)) is not None:
                found = NAME.search(text, max(0, typed.start() - 64), typed.start()) or found
                name = found[0][: found.start("close") - found.start()]
                secrecy = self.names.secrecy(name)
            if secrecy == "none" or secrecy == "holder":
                continue
            yield from self._after_sign(text, sign, name, secrecy == "weak", found)

    def _after_sign(
        self, text: str, sign: re.Match[str], name: str, weak: bool, found: re.Match[str]
    ) -> Iterator[Span]:
        """The secret behind a name and a sign, in whatever way it is written."""
        kind = sign["sign"]
        quoted = _QUOTED.match(text, sign.end())
        if quoted:
            beside = self._is_put(text, name, quoted["text"], found) if kind == "," else True
            compared = kind[0] in "!=" and kind not in ("=", "=>")
            mixed = looks_mixed(quoted["text"])
            quoted = self._in_turn(text, found, quoted) if kind == "=" else quoted
            if beside and (mixed or not (weak or (compared and TOKENS.search(name)))):
                yield from self._value(quoted)
        elif kind in (":", "=", ":=", "=>", "->", "：", "＝"):
            yield from self._unquoted(text, sign, name, weak)

    @staticmethod
    def _in_turn(text: str, found: re.Match[str], quoted: re.Match[str]) -> re.Match[str]:
        """The value of a name in a list of names: user, password = "desk", "..."."""
        names = _NAMES_BEFORE.search(text, max(0, found.start() - 80), found.start())
        for _ in range(names[0].count(",") if names else 0):
            comma = _COMMA.match(text, quoted.end())
            quoted = (_QUOTED.match(text, comma.end()) if comma else None) or quoted
        return quoted

    def _is_put(self, text: str, name: str, value: str, found: re.Match[str]) -> bool:
        """Whether of two quoted texts side by side the second is the value of the first: set("token", "...")."""
        puts = _PUTS.search(text, max(0, found.start() - 40), found.start()) is not None
        return bool(found["close"]) and self._beside(name, value, puts)

    def _unquoted(self, text: str, sign: re.Match[str], name: str, weak: bool) -> Iterator[Span]:
        if name.lower().endswith("cookie") and sign["sign"] == ":":
            line = _COOKIES.match(text, sign.end())
            if line and not is_harmless(line["text"]):
                yield line.span("text")
            return
        block = _BLOCK.match(text, sign.end())
        if block and not weak:
            yield from self._value(block)
            return
        bare = _BARE.match(text, sign.end())
        if bare is None or not bare["text"]:
            return
        bare = self._to_semicolon(text, sign) or bare
        if BareValue(text, sign, name, bare, weak).counts():
            yield from self._value(bare)

    @staticmethod
    def _to_semicolon(text: str, sign: re.Match[str]) -> re.Match[str] | None:
        """A value of a connection string: all up to the next semicolon."""
        if sign["sign"] != "=" or sign["space"] or ";" not in text:
            return None
        whole = _TO_SEMICOLON.match(text, sign.end())
        if whole is None or not whole["text"].strip() or "=" not in text[: sign.start()] + text[whole.end() :]:
            return None
        return whole if not is_harmless(whole["text"]) and "(" not in whole["text"] else None

    @staticmethod
    def _beside(name: str, value: str, puts: bool) -> bool:
        """Whether of two quoted texts side by side the second is the value of the first; ``puts``: a call that sets stands before."""
        written = puts or _HEADER.fullmatch(name.strip()) is not None or name.isupper()
        return looks_mixed(value) or (written and not is_harmless(value))

    # -- command lines, markup ----------------------------------------------------------------------------------------

    def _by_flag(self, text: str) -> Iterator[Span]:
        for found in _FLAG.finditer(text) if "-" in text else ():
            group = "held" if found["held"] else "text"
            plain = found[group].lower() in _FLAG_WORDS or found[group].startswith("-")
            if not plain and self.names.secrecy(found["name"]) in ("secret", "secrets"):
                yield from self._value(found, group)

    def _in_elements(self, text: str, form: re.Pattern[str]) -> Iterator[Span]:
        for found in form.finditer(text):
            if self.names.secrecy(found["name"]) in ("secret", "secrets"):
                yield from self._value(found)

# Without quotes it is hard to say what is a value: code names variables that way, and sentences go on after a colon.
"""Values without quotes behind a name and a sign."""

from __future__ import annotations

import re
from typing import NamedTuple

from .values import SCHEME, is_harmless, is_mixed, is_reference, looks_mixed

NAME = re.compile(
    r"(?:[^\W_][\w\-'’]*[ \t.\[\"'/]{1,2}){0,3}[^\W_][\w\-]*(?P<close>[\\\"'`\])*]*)\s*(?:\([^()\n]{1,40}\)\s*)?$"
)
TOKENS = re.compile(r"(?i)tokens?$")
_IDENTIFIER = re.compile(r"[A-Za-z_][\w.]*")
_LINE_START = re.compile(
    r"(?:^|\n)[ \t]*(?:[-*#>|]+[ \t]*|export[ \t]+|set[ \t]+|ENV[ \t]+|ARG[ \t]+)?[\w\-. \"'\[\]*]{0,60}$"
)
_CALL = re.compile(r"\([^()]*$")


class BareValue(NamedTuple):
    """A value without quotes in a text, the sign and the name before it; ``weak``: the name is that of a secret only perhaps."""

    text: str
    sign: re.Match[str]
    name: str
    bare: re.Match[str]
    weak: bool

    def counts(self) -> bool:
        """Whether the value is a secret."""
        value = self.bare["text"].rstrip(".,;:!?") or self.bare["text"]
        scheme = SCHEME.match(value)
        if scheme:
            return not is_harmless(value[scheme.end() :])
        if self._after() in ("(", "[") or len(value) < 4 or is_harmless(value) or is_reference(value):
            return False
        if value.isdigit():
            return not self.weak and (len(value) >= 6 or not TOKENS.search(self.name))
        called = self._is_argument()
        mixed = looks_mixed(value) if self.weak or TOKENS.search(self.name) else is_mixed(value)
        if mixed and not (called and _IDENTIFIER.fullmatch(value)):
            return True
        return not self.weak and not called and self._ends() and self._stands_as_setting(value)

    def _after(self) -> str:
        return self.text[self.bare.end() : self.bare.end() + 1]

    def _is_argument(self) -> bool:
        """Whether it is an argument of a call: login(password=password, ...)."""
        if self.sign["sign"] != "=" or self._after() not in (",", ")"):
            return False
        return _CALL.search(self.text, 0, self.sign.start()) is not None

    def _is_tight(self) -> bool:
        sign = self.sign
        return sign["sign"] == "=" and not sign["space"] and self.text[sign.end() : sign.end() + 1] not in (" ", "\t")

    def _ends(self) -> bool:
        """Whether nothing goes on behind the value, as it does in a sentence."""
        after = self._after()
        if self.bare["text"][-1:] in (",", "."):
            return False
        return after in ("", "\n", "\r", ";", "&") or (self._is_tight() and after in (" ", '"', "'", ","))

    def _stands_as_setting(self, value: str) -> bool:
        """Whether a plain word is a setting: name=word, or name and word alone on their line."""
        if self._is_tight():
            return True
        start = self.sign.start("sign")
        line = _LINE_START.search(self.text, max(0, start - 90), start) is not None
        code = self.sign["sign"] == "=" and " " not in self.name.strip() and _IDENTIFIER.fullmatch(value) is not None
        return (line or self.name.lower().startswith("x-")) and not code

# Secrets found in exports never reach an output: they are replaced on reading by `secret:<short hash>`, so that
# equality can still be compared. A cheap look at the raw bytes decides whether a file needs the walk at all.
"""Masking of secrets in decoded exports."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable
from typing import Any

_VALUE_WORDS = (b"bearer ", b"basic ", b"-----begin")
_PARAMETERS = (b"signature=", b"sig=", b"token=", b"key=", b"password=")
# A pair {"name": "password", "value": "..."} holds its tell-tale word in a value.
_PAIR_WORDS = (
    b"passw",
    b"passphrase",
    b"pwd",
    b"secret",
    b"token",
    b"credential",
    b"authorization",
    b"cookie",
    b'key"',
)
_PAIR_KEYS = frozenset({"value", "content"})
_USERINFO = re.compile(rb"://[^\s/\"@]{1,200}:[^\s/\"@]{1,400}@")

_SECRET_KEY = re.compile(
    r"(^|[_\-. ])(password|passwd|passphrase|pwd|secret|token|credential|authorization|cookie)s?$"
    r"|(api|access|private|secret|signing|client)[_\-. ]?(key|secret|token)s?$"
    r"|(auth|refresh|bearer|session)[_\-. ]?token$"
    r"|connection[_\-. ]?string$"
    r"|(password|secret)$",
    re.IGNORECASE,
)
_IN_TEXT = (
    re.compile(r"(?<=://)(?P<keep>[^\s/:@\"']{0,100}:)(?P<secret>[^\s/@\"']{1,400})(?=@)"),
    re.compile(r"(?i)\b(?P<keep>(?:bearer|basic)\s+)(?P<secret>[A-Za-z0-9._~+/=\-]{12,})"),
    re.compile(
        r"(?i)(?P<keep>[?&;\s](?:sig|signature|token|access_token|api_?key|key|password)=)"
        r"(?P<secret>[^\s&;\"'<>{}]{6,})"
    ),
    re.compile(
        r"(?P<keep>)(?P<secret>-----BEGIN [A-Z ]*PRIVATE KEY-----.*?(?:-----END [A-Z ]*PRIVATE KEY-----|$))",
        re.DOTALL,
    ),
)


def hidden(text: str) -> str:
    """The stand-in for a secret: equal secrets give equal stand-ins."""
    return "secret:" + hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()[:10]


OPENINGS = ("{{", "${", "<%")  # how placeholders commonly begin
_known_keys: dict[str, bool] = {}


def _secret_key(key: str) -> bool:
    known = _known_keys.get(key)
    if known is None:
        known = _SECRET_KEY.search(key) is not None
        if len(_known_keys) < 100_000:
            _known_keys[key] = known
    return known


def might_hold_secrets(raw: bytes, keys: Iterable[str]) -> bool:
    """A quick look at the bytes and the keys of a document: False means that no walk is needed."""
    if any([_secret_key(str(key)) for key in keys]):
        return True
    low = raw.lower()
    words: tuple[bytes, ...] = _VALUE_WORDS
    if b"=" in low:
        words += _PARAMETERS
    if not _PAIR_KEYS.isdisjoint(keys):
        words += _PAIR_WORDS
    if any([word in low for word in words]):
        return True
    return b"@" in low and _USERINFO.search(low) is not None


def _masked_text(text: str) -> str:
    for pattern in _IN_TEXT:
        text = pattern.sub(lambda m: m["keep"] + hidden(m["secret"]), text)
    return text


def _is_secret(value: str, references: tuple[str, ...]) -> bool:
    # A placeholder is a reference to a secret kept elsewhere, not the secret.
    return len(value) >= 4 and not value.startswith("secret:") and not any(r in value for r in references)


def masked(value: Any, references: tuple[str, ...] = OPENINGS) -> Any:
    """A copy of ``value`` (decoded JSON) without secrets; ``references`` are openings of placeholders."""
    if isinstance(value, dict):
        result: dict[str, Any] = {}
        label = value.get("name") or value.get("key")
        named = isinstance(label, str) and _secret_key(label)
        for key, item in value.items():
            if isinstance(item, str):
                secret = _secret_key(str(key)) or (named and key in ("value", "content"))
                if secret and _is_secret(item, references):
                    result[key] = hidden(item)
                else:
                    result[key] = _masked_text(item)
            else:
                result[key] = masked(item, references)
        return result
    if isinstance(value, list):
        return [masked(item, references) for item in value]
    if isinstance(value, str):
        return _masked_text(value)
    return value

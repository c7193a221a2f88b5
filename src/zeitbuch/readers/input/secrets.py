# Secrets found in exports never reach an output: they are replaced on reading by `secret:<short hash>`, so that
# equality can still be compared. A cheap look at the raw bytes decides whether a file needs the walk at all. What is
# looked for are general forms (a key's name, a header, a URL, an assignment, random characters), no product's format.
"""Masking of secrets in decoded exports."""

from __future__ import annotations

import hashlib
import math
import re
from collections import Counter
from collections.abc import Iterable
from functools import lru_cache
from typing import Any

from msgspec import structs

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Flow, Step

_VALUE_WORDS = (b"bearer ", b"basic ", b"-----begin", b"eyj", b" -u ", b"://")
_PARAMETERS = (b"sig", b"token", b"key", b"passw", b"pwd", b"secret", b"credential")
# A pair {"name": "password", "value": "..."} holds its tell-tale word in a value.
_PAIR_WORDS = (
    b"passw", b"passphrase", b"pwd", b"secret", b"token", b"credential", b"authorization", b"cookie", b"key\"", b"key'",
)  # fmt: skip
_LONG = re.compile(rb"(?<![A-Za-z0-9_\-])[A-Za-z0-9_\-]{24,}")


@lru_cache(maxsize=1)
def _secret_key_form() -> re.Pattern[str]:
    """How keys that name a secret are called. Compiled when first needed: that takes longer than a small file."""
    return re.compile(
        r"(^|[_\-. ])(password|passwd|passwort|kennwort|passphrase|pwd|secret|token|credential|authorization|cookie|pin)s?$"
        r"|(api|access|private|secret|signing|client|account|shared|encryption|master)[_\-. ]?(key|secret|token)s?$"
        r"|(auth|refresh|bearer|session|id)[_\-. ]?token$"
        r"|connection[_\-. ]?string$|set-cookie$"
        r"|(password|passwort|passwd|passphrase|kennwort|secret)$|[a-z]Token$",
        re.IGNORECASE,
    )


@lru_cache(maxsize=1)
def _number_key_form() -> re.Pattern[str]:
    return re.compile(r"(password|passwd|passwort|secret|passphrase|(^|[_\-. ])(pin|pwd))$", re.IGNORECASE)


_NAMES = (
    r"pass(?:word|wd|phrase|wort)|kennwort|pwd|secret|api[_\-]?key|access[_\-]?key|account[_\-]?key|shared[_\-]?access[_\-]?key|"
    r"private[_\-]?key|client[_\-]?secret|auth[_\-]?token|access[_\-]?token|refresh[_\-]?token|session[_\-]?token|x-api-key|token|credential"
)


@lru_cache(maxsize=1)
def _secret_patterns() -> tuple[tuple[re.Pattern[str], ...], tuple[re.Pattern[str], ...]]:
    """What secrets look like in texts: forms, and places where random characters are one. Compiled when first needed."""
    forms = (
    re.compile(r"(?P<keep>)(?P<secret>-----BEGIN [A-Z ]*PRIVATE KEY(?: BLOCK)?-----.*?(?:-----END [A-Z ]*PRIVATE KEY(?: BLOCK)?-----|$))", re.DOTALL),
    re.compile(r"(?<=://)(?P<keep>[^\s/:@\"'{}]{0,100}:)(?P<secret>[^\s/@\"'{}]{1,400})(?=@)"),
    re.compile(r"(?i)\b(?P<keep>(?:bearer|basic)\s+)(?P<secret>[A-Za-z0-9._~+/=\-]{8,})"),
    re.compile(r"(?P<keep>)(?P<secret>\beyJ[A-Za-z0-9_\-]{8,}\.[A-Za-z0-9_\-]{4,}\.[A-Za-z0-9_\-]{4,})"),
    # parameters of URLs: signatures, tokens, keys
    re.compile(
        r"(?i)(?P<keep>[?&;](?:[a-z0-9\-]*(?:signature|credential|token|secret|password)|sig|api[_\-]?key|access[_\-]?key|key|code|pwd)=)"
        r"(?P<secret>[^\s&;\"'<>{}#]{6,})"
    ),
    # parts of connection strings: Password=...;
    re.compile(r"(?i)(?P<keep>(?:^|[;\s])(?:" + _NAMES + r"|pass)\s*=\s*)(?P<secret>[^\s;\"'<>{}]{4,})(?=;|$)"),
    # quoted values of assignments and of objects in code: password = "..."
    re.compile(r"(?i)(?P<keep>(?<![a-z])[a-z_\-]*(?:" + _NAMES + r")[\"']?\s*(?:[:=]|=>)\s*(?P<q>\\?[\"']))(?P<secret>[^\"'\\\s{}<>%]{4,200})(?=(?P=q))"),
    # bare values: api_key=..., password: ...; a digit or sign tells them from words
    re.compile(r"(?i)(?P<keep>(?<![a-z])(?:[a-z]+[_\-])*(?:" + _NAMES + r")\s*(?::|=|\bis\b)\s*)(?P<secret>(?=[^\s,;\"'<>{}%]*[\d!$#*])[^\s,;\"'<>{}%()\[\]]{6,200})"),
    re.compile(r"(?P<keep>\s(?:-u|--user)\s+[^\s:]{1,100}:)(?P<secret>\S{3,200})"),
    re.compile(r"(?i)(?P<keep>\s--?(?:password|passwd|token|secret|api-key)[=\s]+)(?P<secret>[^\s\"'{}<>]{4,200})"),
    re.compile(r"(?i)(?P<keep>\b(?:cookie|x-api-key|x-auth-token|authorization)\s*:\s*)(?P<secret>(?!bearer|basic)[^\s\"'{}<>]{6,}(?:;\s*[^\s\"'{}<>]+)*)"),
)  # fmt: skip
    token = re.compile(r"(?<![A-Za-z0-9_\-.])(?P<keep>)(?P<secret>[A-Za-z0-9_\-]{24,200})(?![A-Za-z0-9_\-.])")
    path = re.compile(r"(?P<keep>https?://[^\s\"'<>]{3,200}/)(?P<secret>[A-Za-z0-9_\-]{20,200})(?=$|[\s\"'<>/?#])")
    return forms, (path, token)


_REFERENCE = re.compile(r"^\$\{?[A-Za-z_][\w.\-#/]*\}?$")  # $steps.login.token, $TOKEN, ${TOKEN}
_HEX = re.compile(r"^[0-9a-fA-F\-_]+$")
_WORDS = re.compile(r"[A-Z][a-z]{4,}")
_QUICK = re.compile(r"(?i)-----begin|://|bearer|basic|eyJ|=|:|\bis\b|--?\w|[A-Za-z0-9_\-]{24}")


def stand_in(text: str) -> str:
    """The stand-in for a secret: equal secrets give equal stand-ins."""
    return "secret:" + hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()[:10]


OPENINGS = ("{{", "${", "<%")  # how placeholders commonly begin
_known_keys: dict[str, bool] = {}


def secret_key(key: str) -> bool:
    """Whether a key names a secret."""
    known = _known_keys.get(key)
    if known is None:
        known = _secret_key_form().search(key) is not None
        if len(_known_keys) < 100_000:
            _known_keys[key] = known
    return known


def might_hold_secrets(raw: bytes, keys: Iterable[str]) -> bool:
    """A quick look at the bytes and the keys of a document: False means that no walk is needed."""
    if any([secret_key(str(key)) for key in keys]):
        return True
    low = raw.lower()
    if any([word in low for word in _PAIR_WORDS]) or any([word in low for word in _VALUE_WORDS]):
        return True
    if b"=" in low and any([word in low for word in _PARAMETERS]):
        return True
    return any(random_like(matched[0].decode("ascii")) for matched in _LONG.finditer(raw))


def random_like(text: str) -> bool:
    """Whether characters look drawn at random: letters of both cases and digits mixed, or digits within letters that
    are no hexadecimal number, with 3 bits a character or more (3.6 in one case). Ids in hexadecimal (UUIDs, hashes) are
    left alone, and words joined in one with a few random characters behind them (``ExclusiveChoice_1dofj1u``)."""
    if _HEX.match(text) or not any(letter.isdigit() for letter in text):
        return False
    runs = max((len(record) for record in re.findall(r"[A-Za-z0-9]+", text)), default=0)
    if runs < 16:
        return False
    if ("_" in text or "-" in text) and sum([len(item) for item in _WORDS.findall(text)]) >= max(12, 0.4 * len(text)):
        return False  # random letters of both cases hardly ever make words
    return _enough_bits(text)


def _enough_bits(text: str) -> bool:
    lower, upper = any(letter.islower() for letter in text), any(letter.isupper() for letter in text)
    digits = sum(letter.isdigit() for letter in text)
    if not (lower and upper) and digits < 0.15 * len(text):
        return False
    count = Counter(text)
    bits = -sum(number / len(text) * math.log2(number / len(text)) for number in count.values())
    return bits >= (3.0 if lower and upper else 3.6)


_MASKED = re.compile(r"secret:([0-9a-f]{10})(?![0-9a-f])")
_MARK = "\ue0f0"  # stands for "secret:" until all patterns are through, so that none masks a mask


def _in_text(text: str, references: tuple[str, ...] = OPENINGS) -> str:
    if not _QUICK.search(text):
        return text

    def replaced(m: re.Match[str]) -> str:
        secret = m["secret"]
        if (
            secret.startswith((_MARK, "secret:"))
            or any(secret.startswith(text) for text in references)
            or _REFERENCE.match(secret)
        ):
            return m[0]
        return m["keep"] + _MARK + stand_in(secret)[7:]

    def replaced_if_random(m: re.Match[str]) -> str:
        return replaced(m) if random_like(m["secret"]) else m[0]

    text = _MASKED.sub(_MARK + r"\1", text)
    forms, places = _secret_patterns()
    for pattern in forms:
        text = pattern.sub(replaced, text)
    for pattern in places:
        text = pattern.sub(replaced_if_random, text)
    return text.replace(_MARK, "secret:") if _MARK in text else text


def masked_flow(flow: Flow) -> Flow:
    """A flow's outline without secrets in what a list of flows shows or a message names."""
    mask = masked_once
    return structs.replace(
        flow,
        id=mask(flow.id),
        name=mask(flow.name),
        description="",
        folder=mask(flow.folder),
        environment=mask(flow.environment),
        owners=tuple([mask(name) for name in flow.owners]),
        triggers=tuple(
            [
                structs.replace(
                    trigger,
                    name=mask(trigger.name),
                    event=mask(trigger.event),
                    condition=mask(trigger.condition),
                    inputs=(),
                )
                for trigger in flow.triggers
            ]
        ),
        steps=tuple(
            [_masked_step(step) if step.model is not None or step.calls is not None else step for step in flow.steps]
        ),
        version=mask(flow.version),
        created=mask(flow.created),
        changed=mask(flow.changed),
        variables=(),
        connections=(),
        unread={},
        around={},
        noise={},
    )


def _masked_step(step: Step) -> Step:
    """A step's outline without secrets in the names of its model and of the flow it calls."""
    model, calls = step.model, step.calls
    name = model.name if model is not None else None
    clean_name = masked_once(name) if name is not None else None
    clean_calls = masked_once(calls) if calls is not None else None
    if clean_name == name and clean_calls == calls:
        return step
    return structs.replace(
        step, calls=clean_calls, model=structs.replace(model, name=clean_name) if model is not None else None
    )


@lru_cache(maxsize=50_000)
def masked_once(text: str) -> str:
    """A text without secrets, remembered: names of models, owners and the like come again and again."""
    return _in_text(text)


def masked_problem(problem: Problem) -> Problem:
    """A message without secrets, also in the pointer to its place."""
    origin = problem.origin
    if origin is not None and origin.pointer:
        origin = structs.replace(origin, pointer=_in_text(origin.pointer))
    return structs.replace(problem, message=_in_text(problem.message), hint=_in_text(problem.hint), origin=origin)


def masked_text(text: str, label: str = "", references: tuple[str, ...] = OPENINGS) -> str:
    """A text without secrets; all of it is one when ``label``, the name it goes by, names a secret."""
    if label and secret_key(label) and _is_secret(text, references):
        return stand_in(text)
    return _in_text(text, references)


def _is_secret(value: str, references: tuple[str, ...]) -> bool:
    # A placeholder is a reference to a secret kept elsewhere, not the secret.
    if _REFERENCE.match(value):
        return False
    return len(value) >= 4 and not value.startswith("secret:") and not any(text in value for text in references)


def _is_labelled(value: dict[str, Any]) -> bool:
    """Whether an object is a pair of which one text names a secret: {"header": "X-Api-Key", "is": "..."}."""
    if len(value) > 5:
        return False
    return any(type(item) is str and len(item) <= 40 and secret_key(item) for item in value.values())


def mask_tree(value: Any, references: tuple[str, ...] = OPENINGS) -> Any:
    """A copy of ``value`` (decoded JSON) without secrets; ``references`` are openings of placeholders."""
    if isinstance(value, dict):
        return _mask_object(value, references)
    if isinstance(value, list):
        return [mask_tree(item, references) for item in value]
    if isinstance(value, str):
        return _in_text(value, references)
    return value


def _mask_object(value: dict[Any, Any], references: tuple[str, ...]) -> Any:
    result: dict[str, Any] = {}
    named = _is_labelled(value)
    for key, item in value.items():
        secret = secret_key(str(key))
        if isinstance(item, str):
            other = named and not secret_key(item) and (key in ("value", "content") or _is_named_value(item, value))
            result[_mask_key(key)] = (
                stand_in(item) if (secret or other) and _is_secret(item, references) else _in_text(item, references)
            )
        elif secret and isinstance(item, list) and all(isinstance(value, str) for value in item):
            result[_mask_key(key)] = [stand_in(value) if _is_secret(value, references) else value for value in item]
        elif type(item) is int and len(str(item)) >= 4 and _number_key_form().search(str(key)):
            result[_mask_key(key)] = stand_in(str(item))
        else:
            result[_mask_key(key)] = mask_tree(item, references)
    return result


def _is_named_value(text: str, pair: dict[str, Any]) -> bool:
    """Whether a text is what the other text of a pair names: there are just two, and this one is no word."""
    texts = sum(type(value) is str for value in pair.values())
    return (
        texts == 2
        and len(text) >= 6
        and any(letter.isdigit() for letter in text)
        and not any(letter.isspace() for letter in text)
    )


def _mask_key(key: Any) -> Any:
    """A key that is itself a secret (a token as the name of an entry) is masked too."""
    if type(key) is str and len(key) >= 24:
        return _in_text(key)
    return key

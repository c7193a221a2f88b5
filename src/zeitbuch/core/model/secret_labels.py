# A flow shows its secrets as "secret A", "secret B": equal ones alike, and nothing that could be worked back. Two versions are
# compared with their labels made to agree first; only then does another label mean another secret.
"""Labels of secrets in flows."""

from __future__ import annotations

import re
from collections.abc import Callable
from itertools import count as count_up
from typing import Any, TypeVar

from msgspec import Struct, structs

from .records import Flow, Secret

T = TypeVar("T")
LABEL = re.compile(r"\bsecret [A-Z]{1,3}\b")


def label_of(number: int) -> str:
    """The label of a secret by its place in the flow: secret A ... secret Z, secret AA ..."""
    letters = ""
    number += 1
    while number:
        number, rest = divmod(number - 1, 26)
        letters = chr(65 + rest) + letters
    return f"secret {letters}"


def map_texts(value: T, put: Callable[[str], str]) -> T:
    """A value of any make with all its texts, keys too, put through a function; what does not change stays the same object."""
    return _mapped(value, put)  # type: ignore[no-any-return]


def _mapped(value: Any, put: Callable[[str], str]) -> Any:
    kind = type(value)
    if kind is str:
        return put(value)
    if isinstance(value, Struct):
        return _mapped_record(value, put)
    if kind is tuple:
        items = tuple([_mapped(item, put) for item in value])
        return items if any([a is not b for a, b in zip(items, value, strict=True)]) else value
    if kind is list:
        return [_mapped(item, put) for item in value]
    if kind is dict and value:
        return {_mapped(key, put): _mapped(item, put) for key, item in value.items()}
    return value


def _mapped_record(value: Struct, put: Callable[[str], str]) -> Struct:
    changed = {}
    for name in value.__struct_fields__:
        old = getattr(value, name)
        new = _mapped(old, put)
        if new is not old:
            changed[name] = new
    return structs.replace(value, **changed) if changed else value


def rename_labels(value: T, names: dict[str, str]) -> T:
    """A flow, or any part of one, with labels renamed."""
    if not names:
        return value

    def put(text: str) -> str:
        return LABEL.sub(lambda found: names.get(found[0], found[0]), text) if "secret " in text else text

    return map_texts(value, put)


def without_labels(flow: Flow) -> Flow:
    """The flow with "secret" in the place of every label: what it means does not depend on which secret it is."""
    if not flow.secrets:
        return flow
    names = {secret.name: "secret" for secret in flow.secrets}
    return rename_labels(structs.replace(flow, secrets=()), names)


def without_digests(flow: Flow) -> Flow:
    """The flow as it may be written anywhere: with the labels of its secrets, and nothing to compare them by."""
    if not any(secret.digest for secret in flow.secrets):
        return flow
    return structs.replace(flow, secrets=tuple([structs.replace(secret, digest="") for secret in flow.secrets]))


def align_secrets(old: Flow, new: Flow) -> Flow:
    """The newer version with the labels of the older where the secret is the same, and a label of its own where it is not.

    Without digests on both sides nothing is known but that a secret stands there: equal labels stay equal.
    """
    known = {secret.digest: secret.name for secret in old.secrets if secret.digest}
    compared = [secret for secret in new.secrets if secret.digest]
    if not known or not compared:
        return new
    taken = {secret.name for secret in (*old.secrets, *new.secrets)} - {secret.name for secret in compared}
    taken |= {secret.name for secret in old.secrets}
    fresh = (label for label in map(label_of, count_up()) if label not in taken)
    names = {secret.name: known.get(secret.digest) or next(fresh) for secret in compared}
    if all(name == label for name, label in names.items()):
        return new
    made = tuple([structs.replace(secret, name=names.get(secret.name, secret.name)) for secret in new.secrets])
    return structs.replace(rename_labels(structs.replace(new, secrets=()), names), secrets=made)


def count_secrets(count: Callable[[str], float], secrets: tuple[Secret, ...]) -> Callable[[str], float]:
    """A counter of tokens that counts for every label what its secret is worth to a model."""
    if not secrets:
        return count
    worth = {secret.name: secret.tokens - count(secret.name) for secret in secrets if secret.tokens}

    def counted(text: str) -> float:
        hidden = [worth.get(label, 0.0) for label in LABEL.findall(text)] if "secret " in text else []
        return count(text) + sum(hidden)

    return counted

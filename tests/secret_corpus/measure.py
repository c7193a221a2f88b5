"""The two rates of error over a corpus: secrets that come through, and harmless texts that are touched.

A line of ``*_secrets.jsonl`` is a context with § where the secret stands and the shapes that are put there; a line of ``*_harmless.jsonl``
a value in which nothing may be touched.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from zeitbuch.readers.secrets.labels import replace_marks
from zeitbuch.readers.secrets.masker import Masker

from .shapes import made

HERE = Path(__file__).parent


def lines_of(name: str) -> list[dict[str, Any]]:
    """The lines of a file of the corpus."""
    return [json.loads(line) for line in (HERE / f"{name}.jsonl").read_text(encoding="utf-8").splitlines()]


def keys_of(value: Any) -> set[str]:
    """All keys of the objects in a value."""
    if isinstance(value, dict):
        return set(value) | {key for item in value.values() for key in keys_of(item)}
    return {key for item in value for key in keys_of(item)} if isinstance(value, list) else set()


def masked(value: Any) -> Any:
    """A value as it comes out of the reading of a file that holds it."""
    return Masker().mask_document(value, json.dumps(value, ensure_ascii=False).encode(), keys_of(value))


def put_secret(value: Any, secret: str) -> Any:
    """A context with a secret in its place."""
    if isinstance(value, dict):
        return {key: put_secret(item, secret) for key, item in value.items()}
    if isinstance(value, list):
        return [put_secret(item, secret) for item in value]
    return value.replace("§", secret) if isinstance(value, str) else value


def secret_cases(name: str) -> list[tuple[Any, str]]:
    """Every context with every shape it takes: the value, and the secret."""
    found = []
    for place, line in enumerate(lines_of(f"{name}_secrets")):
        for shape in line["like"]:
            secret = made(shape, place)
            found.append((put_secret(line["in"], secret), secret))
    return found


def shows(secret: str, out: str) -> bool:
    """Whether half of a secret or more stands in a text."""
    half = max(4, (len(secret) + 1) // 2)
    return any(secret[at : at + half] in out for at in range(len(secret) - half + 1))


def leaks(name: str) -> list[tuple[Any, str]]:
    """The cases whose secret shows in what comes out.

    Marks are put away first: the digest in one has a key of its own in every process, and its sixteen digits hold any four by chance.
    """
    return [
        (value, secret)
        for value, secret in secret_cases(name)
        if shows(secret, json.dumps(replace_marks(masked(value), {}), ensure_ascii=False))
    ]


def touched(name: str) -> list[tuple[Any, Any]]:
    """The harmless values that come out changed."""
    values = [line["in"] for line in lines_of(f"{name}_harmless")]
    return [(value, out) for value in values if (out := masked(value)) != value]

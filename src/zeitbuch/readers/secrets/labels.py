# While a file is read a secret is a mark: private-use characters around a digest keyed for this user. Once the flow stands, marks
# become "secret A", "secret B" in the order of the flow; the digest stays with the flow so that `diff` can tell that a secret changed,
# and never leaves the user's cache. The tokens are counted before the text is gone.
"""Marks and labels of secrets."""

from __future__ import annotations

import hashlib
import os
import re
from typing import TypeVar

from msgspec import structs

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Flow, Secret
from zeitbuch.core.model.secret_labels import LABEL, label_of, map_texts

T = TypeVar("T")
_OPEN, _CLOSE = "\ue0f0", "\ue0f1"
_MARK = re.compile(f"{_OPEN}([0-9a-f]{{16}}){_CLOSE}")
_BROKEN = re.compile(f"{_OPEN}[0-9a-f]{{0,16}}{_CLOSE}?")
SOME_SECRET = "a secret"
PROCESS_KEY = os.urandom(32)  # where nothing is kept between runs


class Marks:
    """The marks of one reading. ``key`` is the user's; without one this process's."""

    def __init__(self, key: bytes = b"") -> None:
        self.key = key or PROCESS_KEY
        self.tokens: dict[str, int] = {}
        self.made = 0  # marks since a file was begun

    def mark(self, secret: str) -> str:
        """What stands in the place of a secret while its file is read: equal secrets have equal marks."""
        self.made += 1
        raw = secret.encode("utf-8", "surrogatepass")
        digest = hashlib.blake2b(raw, digest_size=8, key=self.key[:64]).hexdigest()
        if digest not in self.tokens:
            from zeitbuch.core.pricing.token_count import count_tokens

            self.tokens[digest] = round(count_tokens(secret))
        return f"{_OPEN}{digest}{_CLOSE}"

    def label_flow(self, flow: Flow) -> Flow:
        """The flow with its marks replaced by labels, in the order of its fields."""
        found: dict[str, None] = {}
        taken = {secret.name for secret in flow.secrets}

        def look(text: str) -> str:
            if _OPEN in text:
                found.update(dict.fromkeys(_MARK.findall(text)))
            if "secret " in text:
                taken.update(LABEL.findall(text))
            return text

        map_texts(flow, look)
        if not found:
            return flow
        labels: dict[str, str] = {}
        number = 0
        for digest in found:
            while label_of(number) in taken:
                number += 1
            labels[digest] = label_of(number)
            number += 1
        made = [
            Secret(name=label, digest=digest, tokens=self.tokens.get(digest, 0)) for digest, label in labels.items()
        ]
        return structs.replace(replace_marks(flow, labels), secrets=(*flow.secrets, *made))


def replace_marks(value: T, labels: dict[str, str]) -> T:
    """A value of any make with marks replaced: by their labels, or by "a secret" where there is none."""

    def put(text: str) -> str:
        if _OPEN not in text:
            return text
        return _BROKEN.sub(SOME_SECRET, _MARK.sub(lambda found: labels.get(found[1], SOME_SECRET), text))

    return map_texts(value, put)


def plain_problem(problem: Problem) -> Problem:
    """A message with "a secret" in the place of marks."""
    return replace_marks(problem, {})

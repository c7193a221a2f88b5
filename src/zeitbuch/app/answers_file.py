# What an owner answers to the questions of a proposal, from a file: each answer is given once, and one to no question is refused.
"""Files of answers."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from msgspec import Struct

from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Origin
from zeitbuch.readers.input.toml_files import TomlKind, load_toml

_KIND = TomlKind("a file of answers", "answers", "answers-unreadable", "answers-syntax", "answers-key")


class Answers(Struct, frozen=True, forbid_unknown_fields=True):
    """A file of answers: under ``answers`` the id of each question with the number or the word of an answer."""

    answers: dict[str, str | int] = {}


class AnswersFile:
    """The answers in a file, given to one proposal after the other: what is answered may bring new questions."""

    def __init__(self, path: str) -> None:
        """Raises ZeitbuchError when the file cannot be read."""
        self.origin = Origin(path)
        self.left = {key: str(value) for key, value in load_toml(path, Answers, _KIND)[0].answers.items()}
        self.asked: list[str] = []

    def take(self, ids: Iterable[str], usable: Callable[[str, str], str]) -> dict[str, str]:
        """The answers to some questions; ``usable`` has the word of an answer to a question, or raises ZeitbuchError."""
        known = [key for key in ids if key in self.left]
        return {key: usable(key, self.left.pop(key)) for key in known}

    def refuse_rest(self, what: str) -> None:
        """Raises ZeitbuchError when an answer was to no question; ``what`` says what may be answered."""
        for key in self.left:
            known = ", ".join(f'"{name}"' for name in dict.fromkeys(self.asked)) or "there are none"
            raise fail(
                "answer", f"expected an answer to {what}, found one to '{key}'", f"the questions: {known}", self.origin
            )

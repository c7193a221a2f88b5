# Answers to the questions of a proposed dialect, from a file or one by one.
"""Answers of the owner of an export."""

from __future__ import annotations

from msgspec import Struct

from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Origin
from zeitbuch.readers.infer.questions import Question, answer_word, unasked_question
from zeitbuch.readers.infer.suggest import Suggestion
from zeitbuch.readers.input.toml_files import TomlKind, load_toml

_KIND = TomlKind("a file of answers", "answers", "answers-unreadable", "answers-syntax", "answers-key")


class Answers(Struct, frozen=True, forbid_unknown_fields=True):
    """A file of answers: under ``answers`` the id of each question with the number or the word of an answer."""

    answers: dict[str, str | int] = {}


class AnswersInFile:
    """The answers in a file, given to one proposal after the other: what is answered may bring new questions."""

    def __init__(self, path: str) -> None:
        """Raises ZeitbuchError when the file cannot be read."""
        self.origin = Origin(path)
        self.left = dict(load_toml(path, Answers, _KIND)[0].answers)
        self.asked: list[str] = []

    def __call__(self, made: Suggestion) -> dict[str, str]:
        """The words of answers to the questions of a proposal, by their ids; what an operation is may be said unasked, too. Raises
        ZeitbuchError when one is none to its question."""
        unasked = [unasked_question(operation) for operation in made.operations]
        by_id = {question.id: question for question in (*unasked, *made.questions)}
        self.asked += [question.id for question in made.questions]
        known = [key for key in self.left if key in by_id]
        return {key: usable_answer(by_id[key], str(self.left.pop(key)), self.origin) for key in known}

    def refuse_rest(self) -> None:
        """Raises ZeitbuchError when an answer was to no question."""
        for key in self.left:
            known = ", ".join(f'"{name}"' for name in self.asked) or "there are none"
            raise fail(
                "answer",
                f"expected an answer to a question of this proposal or to what an operation is, found one to '{key}'",
                f"the questions: {known}",
                self.origin,
            )


def usable_answer(question: Question, said: str, origin: Origin | None = None) -> str:
    """The word of an answer. Raises ZeitbuchError when it is none to this question."""
    word = answer_word(question, said)
    if word is None:
        raise fail("answer", f"expected {allowed_answers(question)} for '{question.id}', found '{said}'", "", origin)
    return word


def allowed_answers(question: Question) -> str:
    """What may be answered, in words."""
    words = ", ".join(f"{number} ({one.word})" for number, one in enumerate(question.answers, 1))
    if not question.others:
        return words
    return f"{words} or another {question.others}" if words else f"a {question.others}"

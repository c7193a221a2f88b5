# Answers to the questions of a proposed dialect, from a file or one by one.
"""Answers of the owner of an export."""

from __future__ import annotations

from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Origin
from zeitbuch.readers.infer.question_records import Question
from zeitbuch.readers.infer.questions import answer_word, unasked_question
from zeitbuch.readers.infer.suggest import Suggestion

from .answers_file import AnswersFile


class AnswersInFile(AnswersFile):
    """Answers to the questions of a proposed dialect."""

    def __call__(self, made: Suggestion) -> dict[str, str]:
        """The words of answers to the questions of a proposal, by their ids; what an operation is may be said unasked, too. Raises
        ZeitbuchError when one is none to its question."""
        unasked = [unasked_question(operation) for operation in made.operations]
        by_id = {question.id: question for question in (*unasked, *made.questions)}
        self.asked += [question.id for question in made.questions]
        # In the order of the file.
        known = [key for key in self.left if key in by_id]
        return self.take(known, lambda key, said: usable_answer(by_id[key], said, self.origin))


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

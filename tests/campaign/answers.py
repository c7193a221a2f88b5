"""An owner who knows the estate and answers the questions of a proposal."""

from __future__ import annotations

from zeitbuch.readers.infer.question_records import Question
from zeitbuch.readers.infer.questions import KIND_QUESTION
from zeitbuch.readers.infer.suggest import Suggestion

from .estates import MadeEstate

MOST_ANSWERS = 10


class Owner:
    """Answers the first ten questions, from what stands in the estate."""

    def __init__(self, made: MadeEstate) -> None:
        self.made, self.left = made, MOST_ANSWERS

    def __call__(self, proposed: Suggestion) -> dict[str, str]:
        questions = proposed.questions[: self.left]
        self.left -= len(questions)
        found = {question.id: _answer_to(self.made, question) for question in questions}
        return {name: word for name, word in found.items() if word}


def _answer_to(made: MadeEstate, question: Question) -> str:
    operation = question.id.removeprefix(KIND_QUESTION).removeprefix("trigger ")
    if operation != question.id:
        return _kind_of(made, operation)
    if question.id.startswith("unit "):
        return _unit(made, question.id)
    if question.id == "condition":
        told = {box.facts.get("condition") for flow in made.flows for box in flow.every}
        text = question.example.split("; ")[0]
        again = {box.facts.get("rounds") for flow in made.flows for box in flow.every}
        return "runs" if text in told else "until" if text in again else "no"
    if question.id == "repeats":
        told = {box.facts.get("rounds") for flow in made.flows for box in flow.every}
        ends = any(
            type(value) is dict
            for flow in made.flows
            for box in flow.every
            if "rounds" in box.facts
            for value in box.fields.values()
        )
        return ("until" if ends else "each") if question.example.split("; ")[0] in told else "no"
    if question.id == "switch":
        asked = set(question.example.split(", "))
        return "yes" if any(asked == set(map(str, flow.spelled)) for flow in made.flows if flow.switch) else "no"
    if question.id == "state":  # the estates that ask have a switch, and true is on in them
        return next((answer.word for answer in question.answers if answer.word in ("true is on", "1 is on")), "")
    if question.id == "links" and len(question.answers) == 2 and question.answers[0].word == "forward":
        return _direction(made, question)
    return ""


def _kind_of(made: MadeEstate, operation: str) -> str:
    """The kind of an operation, of which the proposal may know one part of two where that part tells it."""
    parts = {kind for name, kind in made.kinds.items() if operation in name.split(".", 1)}
    return made.kinds.get(operation) or (parts.pop() if len(parts) == 1 else "")


def _unit(made: MadeEstate, asked: str) -> str:
    if asked == "unit of timeout":
        return "seconds"
    if asked.startswith("unit of wait "):
        return made.units[1]
    return "" if asked == "unit of retry_wait" else made.units[0]


def _direction(made: MadeEstate, question: Question) -> str:
    """Which of the two ways that are offered is an arrow of a flow."""
    arrows = {(a.name, b.name) for flow in made.flows for a, b, _, _ in flow.arrows}
    for answer in question.answers:
        first, _, second = answer.meaning.strip("'").partition("' runs before '")
        if (first, second) in arrows:
            return answer.word
    return ""

# A mapping for a log that nobody has described, proposed from its beginning and from what the estate calls things.
"""The use case of `usage suggest`."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from zeitbuch.core.actuals.matching import Names
from zeitbuch.core.actuals.usage_mapping import is_zone
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Estate
from zeitbuch.core.pricing.rate_card import RateCard
from zeitbuch.readers.usage.log_sample import sample_log
from zeitbuch.readers.usage.mapping_proposal import MappingProposal, MappingQuestion, propose_mapping
from zeitbuch.readers.usage.standard_proposal import propose_standard, standard_form_of

from .answers_file import AnswersFile

Ask = Callable[[MappingProposal], dict[str, str]]  # answers to the questions of a proposal, by their ids


def suggest_mapping(path: str, estate: Estate, card: RateCard | None, ask: Ask | None = None) -> MappingProposal:
    """The proposal for a log, with the answers that are given. Raises ZeitbuchError when the log cannot be read."""
    sample = sample_log(path)
    known = _known_names(estate, card)
    if form := standard_form_of(sample):
        return propose_standard(sample, form, known)
    zones = list(
        dict.fromkeys(
            zone for flow in estate.flows for one in flow.triggers if one.schedule and (zone := one.schedule.zone)
        )
    )
    currency = card.currency if card is not None else ""
    answers: dict[str, str] = {}
    while True:
        made = propose_mapping(sample, known, zones, currency, answers)
        more = ask(made) if ask is not None and made.questions else {}
        if not more:
            return made
        answers |= more  # what is answered may bring new questions


def _known_names(estate: Estate, card: RateCard | None) -> Mapping[str, Names]:
    """What the estate calls its flows, steps and models."""
    steps = {f"{flow.id}/{step.id}": (step.id, step.name) for flow in estate.flows for step in flow.steps}
    models = {
        step.model.name for flow in estate.flows for step in flow.steps if step.model is not None and step.model.name
    }
    models |= {rate.name for rate in card.model} if card is not None else set()
    return {
        "flow": Names({flow.id: (flow.name,) for flow in estate.flows}),
        "step": _FirstOf(steps),
        "model": Names(dict.fromkeys(models, ())),
    }


class _FirstOf(Names):
    """Names that many things share: any of them will do."""

    def __init__(self, known: Mapping[str, tuple[str, ...]]) -> None:
        super().__init__(known)
        self.folded = {name: dict.fromkeys(list(keys)[:1]) for name, keys in self.folded.items()}


class MappingAnswers(AnswersFile):
    """Answers to the questions of a proposed mapping."""

    def __call__(self, made: MappingProposal) -> dict[str, str]:
        """Answers to the questions of a proposal. Raises ZeitbuchError when one is none to its question."""
        by_id = {question.id: question for question in made.questions}
        self.asked += by_id
        return self.take(by_id, lambda key, said: self._usable(by_id[key], said))

    def _usable(self, question: MappingQuestion, said: str) -> str:
        word = answer_word(question, said)
        if word is None:
            message = f"expected {allowed_words(question)} for '{question.id}', found '{said}'"
            raise fail("answer", message, "", self.origin)
        return word


def answer_word(question: MappingQuestion, said: str) -> str | None:
    """The word of an answer given by number, word or as the owner's own; None when it cannot be used."""
    said, words = said.strip(), [word for word, _ in question.answers]
    if said.isdecimal() and 1 <= int(said) <= len(words):
        return words[int(said) - 1]
    return said if said in words or (question.others and _fits(question, said)) else None


def _fits(question: MappingQuestion, said: str) -> bool:
    return is_zone(said) if question.id == "zone" else len(said) == 3 and said.isalpha()


def allowed_words(question: MappingQuestion) -> str:
    """What may be answered, in words."""
    words = ", ".join(f"{number} ({word})" for number, (word, _) in enumerate(question.answers, 1))
    return f"{words} or another {question.others}" if question.others else words

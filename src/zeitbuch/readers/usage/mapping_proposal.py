# A mapping proposed from the beginning of a log. What the log does not settle (zone, currency, order of dates, decimal sign, a column that may
# be something else) is asked; unanswered, it is not in the mapping, so that nothing is read wrongly in silence.
"""Proposals of usage mappings."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from msgspec import structs

from zeitbuch.core.actuals.columns import BY_NAME, TOTAL_WORDS
from zeitbuch.core.actuals.matching import Names
from zeitbuch.core.actuals.usage_mapping import ColumnRule, Line, PassedOver, UsageMapping, is_zone

from .column_guesses import CURRENCY, SURE, ColumnGuess, ColumnLook, guess_columns, look_at
from .column_words import UNITS, head_words
from .log_sample import LogSample

_EXAMPLE_LETTERS = 80
_NOTHING = "nothing"
_TESTS = frozenset("test testing tests dev development staging stage qa uat sandbox probe pruebas recette".split())
_FAILURES = frozenset(
    "error failed failure aborted fehler fehlgeschlagen abgebrochen fallo échec echec fallito feil błąd false".split()
)
_TIMEOUTS = frozenset(
    {
        "timeout",
        "timed out",
        "timed_out",
        "timedout",
        "expired",
        "zeitüberschreitung",
        "abgelaufen",
        "expiré",
        "expirado",
        "scaduto",
        "utløpt",
        "verlopen",
    }
)


class MappingQuestion(NamedTuple):
    """Something that is asked: its id, the question, an example of the values, and the likeliest answers with what they mean."""

    id: str
    text: str
    example: str
    answers: tuple[tuple[str, str], ...]
    others: str = ""  # what else may be answered


class MappingProposal(NamedTuple):
    """A mapping, what is sure of it and what is not, the questions left, columns of the log that nothing takes, and remarks."""

    mapping: UsageMapping
    guesses: tuple[ColumnGuess, ...]
    questions: tuple[MappingQuestion, ...]
    left: tuple[str, ...]
    remarks: tuple[str, ...]


def propose_mapping(
    sample: LogSample,
    known: Mapping[str, Names],
    zones: Sequence[str] = (),
    currency: str = "",
    answers: Mapping[str, str] | None = None,
) -> MappingProposal:
    """The proposal for a log. ``known``: names of the estate by sort (flow, step, model); ``zones`` and ``currency`` are those of the estate,
    for answers; ``answers`` by the ids of questions."""
    return _Proposing(sample, known, zones, currency, answers or {}).make()


class _Proposing:
    def __init__(
        self,
        sample: LogSample,
        known: Mapping[str, Names],
        zones: Sequence[str],
        currency: str,
        answers: Mapping[str, str],
    ) -> None:
        self.sample = sample
        self.looks = {look.head: look for look in look_at(sample)}
        self.all_guesses = guess_columns(list(self.looks.values()), known)
        self.zones, self.currency, self.answers = zones, currency, answers
        self.questions: list[MappingQuestion] = []
        self.remarks: list[str] = []

    def make(self) -> MappingProposal:
        taken = [guess for guess in self.all_guesses if self._is_taken(guess)]
        decimal, thousands, open_numbers = self._numbers(taken)
        columns: dict[str, str | ColumnRule] = {}
        for guess in sorted(taken, key=lambda one: list(BY_NAME).index(one.name)):
            rule = self._rule_of(guess, open_numbers)
            if rule is not None:
                columns[guess.name] = rule
        mapping = UsageMapping(
            files=[Path(self.sample.path).name], separator=self.sample.separator, encoding=self.sample.encoding,
            skip=self.sample.skip, sheet=self.sample.sheet, decimal=decimal or ".", thousands=thousands, zone=self._zone(taken),
            currency=self._currency(taken), column=columns, without=self._totals(taken), line=self._line(taken),
            failed=self._few_words("status", taken, _FAILURES), timed_out=self._few_words("status", taken, _TIMEOUTS), not_production=self._few_words("environment", taken, _TESTS),
        )  # fmt: skip
        used = {guess.column for guess in taken}
        left = tuple(head for head in self.sample.head if head not in used)
        return MappingProposal(mapping, tuple(taken), tuple(self.questions), left, tuple(self.remarks))

    def _ask(self, question: MappingQuestion) -> str:
        """The answer, or nothing: then the question is open."""
        said = self.answers.get(question.id, "")
        if not said:
            self.questions.append(question)
        elif said.isdecimal() and 1 <= int(said) <= len(question.answers):
            return question.answers[int(said) - 1][0]
        return said

    def _is_taken(self, guess: ColumnGuess) -> bool:
        if guess.score >= SURE:
            return True
        words = BY_NAME[guess.name].words
        question = MappingQuestion(
            f"column {guess.column}", f"Is the column '{guess.column}' {words}?", self._example(guess.column),
            ((guess.name, words), (_NOTHING, "something else, or of no use")),
        )  # fmt: skip
        return self._ask(question) == guess.name

    def _example(self, column: str) -> str:
        """The first values of a column, each of them whole as long as there is room."""
        values = list(dict.fromkeys(self.looks[column].values[:50]))
        shown = values[:1]
        while len(shown) < len(values) and len(", ".join([*shown, values[len(shown)]])) <= _EXAMPLE_LETTERS:
            shown.append(values[len(shown)])
        more = ", …" if len(shown) < len(values) else ""
        return ", ".join(shown)[:_EXAMPLE_LETTERS] + more

    def _rule_of(self, guess: ColumnGuess, open_numbers: set[str]) -> str | ColumnRule | None:
        look, sort = self.looks[guess.column], BY_NAME[guess.name].sort
        if guess.column in open_numbers:
            return None
        rule = ColumnRule(column=guess.column)
        if sort in ("time", "day") and not look.typed:
            form = self._order(look)
            if not form:
                return None
            rule = structs.replace(rule, format=form)
        for pattern, word, times in UNITS:
            if (
                sort in ("count", "money", "seconds")
                and pattern.search(guess.column)
                and (word != "cent" or sort == "money")
            ):
                rule = structs.replace(rule, times=times)
                self.remarks.append(f"'{guess.column}' is taken times {times:g}: its head says {word}s")
                break
        return guess.column if rule == ColumnRule(column=guess.column) else rule

    def _order(self, look: ColumnLook) -> str:
        """The form of days, asked where the values allow two."""
        if not look.time.other:
            return look.time.form
        ways = ((look.time.form, "day before month"), (look.time.other, "month before day"))
        return self._ask(
            MappingQuestion("dates", f"Which comes first in '{look.head}'?", self._example(look.head), ways)
        )

    def _numbers(self, taken: Sequence[ColumnGuess]) -> tuple[Any, str, set[str]]:
        """Decimal sign, sign for thousands, and columns whose numbers could be read in two ways."""
        looks = [self.looks[one.column] for one in taken if BY_NAME[one.name].sort in ("count", "money", "seconds")]
        looks = [look for look in looks if not look.typed]
        signs = {look.number.decimal for look in looks} - {""}
        thousands = next((look.number.thousands for look in looks if look.number.thousands), "")
        decimal = next(iter(signs)) if len(signs) == 1 else ""
        unsure = {look.head for look in looks if look.number.ambiguous}
        if decimal:
            other = "." if decimal == "," else ","
            return decimal, thousands or (other if unsure else ""), set()
        unsure |= {look.head for look in looks if look.number.decimal}  # columns that contradict each other
        if not unsure:
            return ".", thousands, set()
        said = self._ask_decimal(min(unsure))
        if said:
            return said, "," if said == "." else ".", set()
        return ".", "", unsure

    def _ask_decimal(self, column: str) -> str:
        ways = (
            (".", "12.345 is twelve and a bit, 12,345 twelve thousand"),
            (",", "12,345 is twelve and a bit, 12.345 twelve thousand"),
        )
        text = f"Which sign has '{column}' before its decimal places?"
        return self._ask(MappingQuestion("decimal", text, self._example(column), ways))

    def _zone(self, taken: Sequence[ColumnGuess]) -> str:
        at = next((self.looks[one.column] for one in taken if one.name == "time"), None)
        if at is None or at.time.zoned:
            return ""
        if "utc" in head_words(at.head) or "gmt" in head_words(at.head):
            return "UTC"
        ways = tuple((zone, "the zone of schedules in the estate") for zone in self.zones if zone != "UTC")[:2]
        said = self._ask(MappingQuestion(
            "zone", f"In which time zone are the clock times of '{at.head}'?", self._example(at.head), (*ways, ("UTC", "universal time")),
            "time zone (IANA), such as Europe/Oslo",
        ))  # fmt: skip
        return said if said and is_zone(said) else ""

    def _currency(self, taken: Sequence[ColumnGuess]) -> str:
        cost = next((one for one in taken if one.name == "cost"), None)
        if cost is None or any(one.name == "currency" for one in taken):
            return ""
        if code := CURRENCY(cost.column):
            return code
        ways = tuple(dict.fromkeys([code for code in (self.currency, "EUR", "USD") if code]))
        said = self._ask(MappingQuestion(
            "currency", f"In which currency is '{cost.column}'?", self._example(cost.column),
            tuple((code, "the rate card's currency" if code == self.currency else code) for code in ways), "currency (ISO 4217)",
        ))  # fmt: skip
        return said.upper()

    def _totals(self, taken: Sequence[ColumnGuess]) -> list[PassedOver]:
        """Lines whose name says that they are totals."""
        found = []
        for guess in taken:
            if BY_NAME[guess.name].sort != "name":
                continue
            words = sorted(
                {value for value in self.looks[guess.column].values if value.casefold().rstrip(":") in TOTAL_WORDS}
            )
            if words:
                found.append(PassedOver(guess.column, equals=words, reason="totals"))
        return found

    def _line(self, taken: Sequence[ColumnGuess]) -> Line:
        names = {one.name for one in taken}
        if "calls" in names:
            return "sum"
        if names & {"tokens_in", "tokens_out"} and ("time" in names or "run" in names):
            return "call"
        said = self._ask(MappingQuestion(
            "line", "What does a line stand for?", "", (("call", "one model call"), ("step", "one step of a run"), ("run", "one run of a flow")),
        ))  # fmt: skip
        return said if said in ("call", "step", "run") else "call"  # type: ignore[return-value]

    def _few_words(self, name: str, taken: Sequence[ColumnGuess], known: frozenset[str]) -> list[str]:
        column = next((one.column for one in taken if one.name == name), "")
        values = self.looks[column].values if column else ()
        return sorted({value for value in values if value.casefold() in known})


def proposal_text(made: MappingProposal) -> str:
    """The proposal as a file (TOML), with how sure each part is, and what is open as comments."""
    return "\n".join([*_head_lines(made), "", "[column]", *_column_lines(made), *_end_lines(made)]) + "\n"


def _head_lines(made: MappingProposal) -> Iterator[str]:
    mapping = made.mapping
    yield "# Proposed from the log. What is open is asked below, and not read until it is answered."
    yield "usage = 1"
    defaults = UsageMapping()
    for key in (
        "form",
        "files",
        "separator",
        "encoding",
        "skip",
        "sheet",
        "decimal",
        "thousands",
        "zone",
        "line",
        "currency",
        "failed",
        "timed_out",
        "not_production",
    ):
        value = getattr(mapping, key)
        if value != getattr(defaults, key) or key in ("files", "line"):
            yield f"{key} = {_toml(value)}"


def _column_lines(made: MappingProposal) -> Iterator[str]:
    scores = {guess.name: guess.score for guess in made.guesses}
    for name, rule in made.mapping.column.items():
        sure = "" if scores[name] >= SURE else "  # as answered"
        yield f"{name} = {_toml(rule) if isinstance(rule, str) else _table(rule)}{sure}"
    for guess in made.guesses:
        if guess.name not in made.mapping.column:
            yield f"# {guess.name} = {_toml(guess.column)}  # open: see the questions"


def _end_lines(made: MappingProposal) -> Iterator[str]:
    for one in made.mapping.without:
        yield from (
            "",
            "[[without]]",
            f"column = {_toml(one.column)}",
            f"equals = {_toml(one.equals)}",
            f"reason = {_toml(one.reason)}",
        )
    if made.remarks:
        yield from ("", *[f"# {text}" for text in made.remarks])
    if made.left:
        yield from ("", f"# columns that nothing takes: {', '.join(made.left)}")
    for question in made.questions:
        yield from ("", f"# question {_toml(question.id)}: {question.text}")
        if question.example:
            yield f"#   values: {question.example}"
        yield from (f"#   {number} {word}: {meaning}" for number, (word, meaning) in enumerate(question.answers, 1))
        if question.others:
            yield f"#   or another {question.others}"


def _table(rule: ColumnRule) -> str:
    parts = [f"column = {_toml(rule.column)}"] if rule.column else [f"fixed = {_toml(rule.fixed)}"]
    parts += [f"format = {_toml(rule.format)}"] if rule.format != "iso" else []
    parts += [f"times = {rule.times:g}"] if rule.times != 1 else []
    if rule.where:
        held = ", ".join(f"{_toml(column)} = {_toml(words)}" for column, words in rule.where.items())
        parts.append(f"where = {{ {held} }}")
    return f"{{ {', '.join(parts)} }}"


def _toml(value: Any) -> str:
    """A value as TOML: its texts are escaped as JSON's are (TOML 1.0, basic strings)."""
    return json.dumps(value, ensure_ascii=False).replace("\x7f", "\\u007f")

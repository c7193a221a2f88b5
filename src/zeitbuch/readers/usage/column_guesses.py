# Which column of a log is what: by its values first, by the names of the estate that it holds, and by the words of its head. A guess that is
# not sure is asked.
"""Guesses about the columns of a log."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from zeitbuch.core.actuals.columns import USAGE_COLUMNS
from zeitbuch.core.actuals.matching import Names

from .column_words import CURRENCIES, head_words, word_score
from .log_sample import LogSample
from .value_forms import NumberForm, TimeForm, number_form, time_form

SURE, ASKED = 0.8, 0.35  # scores from which a guess is taken, and from which it is asked
_ENDED = frozenset(
    "ok success succeeded successful done completed complete finished error failed failure timeout cancelled canceled aborted running skipped partial "
    "fertig erfolgreich fehler fehlgeschlagen abgebrochen erfolg éxito exito fallo réussi échec echec riuscito fallito ferdig feil gotowe błąd true false "
    "timed_out timedout expired abgelaufen zeitüberschreitung expiré expirado scaduto utløpt verlopen".split()
) | {"timed out"}
_STAGES = frozenset(
    "prod production produktion live betrieb test testing tests dev development staging stage qa uat sandbox probe produccion producción pruebas recette produzione".split()
)
_CODE = re.compile(r"[A-Z]{3}")
_TOKENS = frozenset({"token", "tokens", "jetons", "fichas", "tokeny", "tokentall"})
_TOTAL = frozenset({"total", "gesamt", "all", "sum", "summe", "insgesamt", "totale", "totaal"})


class ColumnLook(NamedTuple):
    """What a column of a log looks like: its head, the forms of its values, and how many of its different values there are."""

    head: str
    values: Sequence[str]
    number: NumberForm
    time: TimeForm
    different: int
    typed: bool

    @property
    def is_text(self) -> bool:
        """Whether it holds words rather than numbers or times."""
        return bool(self.values) and self.number.share < 0.9 and self.time.share < 0.8


class ColumnGuess(NamedTuple):
    """A column of the record, the column of the log that it seems to be, and the score of that, 0 to 1."""

    name: str
    column: str
    score: float


def look_at(sample: LogSample) -> list[ColumnLook]:
    """The columns of a sample."""
    found = []
    for head in sample.head:
        values = sample.values(head)
        found.append(
            ColumnLook(head, values, number_form(values), time_form(values), len(set(values)), head in sample.typed)
        )
    return found


def guess_columns(looks: Sequence[ColumnLook], known: Mapping[str, Names]) -> list[ColumnGuess]:
    """The best way to give each column of the record one of the log; those that are not even asked are left out."""
    import numpy as np
    from scipy.optimize import linear_sum_assignment

    names = [row.name for row in USAGE_COLUMNS if row.name != "arrived"]
    scores = np.array([[_score(name, look, known) for look in looks] for name in names])
    rows, columns = linear_sum_assignment(-scores)
    found = [
        ColumnGuess(names[row], looks[column].head, float(scores[row, column]))
        for row, column in zip(rows, columns, strict=True)
    ]
    found = [guess for guess in found if guess.score >= ASKED]
    found += _arrived(looks, {guess.column for guess in found})
    has_time = any(guess.name == "time" for guess in found)
    return [guess for guess in found if not (guess.name == "day" and has_time)]


def _arrived(looks: Sequence[ColumnLook], taken: set[str]) -> list[ColumnGuess]:
    """The clock times that are left over and whose head says that lines arrived at them."""
    left = [look for look in looks if look.head not in taken and look.time.share >= 0.8 and look.time.clock]
    told = [look for look in left if word_score(look.head, "arrived") > 0]
    return [ColumnGuess("arrived", told[0].head, SURE)] if len(told) == 1 else []


def _score(name: str, look: ColumnLook, known: Mapping[str, Names]) -> float:
    if not look.values:
        return 0.0
    words = word_score(look.head, name)
    if name in ("time", "day"):
        fits = look.time.share >= 0.8 and look.time.clock == (name == "time")
        ends = {"end", "ended", "finished", "ende", "fin", "fine", "slutt", "updated", "modified"} & set(
            head_words(look.head)
        )
        late = 0.3 if ends else 0.1 if word_score(look.head, "arrived") > 0 else 0.0
        return (0.85 + 0.15 * words - late) if fits else 0.0
    if name in ("flow", "step", "model"):
        return _named_score(name, look, known, words)
    if name in _BY_VALUES:
        return _BY_VALUES[name](look, words)
    if look.number.share < 0.95 or look.time.form in ("seconds", "milliseconds"):
        return 0.0
    return _number_score(name, look, words)


def _named_score(name: str, look: ColumnLook, known: Mapping[str, Names], words: float) -> float:
    """Names of the estate decide; without any, a head that says so of words that come again and again."""
    if not look.is_text and look.different > 1:
        return 0.0
    names = set(look.values)
    hits = sum(1 for value in names if known[name].match(value).id) / len(names)
    if hits:
        return min(1.0, 0.6 + 0.4 * hits + 0.2 * words)
    again = look.different <= max(3, len(look.values) / 3)
    return words * (0.9 if again else 0.5) if look.is_text else 0.0


def _currency(look: ColumnLook, words: float) -> float:
    codes = all(_CODE.fullmatch(value) for value in set(look.values)) and any(
        CURRENCY(value) for value in set(look.values)
    )
    return 0.9 + 0.1 * words if codes else 0.0


def CURRENCY(value: str) -> str:
    """The code of a currency that a text names, or nothing."""
    return next((code for pattern, code in CURRENCIES if pattern.search(value)), "")


def _status(look: ColumnLook, words: float) -> float:
    return _of_words(look, words, _ENDED)


def _environment(look: ColumnLook, words: float) -> float:
    return _of_words(look, words, _STAGES)


def _of_words(look: ColumnLook, words: float, known: frozenset[str]) -> float:
    """Few values, of which most are words that such a column has."""
    values = {value.casefold() for value in look.values}
    if not look.is_text or len(values) > 12:
        return 0.0
    hits = sum(1 for value in values if value in known) / len(values)
    return min(1.0, 0.75 * hits + 0.5 * words) if hits else words * 0.7


def _run(look: ColumnLook, words: float) -> float:
    """An id: of runs there are many, and few of them twice in a column of other things."""
    many = look.different >= 0.02 * len(look.values) and (look.different > 1 or len(look.values) < 5)
    fits = look.time.share < 0.8 and (look.is_text or look.number.whole)
    return (
        (0.95 * words if words else 0.3 * (look.different > 0.3 * len(look.values) and look.is_text))
        if many and fits
        else 0.0
    )


def _plain_name(look: ColumnLook, words: float) -> float:
    return words * 0.9 if look.is_text else 0.0


_BY_VALUES = {
    "currency": _currency, "status": _status, "environment": _environment, "run": _run, "host": _plain_name, "feature": _plain_name,
    "meter": _plain_name,
}  # fmt: skip


def _number_score(name: str, look: ColumnLook, words: float) -> float:
    said = set(head_words(look.head))
    tokens = bool(said & _TOKENS) or any(word.endswith("tokens") for word in said)
    if name == "cost":
        money = 0.9 if CURRENCY(look.head) else 0.0
        return max(words, money) if not tokens else 0.0
    if name in ("tokens_in", "tokens_out", "tokens_cached", "tokens_reasoning"):
        if said & _TOTAL or not words:
            return 0.0
        special = word_score(look.head, "tokens_cached") or word_score(look.head, "tokens_reasoning")
        if special and name in ("tokens_in", "tokens_out"):
            return 0.0
        return 0.97 if tokens else 0.82 * (words >= 0.9) + 0.4 * (words < 0.9)
    if tokens:
        return 0.0
    if name == "calls" and not look.number.whole:
        return 0.0
    return words * 0.95

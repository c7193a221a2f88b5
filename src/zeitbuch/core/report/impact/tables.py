# What follows, as a table a person can act on: what ends, what is no longer done, what it touches, whom to tell.
"""The table of an impact."""

from __future__ import annotations

from collections.abc import Iterator

from zeitbuch.core.assumptions.money import money_cell
from zeitbuch.core.model.sheet import Column, Sheet, money_text, number_text, without_columns
from zeitbuch.core.model.words import count_words, join_words

from .records import ENDINGS, FlowImpact, ImpactResult


def impact_sheet(result: ImpactResult, full: bool = True) -> Sheet:
    """One row a flow, the worst first; without ``full`` what people need."""
    columns = (
        Column("flow", "flow"), Column("id", "id", rank=4), Column("ending", "what follows"), Column("sure", "", rank=1),
        Column("because", "because", "list", least=28), Column("lost", "no longer done", "list", rank=1, least=24),
        Column("runs", "runs a month", "count", rank=2), Column("calls", "calls a month", "count", rank=3),
        Column("cost", f"{result.currency} a month".strip(), "money", rank=2),
    )  # fmt: skip
    more = (
        (Column("dearer", f"more {result.currency} a month".replace("  ", " "), "money"),)
        if result.happening == "dearer"
        else ()
    )
    rows = tuple(_row(one, bool(more)) for one in result.flows)
    whole = Sheet((*columns, *more), rows, notes=tuple(_notes(result)))
    return whole if full else without_columns(whole, "id")


def _row(one: FlowImpact, with_dearer: bool) -> tuple[object, ...]:
    because = (
        [f"‘{step.name}’ {step.why}" for step in one.steps]
        + [f"‘{name}’ fires no more" for name in one.dead]
        + list(one.notes)
    )
    lost = [*one.lost, *[f"{name} (perhaps)" for name in one.perhaps_lost]]
    sure = "" if one.odds == "certain" else "perhaps"
    row = (one.name, one.id, one.ending, sure, because, lost, one.runs, one.calls, money_cell(one.cost, one.unpriced))
    return (*row, one.dearer) if with_dearer else row


def _notes(result: ImpactResult) -> Iterator[str]:
    if result.nothing:
        yield result.nothing
        return
    yield impact_sentence(result)
    if result.unknown:
        yield f"No volume is known of {join_words(list(result.unknown))}: they are not in the sums."
    if result.unpriced:
        yield f"No price is known of {join_words(list(result.unpriced))}: it is not in the sums."
    if result.tell:
        yield f"To tell: {join_words(list(result.tell))}."


def impact_sentence(result: ImpactResult) -> str:
    """'Without model:x 1 flow stops and 2 go on; 1,200 runs, 2,400 calls and 31.20 EUR a month are touched.'"""
    counts = {word: sum(one.ending == word for one in result.flows) for word in ENDINGS}
    said = [f"{number} {_many(word, number)}" for word, number in counts.items() if number]
    head = {
        "gone": f"Without {result.thing}",
        "slower": f"With a slower {result.thing}",
        "dearer": f"With a dearer {result.thing}",
    }[result.happening]
    sums = f"{number_text(result.runs)} runs and {number_text(result.calls)} model calls"
    if result.currency:
        sums += f" for {money_text(result.cost)} {result.currency}"
    tail = _dearer_words(result) if result.happening == "dearer" else ""
    return f"{head}: {count_words(len(result.flows), 'flow')} ({', '.join(said)}); {sums} a month are touched.{tail}"


def _dearer_words(result: ImpactResult) -> str:
    """' It costs 3.10 EUR more.'; of flows without a volume or a price nobody can say."""
    if result.dearer is None:
        return " What it costs more is not known."
    least = "at least " if any(one.dearer is None for one in result.flows) else ""
    return f" It costs {least}{money_text(result.dearer)} {result.currency} more."


def _many(word: str, number: int) -> str:
    if number == 1 or word in ("gone", "may stop"):
        return word
    return {
        "never starts": "never start",
        "stops": "stop",
        "goes on": "go on",
        "waits longer": "wait longer",
        "costs more": "cost more",
    }.get(word, word)


def impact_marks(result: ImpactResult) -> dict[str, tuple[str, float]]:
    """Flow -> what a map writes on its card, and how long its bar is."""
    lengths = {
        "gone": 1.0,
        "never starts": 1.0,
        "stops": 1.0,
        "may stop": 0.6,
        "costs more": 0.6,
        "waits longer": 0.4,
        "goes on": 0.25,
    }
    return {
        one.id: (one.ending + ("" if one.odds == "certain" else " (perhaps)"), lengths[one.ending])
        for one in result.flows
    }

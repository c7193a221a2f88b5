# Fields that meet may hang steps together, or happen to say the same: which it is, their owner knows.
"""The question about topics that steps give out and take."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from msgspec import structs

from zeitbuch.readers.dialects.link_rules import OrderRule, PointerRule
from zeitbuch.readers.dialects.rules import Dialect

from .evidence import Evidence
from .link_tables import order_rule
from .question_records import Answer, Question, keep_same, no_other
from .survey import dotted_path
from .topics import Topics


def about_topics(e: Evidence, topics: Topics) -> Question:
    """Whether topics link the steps, and which way."""
    gives, takes = dotted_path(topics.gives), dotted_path(topics.takes)
    back = [PointerRule(at=takes, meets=gives)]
    answers = (
        Answer("topics", f"what a step has at '{gives}' leads to those that have it at '{takes}'", keep_same),
        Answer(
            "back",
            f"what a step has at '{takes}' leads to those that have it at '{gives}'",
            partial(_linked, pointers=back),
        ),
        Answer("order", "no: they run in the order in which they stand", partial(_linked, order=order_rule(e))),
        Answer("none", "no: they are not linked in these files", _linked),
    )
    text = f"No step names another. Do '{gives}' and '{takes}' say which runs after which?"
    return Question(
        "links",
        text,
        f"{topics.ways} times a step has at '{takes}' what another has at '{gives}'",
        answers,
        e.total,
        no_other,
    )


def _linked(dialect: Dialect, pointers: Sequence[PointerRule] = (), order: OrderRule | None = None) -> Dialect:
    trigger = structs.replace(dialect.trigger, starts="") if dialect.trigger is not None else None
    return structs.replace(dialect, pointer=list(pointers), order=order, trigger=trigger)

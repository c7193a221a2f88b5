# A rule claims a value by its place; whether the value can be used shows only when it is seen. What cannot be used, or is not
# used because another place gave the field its value, stays unread, so that "read" is never said of a value that was dropped.
"""Values that a rule claims and that nothing can be made of."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Annotated, Any, NamedTuple

from msgspec import Meta

from zeitbuch.readers.input import clock_texts

from .paths import Getter, are_items, as_count, as_flag, as_number, as_whole_number, is_words, make_getter, path_keys

Keys = tuple[str, ...]


class Form(NamedTuple):
    """What the value of a field must be: a test, the words for a message, types of which every value will do, and types with bounds
    for numbers that will do: several where numbers of one mean something else for other fields than those of another."""

    usable: Callable[[Any], bool]
    expected: str
    plain: frozenset[type] = frozenset()
    numbers: tuple[Any, ...] = ()


_HUGE = 1e308
WORDS = Form(is_words, "a text, a number or a list of these", frozenset({str, int, float, bool}))
NUMBER = Form(
    lambda value: as_number(value) is not None,
    "a number",
    frozenset({int}),
    (Annotated[float, Meta(ge=-_HUGE, le=_HUGE)],),
)
WHOLE = Form(
    lambda value: (found := as_whole_number(value)) is not None and found >= 0,
    "a whole number from 0 on",
    numbers=(Annotated[int, Meta(ge=0)],),
)
TRIES = WHOLE._replace(numbers=(Annotated[int, Meta(ge=1)], Annotated[int, Meta(ge=0, le=0)]))
COUNT = Form(
    lambda value: as_count(value) is not None, "a whole number from 1 on", numbers=(Annotated[int, Meta(ge=1)],)
)
FLAG = Form(lambda value: as_flag(value) is not None, "true or false", frozenset({bool}))
DURATION = Form(
    lambda value: clock_texts.duration_of(value) is not None,
    clock_texts.EXPECTED,
    numbers=(Annotated[float, Meta(ge=0, le=_HUGE)],),
)
CONDITION = Form(lambda _: True, "a condition", frozenset({str, int, float, bool, list, dict}))
ITEMS = Form(are_items, "a list, its name, an expression or lists to combine")
ROUNDS = Form(are_items, "a list, its name, an expression, a number or lists to combine", frozenset({str, int, bool}))
OBJECT = Form(lambda value: type(value) is dict, "an object of settings", frozenset({dict}))
FORMS: dict[str, Form] = {
    "temperature": NUMBER, "max_output": WHOLE, "max_turns": WHOLE, "cap": WHOLE, "batch": WHOLE, "every": DURATION,
    "enabled": FLAG, "disabled": FLAG, "retries": TRIES, "retry_wait": DURATION, "timeout": DURATION, "items": ITEMS,
    "x": NUMBER, "y": NUMBER, "wait": DURATION, "approvals_needed": WHOLE, "piece_size": WHOLE, "piece_overlap": WHOLE,
    "piece_batch": WHOLE, "pieces_found": WHOLE, "concurrency": COUNT, "ordered": FLAG, "awaits": FLAG,
    "own_condition": CONDITION, "skip_condition": CONDITION, "own_items": ROUNDS, "own_until": CONDITION, "own_cap": WHOLE,
}  # fmt: skip


class Refused(NamedTuple):
    """A claimed value that is not used, where it stands, and what was expected there (empty: another place was used)."""

    keys: Keys
    value: Any
    expected: str


class Field(NamedTuple):
    """One field of a rule: the places where its value may stand, and its form. All places are used when it ``gathers``; none
    where ``serves`` says that the record has no use for it. ``served_by``: the field of which a number above 0 says that it has."""

    ways: tuple[tuple[Keys, Getter], ...]
    form: Form
    gathers: bool = False
    serves: Callable[[dict[str, Any]], bool] | None = None
    partner: Getter | None = None  # what must be of the same form, or this is of no use
    served_by: Field | None = None


def make_field(
    paths: str | list[str],
    form: Form,
    gathers: bool = False,
    serves: Callable[[dict[str, Any]], bool] | None = None,
    partner: Getter | None = None,
) -> Field:
    """The field at one path or several."""
    places = [paths] if isinstance(paths, str) else paths
    return Field(tuple((path_keys(path), make_getter(path)) for path in places if path), form, gathers, serves, partner)


def one_of(words: Iterable[str]) -> Form:
    """A form of certain words only."""
    known = frozenset(words)

    def usable(value: Any) -> bool:
        return type(value) is not dict and type(value) is not list and _spelled(value) in known

    return Form(usable, "one of " + ", ".join(sorted(known)) if known else "a word that the dialect explains")


def _spelled(value: Any) -> str:
    return "true" if value is True else "false" if value is False else str(value)


def _is_absent(value: Any) -> bool:
    return value is None or (type(value) is list and all(item is None for item in value))


def refused_values(record: dict[str, Any], fields: Iterable[Field]) -> list[Refused]:
    """The values that the fields claim in a record and do not use, each place once."""
    found: dict[Keys, Refused] = {}
    for field in fields:
        if len(field.ways) == 1:
            # This runs for every field of every step: most values are of a type that will do.
            value = field.ways[0][1](record)
            if value is None or (type(value) in field.form.plain and field.serves is None and field.partner is None):
                continue
        idle = field.serves is not None and not field.serves(record)
        taken = idle = idle or (field.partner is not None and not field.form.usable(field.partner(record)))
        for keys, get in field.ways:
            value = get(record)
            if _is_absent(value):
                continue
            if (idle and field.form.usable(value)) or (taken and not idle and not field.gathers):
                found.setdefault(keys, Refused(keys, value, ""))
            elif not field.form.usable(value):
                found.setdefault(keys, Refused(keys, value, field.form.expected))
            taken = True
    return list(found.values())


def with_refused(rest: dict[str, Any], refused: Iterable[Refused]) -> dict[str, Any]:
    """The unread part of a record with refused values put where they stand; a list's are named by their path."""
    for one in refused:
        listed = any(key == "*" or key.isdecimal() for key in one.keys)
        rest = _put_value(rest, (".".join(one.keys),) if listed else one.keys, one.value)
    return rest


def _put_value(rest: dict[str, Any], keys: Keys, value: Any) -> dict[str, Any]:
    first, below = keys[0], keys[1:]
    held = rest.get(first)
    inner = _put_value(held if type(held) is dict else {}, below, value) if below else value
    return {**rest, first: inner}

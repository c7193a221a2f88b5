# Which field of records that repeat says what they do. Trade words help, but the settings tell: the type of a step says which settings
# it has, and no other field does.
"""Finding the field that says what a step does."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from typing import Any

from .survey import Group, Item, Path
from .vocabulary import guess_kinds, words_of

_OPERATION_KEYS = frozenset(
    "type kind op operation typ art sort klass class module function what tipo genre slag soort handling "
    "accion azione acao".split()
)
LOOKED_AT = 400  # items of a place
_AS_GOOD, _LEAST_ALONE = 0.5, 3  # part of the best score; items of a list, on average
_FEWEST, _TELLING = 20, 0.9  # items by which a number is judged, and how well it has to tell their settings


def is_tokenlike(value: Any) -> bool:
    """Whether a value may be an operation: a short text without blanks at its ends."""
    short = type(value) is str and 1 <= len(value) <= 80 and "\n" not in value and value.strip() == value
    return short and "://" not in value


def operation_scores(group: Group) -> list[tuple[float, Path]]:
    """Fields that may say what the items do, the best first."""
    items = [item.value for item in group.items[:LOOKED_AT]]
    shapes = [shape_of(item) for item in items]
    columns = {path: column for path, column in short_values(items).items() if len(column) >= 0.6 * len(items)}
    found = [
        (_score_field(list(column.values()), len(items), path) + 2.0 * shape_gain(column, shapes, path), path)
        for path, column in columns.items()
    ]
    if not any(shape_gain(column, shapes, path) >= _TELLING for path, column in columns.items()):
        found += _numbers_for_types(group.items[:LOOKED_AT], shapes)
    found.sort(key=lambda f: (-f[0], f[1]))
    return _types_before_ids(_types_before_captions(found, columns, shapes), columns, group.items[:LOOKED_AT])


def _numbers_for_types(items: list[Item], shapes: list[frozenset[Path]]) -> list[tuple[float, Path]]:
    """Fields of whole numbers that come again within a flow and tell all settings of an item: a type that is a code."""
    columns: dict[Path, dict[int, str]] = {}
    for number, item in enumerate(items):
        for key, value in item.value.items():
            if type(value) is int:
                columns.setdefault((key,), {})[number] = str(value)
    return [
        (2.0 + 2.0 * gain, path)
        for path, column in columns.items()
        if _come_again(column, items) and (gain := shape_gain(column, shapes, path)) >= _TELLING
    ]


def _come_again(column: dict[int, str], items: list[Item]) -> bool:
    """Whether all items have one of a few numbers, and several of one document the same."""
    own = {(items[number].document, value) for number, value in column.items()}
    few = len(set(column.values())) <= 0.3 * len(items)
    return len(column) == len(items) >= _FEWEST and few and len(own) < len(column)


def _types_before_captions(
    found: list[tuple[float, Path]], columns: dict[Path, dict[int, str]], shapes: list[frozenset[Path]]
) -> list[tuple[float, Path]]:
    """A field of several words gives way to one of single words that tells the settings as well: flows drawn alike have steps of
    the same name."""
    if not found or not _has_blanks(columns.get(found[0][1], {})):
        return found
    gain = shape_gain(columns[found[0][1]], shapes, found[0][1])
    for place, (_, path) in enumerate(found[1:], 1):
        column = columns.get(path, {})
        fits = bool(column) and gain > 0 and shape_gain(column, shapes, path) >= 0.9 * gain
        if not _has_blanks(column) and fits and len(set(column.values())) <= len(set(columns[found[0][1]].values())):
            return [(found[0][0], path), *found[:place], *found[place + 1 :]]
    return found


def _types_before_ids(
    found: list[tuple[float, Path]], columns: dict[Path, dict[int, str]], items: list[Item]
) -> list[tuple[float, Path]]:
    """A field that never says the same twice in a flow gives way to one that does, in words of the trade: flows drawn alike have steps of
    the same id."""
    if not found or not _is_alone_in_flows(columns.get(found[0][1], {}), items):
        return found
    for place, (score, path) in enumerate(found[1:], 1):
        values = set(columns.get(path, {}).values())
        known = bool(values) and all(map(guess_kinds, values)) and len(values) > 1
        if known and score >= _AS_GOOD * found[0][0] and not _is_alone_in_flows(columns[path], items):
            return [(found[0][0], path), *found[:place], *found[place + 1 :]]
    return found


def _is_alone_in_flows(column: dict[int, str], items: list[Item]) -> bool:
    """Whether items of one list never have the same value, of lists that are long enough to tell."""
    own = Counter((items[number].document, items[number].parent, value) for number, value in column.items())
    lists = Counter((items[number].document, items[number].parent) for number in column)
    return bool(column) and max(own.values()) == 1 and len(column) >= _LEAST_ALONE * len(lists)


def _has_blanks(column: dict[int, str]) -> bool:
    return sum(" " in value for value in column.values()) > 0.5 * len(column)


def short_values(items: list[dict[str, Any]]) -> dict[Path, dict[int, str]]:
    """Short texts by path, each with the number of the item it stands in."""
    values: dict[Path, dict[int, str]] = {}
    for number, item in enumerate(items):
        for key, value in item.items():
            if is_tokenlike(value):
                values.setdefault((key,), {})[number] = value
            elif type(value) is dict:
                for inner, deeper in value.items():
                    if is_tokenlike(deeper):
                        values.setdefault((key, inner), {})[number] = deeper
    return values


def shape_of(item: dict[str, Any]) -> frozenset[Path]:
    """Which keys an item has, two deep."""
    return frozenset(
        path
        for key, value in item.items()
        for path in ([(key, inner) for inner in value] if type(value) is dict and value else [(key,)])
    )


def shape_gain(column: dict[int, str], shapes: list[frozenset[Path]], path: Path) -> float:
    """How much better the keys of an item are known once the field is: 0 not at all, 1 entirely. The type of a step says which
    settings it has; no other field does. Only values that repeat can tell."""
    by_value: dict[str, list[frozenset[Path]]] = {}
    for number, value in column.items():
        by_value.setdefault(value, []).append(shapes[number] - {path})
    repeated = [listed for listed in by_value.values() if len(listed) > 1]
    count = sum(map(len, repeated))
    every = [shape for listed in by_value.values() for shape in listed]
    if len(by_value) < 2 or not count:
        return 0.0
    apart = _disagreement(every)
    if apart <= 0.01:
        return 0.0
    within = sum(_disagreement(listed) * len(listed) for listed in repeated) / count
    return max(0.0, 1 - within / apart) * count / len(every)


def _disagreement(shapes: list[frozenset[Path]]) -> float:
    """How far sets of keys differ: the mean variance of a key's presence."""
    counts = Counter(path for shape in shapes for path in shape)
    return sum((number / len(shapes)) * (1 - number / len(shapes)) for number in counts.values())


def _score_field(listed: list[str], count: int, path: Path) -> float:
    """What speaks for a field by its values alone: trade words, repetition, how the values are written."""
    distinct = Counter(listed)
    hints = [guess_kinds(value) for value in distinct]
    share = sum(map(bool, hints)) / len(distinct)
    kinds = len({entry[0].hint for entry in hints if entry})
    blanks = _share_of(listed, lambda value: " " in value)
    numeric = _share_of(listed, lambda value: value.isdecimal() or len(value) > 40)
    dots = _share_of(listed, lambda value: any(map(value.__contains__, "._/:-")) or value != value.lower())
    repeats = 1 - len(distinct) / len(listed) if len(listed) > 1 else 0.0
    score = 2.4 * share + 0.35 * min(kinds, 6) + 0.8 * repeats + 0.5 * len(listed) / count + 0.3 * dots
    score -= 1.6 * blanks + 2 * numeric + 0.4 * (len(path) - 1)
    score -= 1.5 * (_is_constant(distinct, count) or _is_name(listed, distinct, blanks, share))
    return score + 0.8 * any(word in _OPERATION_KEYS for word in words_of(path[-1]))


def _share_of(listed: list[str], fits: Callable[[str], bool]) -> float:
    return sum(map(fits, listed)) / len(listed)


def _is_constant(distinct: Counter[str], count: int) -> bool:
    return len(distinct) == 1 and count > 2


def _is_name(listed: list[str], distinct: Counter[str], blanks: float, share: float) -> bool:
    """Whether values never repeat: several words are what people call the steps, others an id."""
    if len(distinct) < len(listed):
        return False
    return (len(listed) >= 6 and blanks > 0.5) or (len(listed) >= 3 and not share)

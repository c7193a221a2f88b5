# Operations that stand in two fields ("table" and "append"): neither tells the settings alone, both together do.
"""Finding the second field of an operation."""

from __future__ import annotations

from zeitbuch.readers.dialects.paths import as_text
from zeitbuch.readers.dialects.reshape_rules import MergeRule

from .identity import is_id_word, is_name_word
from .operations import shape_gain, shape_of, short_values
from .steps import KEY, Found
from .survey import Path, dotted_path, json_path, value_at
from .vocabulary import guess_kinds

_LEAST_GAIN = 0.12  # of what both fields tell about the settings over what the first tells alone


def second_field(found: Found) -> Path:
    """The path of the field that an operation goes on in; empty when one field says it all."""
    items = [sight.raw for sample in found.samples for sight in sample.steps]
    columns = short_values(items)
    first = columns.get(found.operation, {})
    if len(found.operation) != 1 or found.operation == KEY or len(first) < len(items):
        return ()
    shapes = [shape_of(item) for item in items]
    alone = shape_gain(first, shapes, found.operation)
    best: tuple[float, Path] = (0.0, ())
    for path, column in columns.items():
        if path == found.operation or len(path) > 1 or len(column) < len(items) or not _may_be_part(column, first):
            continue
        if (is_id_word(path) or is_name_word(path)) and _is_alone_in_flows(found, path):
            continue  # flows drawn alike have steps of the same id and name
        both = {number: f"{first[number]}.{column[number]}" for number in first}
        told = shape_gain(both, shapes, found.operation) + 0.06 * (_known_kinds(both) - _known_kinds(first))
        best = max(best, (told - alone, path))
    return best[1] if best[0] >= _LEAST_GAIN else ()


def _is_alone_in_flows(found: Found, path: Path) -> bool:
    named = [[as_text(value_at(sight.raw, path)) for sight in sample.steps] for sample in found.samples]
    return all(len(set(values)) == len(values) for values in named)


def _may_be_part(column: dict[int, str], first: dict[int, str]) -> bool:
    """Whether values repeat as types do, without blanks, and split the operations further."""
    values = list(column.values())
    combined = {(first[number], value) for number, value in column.items()}
    further = len(combined) > len(set(first.values()))
    return further and len(combined) <= 0.75 * len(values) and not any(" " in value for value in values)


def _known_kinds(column: dict[int, str]) -> int:
    """How many different kinds the words of operations hint at."""
    return len({guesses[0].hint for value in set(column.values()) if (guesses := guess_kinds(value))})


def merged_operation(found: Found, second: Path) -> tuple[MergeRule, str]:
    """The rule that puts both fields together, and what it means, in words."""
    first = found.operation
    keys = {key for sample in found.samples for sight in sample.steps for key in sight.raw}
    into = "operation"
    while into in keys:
        into += "_whole"
    at = json_path((*found.flow_at, *found.steps_at))
    pattern = f"{{{dotted_path(first)}}}.{{{dotted_path(second)}}}"
    return MergeRule(
        at=at, pattern=pattern, into=into
    ), f"'{dotted_path(first)}' and '{dotted_path(second)}' together say what a step does"

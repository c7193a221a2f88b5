# Ends of links that are written into one text with an outlet or with each other ("sort:yes", "sort -> file"): found by the names of
# steps in them, whatever stands between.
"""Finding links that are written as text."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator
from typing import Any, NamedTuple

from zeitbuch.readers.dialects.reshape_rules import SplitRule

from .identity import Identity
from .join_index import own_leaves
from .steps import Found
from .survey import STAR, Path, json_path

_EACH = (";", "\n", ",", "|", " ")  # what may divide several links in one text
_LEAST_TEXTS = 2
_MOST_LETTERS = 400  # longer texts are prompts and code
_MARK = re.compile(r"[^\w\s]*")  # signs with which a text begins
_ARROW = re.compile(r"[^\w\s]*$")


class _Reading(NamedTuple):
    """A text as the steps it names and what stands around them: literals, one more than steps."""

    steps: int
    literals: tuple[str, ...]


def find_written_ends(found: Found, identity: Identity) -> Iterator[SplitRule]:
    """A rule for every place where texts name steps beside something else. Places are from the document."""
    tables = [{**identity.names[n], **identity.ids[n]} for n in range(len(found.samples))]
    names = [re.compile(_pattern_of(table)) for table in tables]
    numbers = all(name.isdecimal() for table in identity.ids for name in table)
    for path, listed in _texts_of(found).items():
        rule = _rule_for(path, listed, names)
        if rule is not None and not (numbers and _ends_in_step(rule)):  # many a text ends in a number
            yield rule


def _ends_in_step(rule: SplitRule) -> bool:
    return isinstance(rule.pattern, str) and rule.pattern.startswith("{outlet}")


def _texts_of(found: Found) -> dict[Path, list[tuple[int, str]]]:
    """The texts of flows by their place in the document, each with the number of its flow."""
    texts: dict[Path, list[tuple[int, str]]] = {}
    inside = (*found.flow_at, *found.steps_at)
    for number, sample in enumerate(found.samples):
        raws = {id(sight.raw) for sight in sample.steps}
        for path, value in _leaves_outside(sample.raw, (), raws):
            texts.setdefault((*found.flow_at, *path), []).append((number, value))
        for sight in (sight for sight in sample.steps if sight.owner is None):
            for path, leaf in own_leaves(sight, raws - {id(sight.raw)}):
                if type(leaf) is str and leaf.strip():
                    texts.setdefault((*inside, *path), []).append((number, leaf))
    return texts


def _pattern_of(names: dict[str, int]) -> str:
    """Any of these names, the longest first, as whole words."""
    longest = sorted((re.escape(name) for name in names if name), key=len, reverse=True)
    return r"(?<![\w])(?:" + "|".join(longest or ["(?!)"]) + r")(?![\w])"


def _leaves_outside(value: Any, path: Path, raws: set[int]) -> Iterator[tuple[Path, str]]:
    """The texts of a flow outside of its steps."""
    if id(value) in raws:
        return
    if type(value) is dict:
        for key, inner in value.items():
            yield from _leaves_outside(inner, (*path, key), raws)
    elif type(value) is list:
        for inner in value:
            yield from _leaves_outside(inner, (*path, STAR), raws)
    elif type(value) is str and value.strip():
        yield path, value


def _rule_for(path: Path, listed: list[tuple[int, str]], names: list[re.Pattern[str]]) -> SplitRule | None:
    """The rule for the texts at one place: a step with an outlet, or two steps; None when few of them are read by it."""
    if len(listed) < _LEAST_TEXTS or any(len(text) > _MOST_LETTERS for _, text in listed):
        return None
    tried = [("", [(number, text.strip()) for number, text in listed])]
    for mark in _EACH:
        if any(mark in text for _, text in listed):
            tried.append((mark, [(number, part) for number, text in listed for part in _parts_of(text, mark)]))
    rated = [_rule_with(path, each, [_read(part, names[number]) for number, part in parts]) for each, parts in tried]
    return max(rated, key=lambda entry: entry[0])[1]


def _rule_with(path: Path, each: str, read: list[_Reading]) -> tuple[float, SplitRule | None]:
    """The share of the texts that a rule reads, and the rule; 0 where too few are read."""
    counted = Counter(reading.steps for reading in read)
    steps = next((number for number in (2, 1) if counted[number] >= 0.8 * len(read)), 0)
    fitting = [reading for reading in read if reading.steps == steps]
    patterns = ["{step}"] if each and steps == 1 and _are_bare(fitting) else []
    patterns = patterns or (_patterns_with_outlet(fitting, steps) if steps else [])
    if not patterns:
        return 0.0, None
    rule = SplitRule(at=json_path(path), pattern=patterns[0] if len(patterns) == 1 else patterns, each=each)
    return counted[steps] / len(read), rule


def _are_bare(read: list[_Reading]) -> bool:
    """Whether nothing but the names of steps stands in the texts."""
    return not any(part.strip() for reading in read for part in reading.literals)


def _parts_of(text: str, each: str) -> list[str]:
    return [part.strip() for part in (text.split(each) if each else [text]) if part.strip()]


def _read(text: str, names: re.Pattern[str]) -> _Reading:
    hits = list(names.finditer(text))
    ends = [0, *[hit.end() for hit in hits]]
    starts = [*[hit.start() for hit in hits], len(text)]
    return _Reading(len(hits), tuple(text[a:b] for a, b in zip(ends, starts, strict=True)))


def _patterns_with_outlet(read: list[_Reading], steps: int) -> list[str]:
    """The patterns for texts of one or two steps: what is always the same between them is literal, what differs an outlet. None
    where none fits: a prefix, say, is nothing that the reader of ends knows."""
    before = [reading.literals[0].strip() for reading in read]
    between = [reading.literals[1].strip() for reading in read]
    if steps == 1 and all(before) and not any(between):
        return _outlet_before(before)
    if any(before):
        return []
    if steps == 1:
        return _outlet_behind(between)
    behind = [reading.literals[2].strip() for reading in read]
    if between[0] and len(set(between)) == 1:
        mark = _common_mark(list(filter(None, behind)))
        return [f"{{from}} {_quoted(between[0])} {{to}}" + (f"[{_quoted(mark)}{{outlet}}]" if mark else "")]
    return [] if any(behind) else _outlet_between(between)


def _outlet_before(before: list[str]) -> list[str]:
    """'yes=a': an outlet before a step."""
    mark = _quoted(_common_mark([text[::-1] for text in before])[::-1])
    return [f"{{outlet}}{mark}{{step}}"] if mark else []


def _outlet_behind(behind: list[str]) -> list[str]:
    """'a:yes' and 'a': an outlet behind a step."""
    told = list(filter(None, behind))
    mark = _quoted(_common_mark(told))
    if not mark or mark == ".":  # a step and a field of what it gives: a condition, say
        return []
    return [f"{{step}}{mark}{{outlet}}" if len(told) == len(behind) else f"{{step}}[{mark}{{outlet}}]"]


def _common_mark(texts: list[str]) -> str:
    """The sign with which all texts begin, before a word of their own; empty when they differ."""
    marks = {_MARK.match(text)[0] for text in texts}  # type: ignore[index]
    mark = marks.pop() if len(marks) == 1 else ""
    return "" if set(mark) & set("{}") else mark


def _outlet_between(between: list[str]) -> list[str]:
    """'a:yes -> b', 'a [yes] -> b' and 'a -> b': an outlet between two steps, with the signs around it and the arrow."""
    arrows = {_ARROW.search(text)[0] for text in between}  # type: ignore[index]
    arrow = arrows.pop() if len(arrows) == 1 else ""
    heads = [text[: -len(arrow)].strip() for text in between] if arrow else []
    told = list(filter(None, heads))
    mark = _quoted(_common_mark(told))
    if not mark:
        return []
    end = _quoted(_common_mark([text[::-1] for text in told]))
    whole = (
        f"{{from}} {mark}{{outlet}}{end} {_quoted(arrow)} {{to}}"
        if end
        else f"{{from}}{mark}{{outlet}} {_quoted(arrow)} {{to}}"
    )
    return [whole] if len(told) == len(heads) else [whole, f"{{from}} {_quoted(arrow)} {{to}}"]


def _quoted(sign: str) -> str:
    """A sign as a pattern says it."""
    return sign.replace("[", "[[").replace("]", "]]")

# How the steps hang together: by records, an object from step to targets, pointers or predecessors in the steps, or
# simply by their order. Every way is tried; the one that joins most steps wins, with votes for its direction.
"""Finding the links of an unknown export."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Iterator
from itertools import islice
from typing import Any, Literal

from zeitbuch.readers.dialects.paths import as_text
from zeitbuch.readers.infer.survey import Group

from .identity import Identity
from .join_index import Join, JoinIndex, Joins
from .kinds import ERROR_WORDS, HELPER_WORDS
from .link_words import AFTER_WORDS, BEFORE_WORDS, FROM_WORDS, TO_WORDS, path_has_word
from .pointers import find_pointers
from .steps import Found
from .survey import STAR, Item, Path, find_groups, find_leaves, is_scalar, value_at, without_path
from .vocabulary import word_fits, words_of


def find_joins(found: Found, identity: Identity) -> Joins:
    """The most likely way in which the steps hang together."""
    index = JoinIndex(found, identity)
    ways = [*_find_records(found, index), *_find_adjacencies(found, index), *find_pointers(found, identity, index)]
    nested = any(sight.hold for sample in found.samples for sight in sample.steps)
    needed = max(1.0, (0.6 if nested and index.numeric else 0.3) * (index.total - len(found.samples)))
    good = [joins for joins in ways if len(joins.pairs) >= needed or (len(joins.pairs) >= 1 and index.total <= 4)]
    if not good:
        return Joins(
            "order", sure=0.6 if any(sight.hold for sample in found.samples for sight in sample.steps) else 0.4
        )
    order = {"records": 0, "adjacency": 1, "predecessors": 2, "pointers": 3, "order": 4}
    best = max(good, key=lambda w: (w.sure + min(1.0, len(w.pairs) / max(1, index.total)), -order[w.way]))
    votes = index.direction_votes([*best.pairs]) / max(1, len(best.pairs))
    words = (
        path_has_word(best.source, FROM_WORDS)
        + path_has_word(best.target, TO_WORDS)
        + path_has_word(best.at, AFTER_WORDS | BEFORE_WORDS)
    )
    best = best._replace(direction=min(1.0, max(0.0, votes / 2) + 0.5 * bool(words)))
    return _with_other_lists(best, ways) if best.way in ("records", "adjacency") else best


def _with_other_lists(best: Joins, ways: list[Joins]) -> Joins:
    """With the other lists that link steps in the same way: every list that names steps is claimed."""
    told = {(join.sample, join.source, join.target) for join in best.pairs}
    also: list[Joins] = []
    for other in sorted(ways, key=lambda joins: -len(joins.pairs)):
        new = {(join.sample, join.source, join.target) for join in other.pairs}
        apart = other.at[: len(best.at)] != best.at and best.at[: len(other.at)] != other.at
        if other.way == best.way and apart and len(new - told) > 0.5 * len(new):
            also.append(other)
            told |= new
    pairs = (*best.pairs, *[join for other in also for join in other.pairs])
    return best._replace(also=tuple(also), pairs=pairs)


def _without_steps(found: Found, raw: dict[str, Any]) -> dict[str, Any]:
    """The flow without its steps."""
    left = without_path(raw, found.steps_at[:-1])
    return dict(left) if type(left) is dict else {}


def _with_indexed_lists(value: Any, inside_list: bool = False) -> Any:
    """A copy in which pairs within lists are objects with the keys 0 and 1: that is how a dialect names the ends in them."""
    if type(value) is dict:
        return {key: _with_indexed_lists(item, inside_list) for key, item in value.items()}
    if type(value) is not list:
        return value
    if inside_list and 2 <= len(value) <= 4 and all(map(is_scalar, value)):
        return {str(place): item for place, item in enumerate(value)}
    return [_with_indexed_lists(item, True) for item in value]


def _find_records(found: Found, index: JoinIndex) -> Iterator[Joins]:
    raws = [_with_indexed_lists(_without_steps(found, sample.raw)) for sample in found.samples]
    for group in find_groups(raws):
        columns: dict[Path, list[tuple[int, str]]] = {}
        for item in group.items:
            for path, value in find_leaves(item.value, depth=3):
                if is_scalar(value) and STAR not in path:
                    columns.setdefault(path, []).append((item.document, as_text(value)))
        by_id = _joins_of_records(index, group, columns, index.ids, "id")
        joins = by_id if by_id is not None else _joins_of_records(index, group, columns, index.names, "name")
        if joins is not None:
            yield joins


def _joins_of_records(
    index: JoinIndex,
    group: Group,
    columns: dict[Path, list[tuple[int, str]]],
    tables: list[dict[str, int]],
    by: Literal["id", "name"],
) -> Joins | None:
    """Records that name two steps each, by the names in ``tables``; None when no two columns do."""
    count = len(group.items)
    share = {
        path: sum(value in tables[document] for document, value in listed) / count
        for path, listed in columns.items()
        if len(listed) >= 0.8 * count
    }
    ends = sorted((path for path, part in share.items() if part >= 0.45), key=lambda p: (-share[p], p))[:2]
    if len(ends) < 2 or share[ends[0]] < 0.6:
        return None
    directed = _directed_ends(index, group, tables, ends[0], ends[1])
    if directed is None:
        return None
    first, second = directed
    rest = {
        path: [value for _, value in listed]
        for path, listed in columns.items()
        if path not in directed and not _numbers_links(listed, count) and not _is_of_target(path, first, second)
    }
    rated, label, condition = _about_columns(rest, count)
    outlets = _outlets_in_turn(group.items, first, rated)
    pairs = [
        Join(
            item.document,
            _first_text(item.value, [first]),
            _first_text(item.value, [second]),
            _first_text(item.value, outlets),
        )
        for item in group.items
    ]
    sure = 0.55 + 0.4 * (share[ends[0]] + share[ends[1]]) / 2 if by == "id" else 0.5 + 0.4 * share[ends[1]]
    return Joins("records", group.path, first, second, outlets, label, condition, by, tuple(pairs), sure)


def _first_text(record: Any, paths: Iterable[Path]) -> str:
    return next((text for path in paths if (text := as_text(value_at(record, path)))), "")


def _directed_ends(
    index: JoinIndex, group: Group, tables: list[dict[str, int]], first: Path, second: Path
) -> tuple[Path, Path] | None:
    """Both ends, the source first; None when the records name no steps or mostly a step with itself."""
    pairs = [
        Join(item.document, as_text(value_at(item.value, first)), as_text(value_at(item.value, second)), "")
        for item in group.items
    ]
    known = [join for join in pairs if join.source in tables[join.sample] or join.target in tables[join.sample]]
    if not known or sum(join.source != join.target for join in known) < 0.7 * len(known):
        return None
    votes = index.direction_votes(known) + 2 * len(known) * (
        path_has_word(first, FROM_WORDS)
        + path_has_word(second, TO_WORDS)
        - path_has_word(first, TO_WORDS)
        - path_has_word(second, FROM_WORDS)
    )
    return (second, first) if votes < 0 else (first, second)


def _is_of_target(path: Path, source: Path, target: Path) -> bool:
    """Whether a field stands in the object of the target: by what a step is entered is no way out of the one before."""
    apart = len(target) > 1 and source[:-1] != target[:-1]
    return apart and path[: len(target) - 1] == target[:-1]


_MOST_FILLED = 0.8  # of the links have a field that says what each is
_MOST_OUTLETS = 4  # of a flow of which each link has another


def _numbers_links(listed: list[tuple[int, str]], count: int) -> bool:
    """Whether a column says another thing of every link of a flow, so that it names the links: what steps give on comes again."""
    by_document: dict[int, list[str]] = {}
    for document, value in listed:
        by_document.setdefault(document, []).append(value)
    alike = all(len(set(values)) == len(values) for values in by_document.values())
    return alike and len(listed) == count and any(len(values) > _MOST_OUTLETS for values in by_document.values())


def _about_columns(columns: dict[Path, list[str]], count: int) -> tuple[list[tuple[float, Path]], Path, Path]:
    """What may be outlets with how much speaks for each, label and condition among the other columns of link records."""
    outlets: list[tuple[float, Path]] = []
    label: tuple[float, Path] = (0.0, ())
    condition: tuple[float, Path] = (0.0, ())
    for path, values in columns.items():
        filled = [value for value in values if value]
        if not filled:
            continue
        distinct, operators, blanks, unique = _traits_of_texts(count, filled)
        if operators > 0.4:
            condition = max(condition, (operators, path))
        elif blanks > 0.4:
            label = max(label, (blanks, path))
        elif not unique and not all(value.isdecimal() and len(value) > 3 for value in filled):
            outlets.append((1.0 + (distinct > 1) - 0.2 * len(path), path))
    return sorted(outlets, reverse=True), label[1], condition[1]


def _outlets_in_turn(items: list[Item], source: Path, rated: list[tuple[float, Path]]) -> tuple[Path, ...]:
    """The field for the way out that tells most: the one that parts the links of a step. Where only some links have it, as those of decisions do,
    a sort of all links beside it may say which of them are taken after failures, or lend something."""
    ordered = sorted(rated, key=lambda entry: (-_parted_by(items, source, entry[1]), -entry[0]))
    paths = [path for _, path in ordered]
    filled = [_first_text(item.value, paths[:1]) for item in items]
    if not paths or sum(map(bool, filled)) >= _MOST_FILLED * len(items):
        return tuple(paths[:1])
    sorts = (path for path in paths[1:] if any(_says_role(_first_text(item.value, [path])) for item in items))
    return (paths[0], *islice(sorts, 1))


def _parted_by(items: list[Item], source: Path, path: Path) -> float:
    """The share of the steps with several links, some of which have a field, of whose links each has another value."""
    said: dict[tuple[int, str, str], list[str]] = {}
    for item in items:
        said.setdefault((item.document, item.parent, _first_text(item.value, [source])), []).append(
            _first_text(item.value, [path])
        )
    several = [values for values in said.values() if len(values) > 1 and any(values)]
    return sum(len(set(values)) == len(values) for values in several) / max(1, len(several))


def _says_role(value: str) -> bool:
    return word_fits(words_of(value), f"{ERROR_WORDS} {HELPER_WORDS}")


def _traits_of_texts(count: int, filled: list[str]) -> tuple[int, float, float, bool]:
    distinct = len(set(filled))
    operators = sum(
        any(name in value for name in ("=", "<", ">", "{{", "${", " and ", " or ", "()")) for value in filled
    ) / len(filled)
    blanks = sum(" " in value for value in filled) / len(filled)
    unique = distinct == len(filled) == count and count > 2
    return distinct, operators, blanks, unique


def _find_adjacencies(found: Found, index: JoinIndex) -> Iterator[Joins]:
    """Objects whose keys are steps and whose inner texts are steps."""
    by_path: dict[Path, list[tuple[int, dict[str, Any]]]] = {}
    for number, sample in enumerate(found.samples):
        for path, table in _tables_of_steps(_without_steps(found, sample.raw), (), index.either[number]):
            by_path.setdefault(path, []).append((number, table))
    for path, tables in by_path.items():
        pairs: list[Join] = []
        inner: Counter[Path] = Counter()
        misses = 0
        for number, table in tables:
            for key, where, target in _targets_in_table(table):
                if target in index.either[number]:
                    inner[_path_tail(where)] += 1
                    pairs.append(Join(number, key, target, _outlet_of(where)))
                else:
                    misses += 1
        if pairs:
            tail, count = inner.most_common(1)[0]
            sure = 0.6 + 0.35 * count / len(pairs) - 0.1 * (misses > 2 * len(pairs))
            yield Joins("adjacency", path, target=tail, pairs=tuple(pairs), sure=sure)


def _tables_of_steps(value: Any, path: Path, steps: Collection[str]) -> Iterator[tuple[Path, dict[str, Any]]]:
    """Objects of which at least half the keys are names of steps, with their paths."""
    if type(value) is not dict or len(path) > 8:
        return
    if path and value and sum(key in steps for key in value) >= 0.5 * len(value):
        yield path, value
        return
    for key, item in value.items():
        yield from _tables_of_steps(item, (*path, key), steps)


def _targets_in_table(table: dict[str, Any]) -> Iterator[tuple[str, Path, str]]:
    """(key, path below it, text) of every text of an object."""
    for key, value in table.items():
        for where, leaf in find_leaves(value, depth=6):
            if is_scalar(leaf):
                yield key, where, as_text(leaf)


def _path_tail(where: Path) -> Path:
    """The part of a path behind the last list place, when a target is an object."""
    stars = [index for index, part in enumerate(where) if part == STAR]
    return where[stars[-1] + 1 :] if stars else ()


def _outlet_of(where: Path) -> str:
    stars = [index for index, part in enumerate(where) if part == STAR]
    return "/".join(where[: stars[0]] if stars else where)

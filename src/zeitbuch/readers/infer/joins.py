# How the steps hang together: by records, an object from step to targets, pointers or predecessors in the steps, or
# simply by their order. Every way is tried; the one that joins most steps wins, with votes for its direction.
"""Finding the links of an unknown export."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterator
from typing import Any, Literal, NamedTuple

from zeitbuch.readers.dialects.paths import as_text
from zeitbuch.readers.infer.survey import Group

from .identity import Identity
from .join_index import Join, JoinIndex, own_leaves
from .steps import Found, Sight
from .survey import STAR, Path, find_groups, find_leaves, is_scalar, value_at
from .vocabulary import guess_kinds, words_of

JoinForm = Literal["records", "adjacency", "pointers", "predecessors", "order"]
_FROM = frozenset(
    "from source src start origin out parent begin prev previous tail von quelle ausgang de desde origen fra kilde van bron da origem "
    "depuis origine left a upstream sender".split()
)
_TO = frozenset(
    "to target dest destination in next end head child nach ziel zu vers cible a hacia destino til mal naar doel per para destinazione "
    "right b downstream receiver goto then".split()
)
_BEFORE = frozenset(
    "after needs depends require requires requiert wait waits previous prev predecessor predecessors upstream before follows "
    "following nach vorganger vorgaenger voraus benotigt abhangig apres depend despues tras etter na dopo depois input inputs from".split()
)
_AFTER = frozenset(
    "next then goto go to follow on successor successors downstream weiter danach nachste suivant siguiente neste volgende prossimo seguinte leads".split()
)


class Joins(NamedTuple):
    """How steps are joined. Paths are from the flow (records, adjacency) or from the step (pointers, predecessors)."""

    way: JoinForm
    at: Path = ()
    source: Path = ()
    target: Path = ()
    outlet: Path = ()
    label: Path = ()
    condition: Path = ()
    by: Literal["id", "name"] = "id"
    pairs: tuple[Join, ...] = ()
    sure: float = 0.0
    more: tuple[Path, ...] = ()  # further pointers within the steps
    direction: float = 0.0  # how clearly anything tells which end comes first, 0..1
    also: tuple[Joins, ...] = ()  # further lists of links, or objects from step to targets


def find_joins(found: Found, identity: Identity) -> Joins:
    """The most likely way in which the steps hang together."""
    index = JoinIndex(found, identity)
    ways = [*_find_records(found, index), *_find_adjacencies(found, index), *_find_pointers(found, identity, index)]
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
    words = _path_word(best.source, _FROM) + _path_word(best.target, _TO) + _path_word(best.at, _AFTER | _BEFORE)
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
    left = _without_path(raw, found.steps_at[:-1])
    return dict(left) if type(left) is dict else {}


def _without_path(value: Any, path: Path) -> Any:
    if not path:
        return None
    if type(value) is not dict or path[0] not in value:
        return value
    return {key: (_without_path(item, path[1:]) if key == path[0] else item) for key, item in value.items()}


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
    rest = {path: [value for _, value in listed] for path, listed in columns.items() if path not in directed}
    outlet, label, condition = _about_columns(rest, count)
    pairs = [
        Join(
            item.document,
            as_text(value_at(item.value, first)),
            as_text(value_at(item.value, second)),
            as_text(value_at(item.value, outlet)) if outlet else "",
        )
        for item in group.items
    ]
    sure = 0.55 + 0.4 * (share[ends[0]] + share[ends[1]]) / 2 if by == "id" else 0.5 + 0.4 * share[ends[1]]
    return Joins("records", group.path, first, second, outlet, label, condition, by, tuple(pairs), sure)


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
        _path_word(first, _FROM) + _path_word(second, _TO) - _path_word(first, _TO) - _path_word(second, _FROM)
    )
    return (second, first) if votes < 0 else (first, second)


def _path_word(path: Path, listed: frozenset[str]) -> int:
    return any(word in listed for part in path for word in words_of(part))


def _about_columns(columns: dict[Path, list[str]], count: int) -> tuple[Path, Path, Path]:
    """Outlet, label and condition among the other columns of link records."""
    outlet: tuple[float, Path] = (0.0, ())
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
            outlet = max(outlet, (1.0 + (distinct > 1) - 0.2 * len(path), path))
    return outlet[1], label[1], condition[1]


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


class _Column(NamedTuple):
    hits: list[tuple[int, str, str, str]]  # sample, own id, named step, outlet
    texts: int


def _find_pointers(found: Found, identity: Identity, index: JoinIndex) -> Iterator[Joins]:
    """Paths within steps that name other steps, and objects within steps whose keys are steps."""
    from .identity import value_of

    values: dict[Path, _Column] = {}
    keys: dict[Path, list[tuple[int, str, str, str]]] = {}
    key_texts: Counter[Path] = Counter()
    for number, sample in enumerate(found.samples):
        table = index.either[number]
        inside = {id(sight.raw) for sight in sample.steps}
        for sight in sample.steps:
            own = value_of(sight, identity.id)
            mine = inside - {id(sight.raw)}
            _count_hits(found, identity, sight, mine, values, table, own, number)
            _add_keyed(sight, mine, key_texts, table, own, keys, number)
    yield from _by_keys(keys, key_texts, index)
    good = {pair: column for pair, column in values.items() if len(column.hits) >= 0.7 * column.texts}
    yield from _by_values(good, index)


def _count_hits(
    found: Found,
    identity: Identity,
    sight: Sight,
    mine: set[int],
    values: dict[Path, _Column],
    table: dict[str, int],
    own: str,
    number: int,
) -> None:
    for path, leaf in own_leaves(sight, mine):
        if path in (identity.id, identity.name, found.operation) or not is_scalar(leaf) or leaf == "":
            continue
        column = values.setdefault(path, _Column([], 0))
        hit = as_text(leaf) in table and as_text(leaf) != own
        if hit:
            column.hits.append((number, own, as_text(leaf), ""))
        values[path] = column._replace(texts=column.texts + 1)


def _add_keyed(
    sight: Sight,
    mine: set[int],
    key_texts: Counter[Path],
    table: dict[str, int],
    own: str,
    keys: dict[Path, list[tuple[int, str, str, str]]],
    number: int,
) -> None:
    for path, table_keys, outcomes in _keyed_objects(sight.raw, mine):
        key_texts[path] += len(table_keys)
        for key, name in zip(table_keys, outcomes, strict=True):
            if key in table and key != own:
                keys.setdefault(path, []).append((number, own, key, name))


def _keyed_objects(raw: dict[str, Any], inside: set[int]) -> Iterator[tuple[Path, list[str], list[str]]]:
    stack: list[tuple[Path, Any]] = [((key,), value) for key, value in raw.items()]
    while stack:
        path, value = stack.pop()
        if id(value) in inside or len(path) > 4:
            continue
        if type(value) is dict and value:
            outcomes = [
                item if type(item) is str else ",".join(map(as_text, item)) if type(item) is list else ""
                for item in value.values()
            ]
            yield path, list(value), outcomes
            stack += [((*path, key), item) for key, item in value.items() if type(item) is dict]


def _by_keys(
    keys: dict[Path, list[tuple[int, str, str, str]]], texts: Counter[Path], index: JoinIndex
) -> Iterator[Joins]:
    for path, hits in keys.items():
        if len(hits) >= 0.7 * texts[path] and not (index.numeric and len(hits) < 3):
            pairs = tuple(Join(number, named, own, outlet) for number, own, named, outlet in hits)
            sure = 0.9 if index.direction_votes(list(pairs)) >= 0 or _path_word(path, _BEFORE) else 0.6
            yield Joins("predecessors", path, pairs=pairs, sure=sure)


def _by_values(good: dict[Path, _Column], index: JoinIndex) -> Iterator[Joins]:
    """Pointers forward, or lists of predecessors. Paths under one object are its outlets."""
    if not good:
        return
    groups_: dict[Path, list[Path]] = {}
    for path in good:
        groups_.setdefault(_path_stem(path, good), []).append(path)
    forward: list[tuple[Path, list[Join]]] = []
    backward: list[tuple[Path, list[Join]]] = []
    for stem, paths in groups_.items():
        _sort_pointers(good, index, paths, stem, forward, backward)
    forward.sort(key=lambda f: -len(f[1]))
    backward.sort(key=lambda f: -len(f[1]))
    if forward:
        stem, _ = forward[0]
        pairs = tuple(join for _, listed in forward for join in listed)
        yield Joins("pointers", stem, pairs=pairs, sure=0.85, more=tuple(span for span, _ in forward[1:]))
    if backward:
        stem, listed = backward[0]
        pairs = tuple(Join(join.sample, join.target, join.source, join.outlet) for join in listed)
        yield Joins("predecessors", stem, pairs=pairs, sure=0.8)


def _sort_pointers(
    good: dict[Path, _Column],
    index: JoinIndex,
    paths: list[Path],
    stem: Path,
    forward: list[tuple[Path, list[Join]]],
    backward: list[tuple[Path, list[Join]]],
) -> None:
    listed = [
        Join(number, own, named, "/".join(part for part in path[len(stem) :] if part != STAR))
        for path in paths
        for number, own, named, _ in good[path].hits
    ]
    containers = Counter((join.sample, join.target) for join in listed)
    targets = [guess_kinds(index.operations[join.sample][index.either[join.sample][join.target]]) for join in listed]
    scopes = sum(bool(entry) and entry[0].kind in ("loop", "parallel", "guard", "group") for entry in targets)
    if (
        len(listed) >= 2
        and scopes >= 0.8 * len(listed)
        and len(paths) == 1
        and STAR not in stem
        and max(containers.values()) > 1
    ):
        return  # a scope named by the steps inside it, not a pointer
    if index.numeric and not index.are_meant(listed, sum(good[pair].texts for pair in paths)):
        return  # small numbers that happen to be ids of steps
    votes = index.direction_votes(listed)
    words = _path_word(stem, _AFTER) - _path_word(stem, _BEFORE)
    votes += 2 * len(listed) * words
    (forward if votes >= 0 else backward).append((stem, listed))


def _path_stem(path: Path, good: dict[Path, _Column]) -> Path:
    """The object whose entries are outlets, when the neighbours of a path are pointers too; else the path."""
    bare = path
    while bare and bare[-1] == STAR:
        bare = bare[:-1]
    if len(bare) >= 2 and bare[-2] != STAR:
        siblings = {pair[: len(bare)] for pair in good if pair[: len(bare) - 1] == bare[:-1]}
        if len(siblings) >= 2:
            return bare[:-1]
    return bare

# Links within steps: fields that name the steps to come or those before, and objects whose keys do.
"""Finding pointers and predecessors within steps."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from typing import Any, NamedTuple

from zeitbuch.readers.dialects.paths import as_text

from .identity import Identity
from .join_index import Join, JoinIndex, Joins, own_leaves
from .kinds import ERROR_WORDS
from .link_words import AFTER_WORDS, BEFORE_WORDS, path_has_word
from .loop_ways import BODY_WORDS
from .steps import Found, Sight
from .survey import STAR, STAR_KEY, Path, is_scalar, lies_at
from .vocabulary import guess_kinds, word_fits, words_of

_FEW = 2
_WIRED = 3  # keys that lead to the step in a wire: inputs.text.node


class _Column(NamedTuple):
    hits: list[tuple[int, str, str, str]]  # sample, own id, named step, outlet
    texts: int


def find_pointers(found: Found, identity: Identity, index: JoinIndex) -> Iterator[Joins]:
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
            sure = 0.9 if index.direction_votes(list(pairs)) >= 0 or path_has_word(path, BEFORE_WORDS) else 0.6
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
        more = tuple(span for span, _ in forward[1:])
        yield Joins("pointers", stem, pairs=pairs, sure=0.85, more=more, missed=_missed_at(good, (stem, *more)))
    if backward:
        stem, listed = backward[0]
        pairs = tuple(Join(join.sample, join.target, join.source, join.outlet) for join in listed)
        yield Joins("predecessors", stem, pairs=pairs, sure=0.8, missed=_missed_at(good, (stem,)))


def _missed_at(good: dict[Path, _Column], stems: tuple[Path, ...]) -> int:
    """How many texts at these places name no step."""
    return sum(
        column.texts - len(column.hits) for path, column in good.items() if any(lies_at(path, stem) for stem in stems)
    )


def _sort_pointers(
    good: dict[Path, _Column],
    index: JoinIndex,
    paths: list[Path],
    stem: Path,
    forward: list[tuple[Path, list[Join]]],
    backward: list[tuple[Path, list[Join]]],
) -> None:
    listed = [
        Join(number, own, named, "/".join(_plain_key(part) for part in path[len(stem) :] if part != STAR))
        for path in paths
        for number, own, named, _ in good[path].hits
    ]
    if len(paths) == 1 and STAR not in stem and _name_scopes(listed, index):
        return  # a scope named by the steps inside it, not a pointer
    if index.numeric and not (
        _is_named(stem, listed) and index.are_meant(listed, sum(good[pair].texts for pair in paths))
    ):
        return  # small numbers that happen to be ids of steps
    votes = index.direction_votes(listed)
    words = path_has_word(stem, AFTER_WORDS) - path_has_word(stem, BEFORE_WORDS)
    votes += 2 * len(listed) * words
    (forward if votes >= 0 else backward).append((stem, listed))


def _plain_key(part: str) -> str:
    return STAR if part == STAR_KEY else part


def _name_scopes(listed: list[Join], index: JoinIndex) -> bool:
    """Whether most of what is named are scopes, and one of them several times."""
    containers = Counter((join.sample, join.target) for join in listed)
    targets = [guess_kinds(index.operations[join.sample][index.either[join.sample][join.target]]) for join in listed]
    scopes = sum(bool(entry) and entry[0].kind in ("loop", "parallel", "guard", "group") for entry in targets)
    return len(listed) >= 2 and scopes >= 0.8 * len(listed) and max(containers.values()) > 1


def _is_named(stem: Path, listed: list[Join]) -> bool:
    """Whether numbers may be steps: of one or two anything might be said, unless their key says that they lead somewhere."""
    last = words_of(stem[-1])
    worded = any(path_has_word(stem, words) for words in (AFTER_WORDS, BEFORE_WORDS))
    worded = worded or word_fits(last, ERROR_WORDS) or word_fits(last, BODY_WORDS)
    several = len(listed) > _FEW and len({join.target for join in listed}) > 1  # one number everywhere is a setting
    return several or worded


def _inputs_beside(path: Path, good: dict[Path, _Column]) -> set[str]:
    """The inputs of steps that are wired as this one is: under the same key, by the same field."""
    return {other[1] for other in good if len(other) == _WIRED and (other[0], other[2]) == (path[0], path[2])}


def _path_stem(path: Path, good: dict[Path, _Column]) -> Path:
    """The object whose entries are outlets, when the neighbours of a path are pointers too; else the path."""
    bare = path
    while bare and bare[-1] == STAR:
        bare = bare[:-1]
    if len(bare) == _WIRED and STAR not in bare and len(_inputs_beside(bare, good)) > 1:
        return bare[0], STAR, bare[-1]
    if len(bare) >= 2 and bare[-2] != STAR:
        siblings = {pair[: len(bare)] for pair in good if pair[: len(bare) - 1] == bare[:-1]}
        if len(siblings) >= 2:
            return bare[:-1]
    return bare

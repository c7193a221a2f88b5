# Which place that repeats holds the steps, which field says what a step does, what is one flow, and where steps stand
# inside steps. Judged by trade words, by how often the names of the items occur elsewhere, and by how much of the
# document the items hold.
"""Finding the steps of an unknown export."""

from __future__ import annotations

from collections import Counter
from typing import Any, NamedTuple

from zeitbuch.readers.dialects.paths import as_text

from .clocks import CRON
from .flow_parts import NAMING, are_named_alike, are_parts, refer_across
from .operations import is_tokenlike, operation_scores
from .survey import STAR, Group, Item, Path, count_leaves, find_groups, find_leaves, is_scalar, value_at, values_at
from .vocabulary import guess_kinds, words_of

KEY: Path = ("@key",)
_NEARLY_WHOLE, _MOST_OF = 0.7, 0.55
_ABOUT = 0.5  # points of the score
_SEVERAL = 2  # documents beside the first
_MARKS = 1  # beside a flow that is wrapped
_OF_FLOWS = frozenset(
    "id key ref uid uuid code slug nr number name title label state status active enabled on version revision rev owner folder path changed created".split()
)
_NEAR = 0.5  # of the best score


class Sight(NamedTuple):
    """A step as it stands in the export. ``hold`` is the generalised path within the step ``owner`` that holds it."""

    raw: dict[str, Any]
    key: str
    owner: int | None
    hold: Path
    branch: str


class Sample(NamedTuple):
    """One flow of the documents with the steps found in it, in the order of reading."""

    document: int
    pointer: str
    raw: dict[str, Any]
    steps: list[Sight]


class Found(NamedTuple):
    """Where flows and steps are. ``flow_at`` and ``steps_at`` (from the flow) are generalised paths."""

    flow_at: Path
    flow_keyed: bool
    steps_at: Path
    keyed: bool
    operation: Path
    score: float
    samples: list[Sample]


def _name_values(group: Group) -> set[str]:
    """Values that may name the items: scalars that occur once, and keys."""
    names: set[str] = set()
    columns: dict[str, list[str]] = {}
    for item in group.items[:400]:
        for key, value in item.value.items():
            if is_scalar(value) and value != "":
                columns.setdefault(key, []).append(as_text(value))
        if group.keyed:
            names.add(item.key)
    for listed in columns.values():
        if len(set(listed)) >= 0.7 * len(listed) and len(listed) >= 0.6 * min(len(group.items), 400):
            names.update(listed)
    return names


class _Candidate(NamedTuple):
    """A place that may hold the steps, the share of all values that stands in it, and whether its items hold records of their own."""

    score: float
    group: Group
    operation: Path
    share: float
    holding: bool


def _rate_group(group: Group, total: int, everything: Counter[str]) -> _Candidate | None:
    operations = operation_scores(group)
    if not operations:
        return None
    best, path = operations[0]
    share, referred, dicts, varied = _traits_of_group(group, total, everything)
    score = best + 1.6 * share + 1.2 * referred + 0.5 * dicts + 0.8 * varied + 0.1 * min(len(group.items), 10)
    return _Candidate(score - 0.35 * group.path.count(STAR), group, path, share, dicts >= 0.5)


def _traits_of_group(group: Group, total: int, everything: Counter[str]) -> tuple[float, float, float, float]:
    held = sum(count_leaves(item.value) for item in group.items[:400]) * max(1.0, len(group.items) / 400)
    share = min(1.0, held / max(1, total))
    names = _name_values(group)
    referred = sum(everything[name] > 1 for name in names) / len(names) if names else 0.0
    dicts = sum(any(type(value) is dict for value in item.value.values()) for item in group.items[:400]) / min(
        len(group.items), 400
    )
    shapes = len({tuple(sorted(item.value)) for item in group.items[:400]})
    inner = {tuple(sorted(value)) for item in group.items[:400] for value in item.value.values() if type(value) is dict}
    varied = min(1.0, (shapes + len(inner) - 1) / 4)
    return share, referred, dicts, varied


def _find_candidates(documents: list[Any]) -> list[_Candidate]:
    total = sum(count_leaves(document) for document in documents)
    everything: Counter[str] = Counter()
    for document in documents:
        everything.update(as_text(value) for _, value in find_leaves(document, depth=40) if is_scalar(value))
        everything.update(_keys_of(document))
    rated = [one for group in find_groups(documents) if (one := _rate_group(group, total, everything)) is not None]
    rated.sort(key=lambda one: -one.score)
    different = [one for one in rated if not _is_everywhere(one.group)]
    # What all documents have alike belongs to the builder, not to a flow, unless nothing else comes near it: flows made from one
    # pattern differ in their variables only.
    return different if different and _comes_near(different[0], rated[0]) else rated


def _comes_near(one: _Candidate, best: _Candidate) -> bool:
    """Whether a place may hold the steps as well as the best; one record a document is what a flow begins with rather."""
    documents = len({item.document for item in one.group.items})
    alone = len(one.group.items) == documents < len(best.group.items)
    return one.score >= _NEAR * best.score and not alone


def _is_everywhere(group: Group) -> bool:
    """Whether several documents have the very same items at a place."""
    by_document: dict[int, list[Any]] = {}
    for item in group.items:
        by_document.setdefault(item.document, []).append(item.value)
    first, *others = by_document.values()
    return len(others) >= _SEVERAL and all(other == first for other in others)


def _keys_of(value: Any) -> list[str]:
    found: list[str] = []
    stack = [value]
    while stack:
        item = stack.pop()
        if type(item) is dict:
            found += item
            stack += item.values()
        elif type(item) is list:
            stack += item
    return found


def find_steps(documents: list[Any]) -> Found | None:
    """The most likely steps of the documents, or None when nothing looks like steps."""
    ranked = _find_candidates(documents)
    if not ranked:
        return None
    score, group, operation, *_ = _behind_flows(ranked)
    # A place inside the steps themselves repeats like steps too: the outermost of the same kind is meant.
    for other_score, other, other_operation, *_ in ranked[1:]:
        shorter = other.path[:-1]
        if other_operation == operation and group.path[: len(shorter)] == shorter and len(other.path) < len(group.path):
            if other_score > score - 2.5:
                score, group, operation = other_score, other, other_operation
            break
    flow_at, flow_keyed = _flow_path(documents, group, operation)
    steps_at = group.path[len(flow_at) :]
    samples = _make_samples(documents, group, flow_at, operation)
    return Found(flow_at, flow_keyed, steps_at, group.keyed, operation, score, samples)


def _behind_flows(ranked: list[_Candidate]) -> _Candidate:
    """The best of the candidates, unless it is the flows: what consists of several records nearly whole holds the steps and is
    none, and so does what consists of them for the greater part where they score about as well. Branches within steps hold half of it
    at most."""
    best = ranked[0]
    for other in ranked[1:]:
        inside = other.group.path[: len(best.group.path)] == best.group.path
        several = len(other.group.items) >= 2 * len(best.group.items)
        least = _MOST_OF if other.score >= best.score - _ABOUT else _NEARLY_WHOLE
        if inside and several and other.holding and other.share >= least * best.share:
            best = other
    return best


def _flow_path(documents: list[Any], group: Group, operation: Path) -> tuple[Path, bool]:
    """The path of one flow: the innermost list entry around the steps, else the innermost record with a name. Where only one of
    several entries begins with a trigger, they are parts of one flow (stages, lanes) and the flow is what holds them all."""
    outer = group.path[:-1]
    stars = [index for index, part in enumerate(outer) if part == STAR]
    while stars and (
        are_parts(group, stars[-1] + 1, operation)
        or refer_across(group, stars[-1] + 1)
        or are_named_alike(documents, outer[: stars[-1]])
        or _only_wraps(documents, outer, stars[-1])
    ):
        outer = outer[: stars.pop()]
    if stars:
        path = outer[: stars[-1] + 1]
        holder = next((value for document in documents for value in _find_holders(document, path[:-1]) if value), None)
        keyed = type(holder) is dict
        return path if keyed else _within_wrapper(documents, path, outer[len(path) :]), keyed
    return _named_record(documents, outer)


def _within_wrapper(documents: list[Any], path: Path, rest: Path) -> Path:
    """The path of one flow where entries of a list only wrap it: a flow in each under one key, with a mark such as a cursor beside it."""
    entries = [entry for document in documents for entry in values_at(document, path)]
    while rest and entries and all(_wraps(entry, rest[0]) for entry in entries):
        path, entries, rest = (*path, rest[0]), [entry[rest[0]] for entry in entries], rest[1:]
    return path


def _wraps(entry: Any, key: str) -> bool:
    """Whether a record says little but what stands under a key, which says more of itself."""
    inner = entry.get(key) if type(entry) is dict else None
    if type(inner) is not dict or len(entry) - 1 > _MARKS:
        return False
    marks = {name: value for name, value in entry.items() if name != key}
    if any(word in _OF_FLOWS for name in marks for word in words_of(name)):
        return False  # what says something of the flow belongs to it
    return all(map(is_scalar, marks.values())) and sum(map(is_scalar, inner.values())) > len(marks)


def _only_wraps(documents: list[Any], outer: Path, star: int) -> bool:
    """Whether the lists at a place hold one entry each, and this nothing but what leads to the steps: so elements of XML are written."""
    lists = [listed for document in documents for listed in values_at(document, outer[:star])]
    single = all(type(listed) is list and len(listed) == 1 for listed in lists)
    return single and all(
        type(listed[0]) is dict and set(listed[0]) == {*outer[star + 1 : star + 2]} for listed in lists
    )


def _named_record(documents: list[Any], outer: Path) -> tuple[Path, bool]:
    best: tuple[float, int] = (-1.0, 0)
    for size in range(len(outer) + 1):
        record = value_at(documents[0], outer[:size]) if size else documents[0]
        if type(record) is dict:
            score = _naming_score(record) or (-1.0 if size else 0.0)
            best = max(best, (score + 0.2 * size, size))
    return outer[: best[1]], False


def _naming_score(record: dict[str, Any]) -> float:
    """How much a record looks like what a flow says of itself: a name, and other texts."""
    texts = [value for value in record.values() if type(value) is str]
    named = any(map(_may_name, texts))
    called = any(type(record[key]) is str and NAMING.issuperset(words_of(key)) for key in record if words_of(key))
    return 2.0 * named + 1.0 * called + 0.5 * min(len(texts), 3)


def _may_name(text: str) -> bool:
    """Whether a text may be a name: words, and not a clock."""
    return " " in text.strip() and len(text) <= 90 and not CRON.match(text.strip())


def _find_holders(value: Any, path: Path) -> list[Any]:
    return list(values_at(value, path))


def _make_samples(documents: list[Any], group: Group, flow_at: Path, operation: Path) -> list[Sample]:
    by_flow: dict[tuple[int, str], list[Item]] = {}
    depth = len(flow_at)
    for item in group.items:
        pointer = "".join("/" + part for part in item.pointer.split("/")[1 : depth + 1])
        by_flow.setdefault((item.document, pointer), []).append(item)
    samples: list[Sample] = []
    for (document, pointer), items in by_flow.items():
        raw = documents[document]
        for part in pointer.split("/")[1:]:
            key = part.replace("~1", "/").replace("~0", "~")
            raw = raw[int(key)] if type(raw) is list else raw[key]
        steps: list[Sight] = []
        ids = _id_keys(group)
        for item in items:
            if as_text(value_at(item.value, operation)) or group.keyed:
                _add_step(steps, item.value, item.key, None, (), "", operation, group.keyed, ids)
        samples.append(Sample(document, pointer, raw, steps))
    return samples


def _id_keys(group: Group) -> list[str]:
    """Keys that nearly every item has: what tells a step inside a step from a setting."""
    count = Counter(key for item in group.items for key in item.value)
    return [key for key, number in count.items() if number >= 0.9 * len(group.items)]


def _add_step(
    steps: list[Sight], raw: dict[str, Any], key: str, owner: int | None, hold: Path, branch: str, operation: Path,
    keyed: bool, ids: list[str],
) -> None:  # fmt: skip
    steps.append(Sight(raw, key, owner, hold, branch))
    me = len(steps) - 1
    for path, inner_key, inner_branch, inner in nested_steps(raw, operation, keyed, ids):
        _add_step(steps, inner, inner_key, me, path, inner_branch, operation, keyed, ids)


def is_steplike(value: Any, operation: Path, ids: list[str], keyed: bool) -> bool:
    """Whether a value found inside a step is a step itself."""
    said = value_at(value, operation) if type(value) is dict else None
    if not is_tokenlike(said) and type(said) is not int:
        return False
    shared = sum(key in value for key in ids)
    if len(ids) == 1 and not keyed:  # nothing but its type tells a step without a name
        return shared == 1 and bool(guess_kinds(as_text(said)))
    return shared >= max(1 if keyed else 2, 0.6 * len(ids)) if ids else True


def nested_steps(
    raw: dict[str, Any], operation: Path, keyed: bool, ids: list[str]
) -> list[tuple[Path, str, str, dict[str, Any]]]:
    """Steps directly inside a step: (generalised path, key, branch, step). ``*`` stands for list places and names."""
    search = _NestedSearch(operation, keyed, ids)
    search.walk(raw, (), "", "")
    return search.found


class _NestedSearch:
    """Walks down a step until it meets steps."""

    def __init__(self, operation: Path, keyed: bool, ids: list[str]) -> None:
        self.operation = operation
        self.keyed = keyed
        self.ids = ids
        self.found: list[tuple[Path, str, str, dict[str, Any]]] = []

    def is_step(self, value: Any) -> bool:
        return is_steplike(value, self.operation, self.ids, self.keyed)

    def holds_step(self, value: Any, depth: int = 0) -> bool:
        """Whether a value is a step or holds one."""
        if self.is_step(value):
            return True
        inner = value.values() if type(value) is dict else value if type(value) is list else ()
        return depth < 5 and any(
            self.holds_step(item, depth + 1) for item in inner if type(item) is dict or type(item) is list
        )

    def walk(self, value: Any, path: Path, key: str, branch: str) -> None:
        if path and self.is_step(value):
            self.found.append((path, key, branch, value))
        elif len(path) <= 8 and type(value) is list:
            for index, item in enumerate(value):
                if type(item) is dict or type(item) is list:
                    below = branch if self.is_step(item) else f"{branch}/{index}"
                    self.walk(item, (*path, STAR), str(index), below)
        elif len(path) <= 8 and type(value) is dict:
            self._walk_object(value, path, branch)

    def _walk_object(self, value: dict[str, Any], path: Path, branch: str) -> None:
        inner = [(key, item) for key, item in value.items() if type(item) is dict or type(item) is list]
        names = bool(path) and len(inner) == len(value) and bool(inner)
        if names and self.keyed and all(self.is_step(item) for _, item in inner):
            for key, item in inner:
                self.walk(item, (*path, STAR), key, branch)
            return
        many = names and len(inner) >= 2 and all(self.holds_step(item) for _, item in inner)
        for key, item in inner:
            if path or self.holds_step(item):
                self.walk(item, (*path, STAR if many else key), key, f"{branch}/{key}")

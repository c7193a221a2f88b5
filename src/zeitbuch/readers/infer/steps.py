# Which place that repeats holds the steps, which field says what a step does, what is one flow, and where steps stand
# inside steps. Judged by trade words, by how often the names of the items occur elsewhere, and by how much of the
# document the items hold.
"""Finding the steps of an unknown export."""

from __future__ import annotations

from collections import Counter
from typing import Any, NamedTuple

from zeitbuch.readers.dialects.paths import text

from .survey import STAR, Group, Item, Path, at, count_leaves, groups, leaves, scalar
from .vocabulary import guesses, words_of

_OPERATION_KEYS = frozenset(
    "type kind op operation does act typ art sort klass class module function what tipo genre slag soort handling "
    "accion azione acao".split()
)
KEY: Path = ("@key",)


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


def tokenlike(value: Any) -> bool:
    """Whether a value may be an operation: a short text without blanks at its ends."""
    return type(value) is str and 1 <= len(value) <= 80 and "\n" not in value and value.strip() == value


def _operation_scores(group: Group) -> list[tuple[float, Path]]:
    """Fields that may say what the items do, the best first."""
    count = len(group.items)
    values: dict[Path, list[str]] = {}
    for item in group.items[:400]:
        for key, value in item.value.items():
            if tokenlike(value):
                values.setdefault((key,), []).append(value)
            elif type(value) is dict:
                for inner, deeper in value.items():
                    if tokenlike(deeper):
                        values.setdefault((key, inner), []).append(deeper)
    count = min(count, 400)
    found: list[tuple[float, Path]] = []
    for path, listed in values.items():
        present = len(listed) / count
        if present < 0.6:
            continue
        distinct = Counter(listed)
        hints = {v: guesses(v) for v in distinct}
        share = sum(bool(hints[v]) for v in distinct) / len(distinct)
        kinds = len({h[0].hint for h in hints.values() if h})
        blanks = sum(" " in v for v in listed) / len(listed)
        numeric = sum(v.isdecimal() or len(v) > 40 for v in listed) / len(listed)
        repeats = 1 - len(distinct) / len(listed) if len(listed) > 1 else 0.0
        dots = sum(any(c in v for c in "._/:-") or v != v.lower() for v in listed) / len(listed)
        score = 2.4 * share + 0.35 * min(kinds, 6) + 0.8 * repeats + 0.5 * present + 0.3 * dots
        score -= 1.6 * blanks + 2 * numeric + 0.4 * (len(path) - 1)
        if len(distinct) == 1 and count > 2:
            score -= 1.5
        if len(listed) >= 6 and len(distinct) == len(listed) and blanks > 0.5:
            score -= 1.5  # several words, never twice the same: what people call the steps
        if any(w in _OPERATION_KEYS for w in words_of(path[-1])):
            score += 0.8
        found.append((score, path))
    return sorted(found, key=lambda f: (-f[0], f[1]))


def _names(group: Group) -> set[str]:
    """Values that may name the items: scalars that occur once, and keys."""
    names: set[str] = set()
    columns: dict[str, list[str]] = {}
    for item in group.items[:400]:
        for key, value in item.value.items():
            if scalar(value) and value != "":
                columns.setdefault(key, []).append(text(value))
        if group.keyed:
            names.add(item.key)
    for listed in columns.values():
        if len(set(listed)) >= 0.7 * len(listed) and len(listed) >= 0.6 * min(len(group.items), 400):
            names.update(listed)
    return names


def _group_score(group: Group, total: int, everything: Counter[str]) -> tuple[float, Path] | None:
    operations = _operation_scores(group)
    if not operations:
        return None
    best, path = operations[0]
    held = sum(count_leaves(i.value) for i in group.items[:400]) * max(1.0, len(group.items) / 400)
    share = min(1.0, held / max(1, total))
    names = _names(group)
    referred = sum(everything[n] > 1 for n in names) / len(names) if names else 0.0
    dicts = sum(any(type(v) is dict for v in i.value.values()) for i in group.items[:400]) / min(len(group.items), 400)
    shapes = len({tuple(sorted(i.value)) for i in group.items[:400]})
    inner = {tuple(sorted(v)) for i in group.items[:400] for v in i.value.values() if type(v) is dict}
    varied = min(1.0, (shapes + len(inner) - 1) / 4)
    score = best + 1.6 * share + 1.2 * referred + 0.5 * dicts + 0.8 * varied + 0.1 * min(len(group.items), 10)
    return score, path


def _candidates(documents: list[Any]) -> list[tuple[float, Group, Path]]:
    total = sum(count_leaves(d) for d in documents)
    everything: Counter[str] = Counter()
    for document in documents:
        everything.update(text(v) for _, v in leaves(document, depth=40) if scalar(v))
        everything.update(_keys(document))
    found: list[tuple[float, Group, Path]] = []
    for group in groups(documents):
        rated = _group_score(group, total, everything)
        if rated is not None:
            found.append((rated[0] - 0.35 * group.path.count(STAR), group, rated[1]))
    return sorted(found, key=lambda f: -f[0])


def _keys(value: Any) -> list[str]:
    found: list[str] = []
    stack = [value]
    while stack:
        v = stack.pop()
        if type(v) is dict:
            found += v
            stack += v.values()
        elif type(v) is list:
            stack += v
    return found


def find_steps(documents: list[Any]) -> Found | None:
    """The most likely steps of the documents, or None when nothing looks like steps."""
    ranked = _candidates(documents)
    if not ranked:
        return None
    score, group, operation = ranked[0]
    # A place inside the steps themselves repeats like steps too: the outermost of the same kind is meant.
    for other_score, other, other_operation in ranked[1:]:
        shorter = other.path[:-1]
        if other_operation == operation and group.path[: len(shorter)] == shorter and len(other.path) < len(group.path):
            if other_score > score - 2.5:
                score, group, operation = other_score, other, other_operation
            break
    flow_at, flow_keyed = _flow_path(documents, group)
    steps_at = group.path[len(flow_at) :]
    samples = _samples(documents, group, flow_at, operation)
    return Found(flow_at, flow_keyed, steps_at, group.keyed, operation, score, samples)


def _flow_path(documents: list[Any], group: Group) -> tuple[Path, bool]:
    """The path of one flow: the innermost list entry around the steps, else the innermost record with a name."""
    outer = group.path[:-1]
    stars = [i for i, p in enumerate(outer) if p == STAR]
    if stars:
        path = outer[: stars[-1] + 1]
        holder = next((v for d in documents for v in _holders(d, path[:-1]) if v), None)
        return path, type(holder) is dict
    best: tuple[float, int] = (-1.0, 0)
    for size in range(len(outer) + 1):
        record = at(documents[0], outer[:size]) if size else documents[0]
        if type(record) is not dict:
            continue
        texts = [v for v in record.values() if type(v) is str]
        named = any(" " in v.strip() and len(v) <= 90 for v in texts)
        value = 2.0 * named + 0.5 * min(len(texts), 3) + 0.2 * size
        if size == len(outer) and size and not texts:
            value -= 1
        best = max(best, (value, size))
    return outer[: best[1]], False


def _holders(value: Any, path: Path) -> list[Any]:
    from .survey import values_at

    return list(values_at(value, path))


def _samples(documents: list[Any], group: Group, flow_at: Path, operation: Path) -> list[Sample]:
    by_flow: dict[tuple[int, str], list[Item]] = {}
    depth = len(flow_at)
    for item in group.items:
        pointer = "".join("/" + p for p in item.pointer.split("/")[1 : depth + 1])
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
            if text(at(item.value, operation)) or group.keyed:
                _add(steps, item.value, item.key, None, (), "", operation, group.keyed, ids)
        samples.append(Sample(document, pointer, raw, steps))
    return samples


def _id_keys(group: Group) -> list[str]:
    """Keys that nearly every item has: what tells a step inside a step from a setting."""
    count = Counter(k for i in group.items for k in i.value)
    return [k for k, n in count.items() if n >= 0.9 * len(group.items)]


def _add(
    steps: list[Sight], raw: dict[str, Any], key: str, owner: int | None, hold: Path, branch: str, operation: Path,
    keyed: bool, ids: list[str],
) -> None:  # fmt: skip
    steps.append(Sight(raw, key, owner, hold, branch))
    me = len(steps) - 1
    for path, inner_key, inner_branch, inner in nested(raw, operation, keyed, ids):
        _add(steps, inner, inner_key, me, path, inner_branch, operation, keyed, ids)


def steplike(value: Any, operation: Path, ids: list[str], keyed: bool) -> bool:
    """Whether a value found inside a step is a step itself."""
    if type(value) is not dict or not tokenlike(at(value, operation)):
        return False
    shared = sum(k in value for k in ids)
    return shared >= max(1 if keyed else 2, 0.6 * len(ids)) if ids else True


def nested(
    raw: dict[str, Any], operation: Path, keyed: bool, ids: list[str]
) -> list[tuple[Path, str, str, dict[str, Any]]]:
    """Steps directly inside a step: (generalised path, key, branch, step). ``*`` stands for list places and names."""
    found: list[tuple[Path, str, str, dict[str, Any]]] = []

    def like(value: Any) -> bool:
        return steplike(value, operation, ids, keyed)

    def holds(value: Any, depth: int = 0) -> bool:
        if like(value):
            return True
        inner = value.values() if type(value) is dict else value if type(value) is list else ()
        return depth < 5 and any(holds(v, depth + 1) for v in inner if type(v) is dict or type(v) is list)

    def walk(value: Any, path: Path, key: str, branch: str) -> None:
        if path and like(value):
            found.append((path, key, branch, value))
            return
        if len(path) > 8:
            return
        if type(value) is list:
            for i, v in enumerate(value):
                if type(v) is dict or type(v) is list:
                    walk(v, (*path, STAR), str(i), branch if like(v) else f"{branch}/{i}")
        elif type(value) is dict:
            inner = [(k, v) for k, v in value.items() if type(v) is dict or type(v) is list]
            names = bool(path) and len(inner) == len(value) and bool(inner)
            if names and keyed and all(like(v) for _, v in inner):
                for k, v in inner:
                    walk(v, (*path, STAR), k, branch)
                return
            many = names and len(inner) >= 2 and all(holds(v) for _, v in inner)
            for k, v in inner:
                if not path and not holds(v):
                    continue
                walk(v, (*path, STAR if many else k), k, f"{branch}/{k}")

    walk(raw, (), "", "")
    return found

# How alike the steps of two flows are when ids say nothing: by what each says of itself (kind, operation, name, prompts,
# inputs, settings) and, round by round, by how alike their neighbours are. All pairs at once, as sparse matrices of
# features; the assignment of steps to steps is the one with the greatest sum.
"""Likeness of steps and flows, as matrices, and the best assignment."""

from __future__ import annotations

import itertools
import math
import re
from collections.abc import Callable, Sequence
from collections.abc import Set as AbstractSet
from typing import Any

import msgspec
import numpy as np
import numpy.typing as npt

from zeitbuch.core.model.canonical import spell_refs
from zeitbuch.core.model.records import Flow, Step

Matrix = npt.NDArray[np.float64]
Bags = Sequence[AbstractSet[str]]

ROUNDS = 4
DENSE = 400_000  # cells up to which a matrix is held dense
OWN = 0.62  # share of what a step says of itself; the rest is its neighbours'
_WORD = re.compile(r"\w+")


def _ones_matrix(rows: list[int], columns: list[int], shape: tuple[int, int]) -> Any:
    """A matrix of ones at these places: dense while it is small, where sparse ones cost more than they save."""
    if shape[0] * shape[1] <= DENSE:
        made = np.zeros(shape)
        made[rows, columns] = 1.0
        return made
    from scipy.sparse import csr_matrix

    sparse = csr_matrix((np.ones(len(rows)), (rows, columns)), shape=shape)
    sparse.data[:] = 1.0  # what is named twice counts once
    return sparse


def _dense_matrix(matrix: Any) -> Matrix:
    return matrix if isinstance(matrix, np.ndarray) else np.asarray(matrix.todense())


def overlap_matrix(old: Bags, new: Bags) -> tuple[Matrix, npt.NDArray[np.bool_]]:
    """Dice coefficient of every pair of bags, and where at least one of both holds anything."""
    words: dict[str, int] = {}

    def places(bags: Bags) -> tuple[list[int], list[int]]:
        rows: list[int] = []
        columns: list[int] = []
        for place, bag in enumerate(bags):
            found = [words.setdefault(word, len(words)) for word in bag]
            columns += found
            rows += [place] * len(found)
        return rows, columns

    first, second = places(old), places(new)
    width = max(len(words), 1)
    left, right = _ones_matrix(*first, (len(old), width)), _ones_matrix(*second, (len(new), width))
    common = _dense_matrix(left @ right.T)
    total = np.asarray(left.sum(axis=1)).reshape(-1, 1) + np.asarray(right.sum(axis=1)).reshape(1, -1)
    known = total > 0
    return 2 * common / np.where(known, total, 1.0), known


def trigrams_of(text: str) -> set[str]:
    low = f"  {text.casefold()} "
    return {low[index : index + 3] for index in range(len(low) - 2)} if text else set()


def _plain_text(value: Any) -> str:
    return value if isinstance(value, str) else msgspec.json.encode(value).decode()


def _step_features(step: Step, hidden: frozenset[str]) -> list[tuple[float, set[str]]]:
    """(weight, bag) for each side of a step. ``hidden`` are ids: a text that is one says nothing."""
    prompts, settings = _model_features(step)
    _setting_features(step, hidden, settings)
    names = {second.name for second in step.inputs}
    values = _value_features(step)
    return [
        (2.0, {f"{step.kind}/{step.operation}"}),
        (3.0, trigrams_of(step.name)),
        (1.5, {step.name.casefold()} if step.name else set()),
        (2.5, prompts),
        (1.0, names),
        (2.0, values),
        (1.5, settings),
    ]


def _model_features(step: Step) -> tuple[set[str], set[str]]:
    prompts: set[str] = set()
    settings: set[str] = set()
    use = step.model
    if use is not None:
        for prompt in use.prompts:
            text = prompt.text
            for ref in prompt.refs:
                if ref.step is not None and ref.text:
                    text = text.replace(ref.text, f" {ref.path} ")
            prompts.update(_WORD.findall(text.casefold()))
        settings |= {f"{key}={getattr(use, key)}" for key in ("name", "task", "temperature", "max_output", "max_turns")}
        settings.add(f"modality={use.modality}")
    return prompts, settings


def _setting_features(step: Step, hidden: frozenset[str], settings: set[str]) -> None:
    for key in (
        "connection",
        "calls",
        "inclusive",
        "timeout",
        "on_fault",
        "join",
        "enabled",
        "effect",
        "yields",
        "pieces",
        "concurrency",
    ):
        value = getattr(step, key)
        if value not in (None, False, "none", "stop", "same") and value not in hidden and value is not True:
            settings.add(f"{key}={value}")
    if step.condition:
        settings.add("condition=" + re.sub(r"\u27e6[^:]*:", "\u27e6", spell_refs(step.condition, step.refs)))
    if step.repeat is not None:
        settings.add(f"repeat={step.repeat.count}/{step.repeat.cap}")
    if step.note:
        settings.add(f"note={step.note}")


def _value_features(step: Step) -> set[str]:
    values = set()
    for second in step.inputs:
        value = second.value
        if second.refs and isinstance(value, str):
            value = re.sub(r"\u27e6[^:]*:", "\u27e6", spell_refs(value, second.refs))
        values.add(f"{second.name}={_plain_text(value)}/{second.decided}")
    return values


def own_likeness(old: Sequence[Step], new: Sequence[Step], hidden: frozenset[str]) -> Matrix:
    """Likeness by what steps say of themselves, shape (old, new), from 0 to 1. Steps of different kinds are at most
    half alike."""
    first = [_step_features(step, hidden) for step in old]
    second = [_step_features(step, hidden) for step in new]
    total = np.zeros((len(old), len(new)))
    weight = np.zeros_like(total)
    for side in range(len(first[0]) if first else 0):
        w = first[0][side][0]
        alike, known = overlap_matrix([items[side][1] for items in first], [items[side][1] for items in second])
        total += w * alike
        weight += w * known
    found = total / np.where(weight > 0, weight, 1.0)
    kinds = np.array([[first.kind == second.kind for second in new] for first in old], dtype=bool).reshape(found.shape)
    return np.where(kinds, found, found * 0.5)


def _relation_matrices(flow: Flow, at: dict[str, int], size: int) -> list[Any]:
    """For each relation a matrix: row i has its neighbours."""
    kinds: dict[str, tuple[list[int], list[int]]] = {
        key: ([], []) for key in ("out", "in", "up", "down", "host", "help")
    }

    def put(kind: str, a: str, b: str) -> None:
        if a in at and b in at:
            kinds[kind][0].append(at[a])
            kinds[kind][1].append(at[b])

    for link in flow.links:
        if link.role == "attach":
            put("host", link.source, link.target)
            put("help", link.target, link.source)
        else:
            put("out", link.source, link.target)
            put("in", link.target, link.source)
    for step in flow.steps:
        if step.scope is not None:
            put("up", step.id, step.scope)
            put("down", step.scope, step.id)
    return [_ones_matrix(rows, columns, (size, size)) for rows, columns in kinds.values()]


def likeness_matrix(old: Flow, new: Flow, settled: dict[str, str]) -> tuple[Matrix, list[str], list[str]]:
    """Likeness of the parts of two flows (triggers, then steps), with what is already ``settled`` (old id -> new id);
    the ids of the rows and of the columns."""
    hidden = frozenset(
        {step.id for flow in (old, new) for step in flow.steps}
        | {trigger.id for flow in (old, new) for trigger in flow.triggers}
    )
    rows = [*[trigger.id for trigger in old.triggers], *[step.id for step in old.steps]]
    columns = [*[trigger.id for trigger in new.triggers], *[step.id for step in new.steps]]
    mapping, table = {key: index for index, key in enumerate(rows)}, {key: index for index, key in enumerate(columns)}
    own = np.zeros((len(rows), len(columns)))
    number, count = len(old.triggers), len(new.triggers)
    if old.steps and new.steps:
        own[number:, count:] = own_likeness(old.steps, new.steps, hidden)
    _trigger_likeness(old, new, own)
    fixed = [
        (mapping[first], table[second]) for first, second in settled.items() if first in mapping and second in table
    ]

    def pinned(matrix: Matrix) -> Matrix:
        for index, inner in fixed:
            matrix[index, :] = 0.0
            matrix[:, inner] = 0.0
        for index, inner in fixed:
            matrix[index, inner] = 1.0
        return matrix

    found = pinned(own.copy())
    relations = list(
        zip(_relation_matrices(old, mapping, len(rows)), _relation_matrices(new, table, len(columns)), strict=True)
    )
    degrees = [
        np.maximum(np.asarray(first.sum(axis=1)).reshape(-1, 1), np.asarray(second.sum(axis=1)).reshape(1, -1))
        for first, second in relations
    ]
    for _ in range(ROUNDS):
        found = _spread_belief(found, relations, degrees, pinned, own)
    return found, rows, columns


def _trigger_likeness(old: Flow, new: Flow, own: Matrix) -> None:
    for index, first in enumerate(old.triggers):
        for inner, second in enumerate(new.triggers):
            same = [
                first.kind == second.kind,
                first.name == second.name,
                first.schedule == second.schedule,
                first.event == second.event,
            ]
            own[index, inner] = sum(w for w, flag in zip((0.5, 0.2, 0.15, 0.15), same, strict=True) if flag)


def _spread_belief(
    found: Matrix, relations: list[tuple[Any, Any]], degrees: list[Any], pinned: Callable[[Matrix], Matrix], own: Matrix
) -> Matrix:
    belief = found**3  # what is but half alike says little of its neighbours
    near = np.zeros_like(found)
    weight = np.full_like(found, 1e-9)
    for (first, second), degree in zip(relations, degrees, strict=True):
        some = degree > 0
        share = np.minimum(np.asarray(first @ belief @ second.T) / np.where(some, degree, 1.0), 1.0)
        near += np.where(some, share, 0.0)
        weight += some
    around = near / weight
    return pinned(np.where(weight > 0.5, OWN * own + (1 - OWN) * around, own))


FEW = 5_000  # orders of the columns that are tried one by one; loading the solver takes longer than that


def _best_assignment(score: Matrix) -> list[tuple[int, int]]:
    """Row and column of each pair of the assignment with the highest sum, by row."""
    number, member = score.shape
    if number > member:
        return sorted((row, column) for column, row in _best_assignment(score.T))
    if math.perm(member, number) <= FEW:
        table = score.tolist()
        best = max(itertools.permutations(range(member), number), key=lambda order: _sum_of(table, order))
        return list(enumerate(best))
    from scipy.optimize import linear_sum_assignment

    rows, columns = linear_sum_assignment(score, maximize=True)
    return list(zip(rows.tolist(), columns.tolist(), strict=True))


def _sum_of(table: list[list[float]], order: tuple[int, ...]) -> float:
    return math.fsum([row[column] for row, column in zip(table, order, strict=True)])


def assign_pairs(score: Matrix, least: float) -> list[tuple[int, int, float]]:
    """The pairs of the best assignment with a score of at least ``least``: row, column, confidence. The confidence is the
    score, less when another pair of the row or column comes near."""
    if not score.size:
        return []
    number, member = score.shape
    # Where nothing else speaks, what stood first stands first.
    order = np.abs(np.arange(number).reshape(-1, 1) / number - np.arange(member).reshape(1, -1) / member)
    pairs = []
    for item, j in _best_assignment(score - 1e-3 * order):
        value = float(score[item, j])
        if value < least:
            continue
        others = [
            float(np.delete(score[item], j).max(initial=0.0)),
            float(np.delete(score[:, j], item).max(initial=0.0)),
        ]
        margin = value - max(others)
        pairs.append((item, j, round(min(1.0, value) * (0.6 + 0.4 * min(1.0, max(0.0, margin) / 0.15)), 2)))
    return pairs

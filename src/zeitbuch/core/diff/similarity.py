# How alike the steps of two flows are when ids say nothing: by what each says of itself (kind, operation, name, prompts,
# inputs, settings) and, round by round, by how alike their neighbours are. All pairs at once, as sparse matrices of
# features; the assignment of steps to steps is the one with the greatest sum.
"""Likeness of steps and flows, as matrices, and the best assignment."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import Any

import msgspec
import numpy as np
import numpy.typing as npt

from zeitbuch.core.model.canonical import spell_refs
from zeitbuch.core.model.records import Flow, Step

from .assignment import best_assignment
from .ones_matrix import Bags, Matrix, OnesMatrix, common_counts

ROUNDS = 4
OWN = 0.62  # share of what a step says of itself; the rest is its neighbours'
_WORD = re.compile(r"\w+")


def overlap_matrix(old: Bags, new: Bags) -> tuple[Matrix, npt.NDArray[np.bool_]]:
    """Dice coefficient of every pair of bags, and where at least one of both holds anything."""
    common = common_counts(old, new)
    total = np.array([len(bag) for bag in old], float)[:, None] + np.array([len(bag) for bag in new], float)[None, :]
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
    return likeness_by_features(old, new, features_of(old, hidden), features_of(new, hidden))


Features = list[list[tuple[float, set[str]]]]


def features_of(steps: Sequence[Step], hidden: frozenset[str]) -> Features:
    """What steps say of themselves, by which they are held against others; ``hidden`` are ids, which say nothing."""
    return [_step_features(step, hidden) for step in steps]


def likeness_by_features(old: Sequence[Step], new: Sequence[Step], first: Features, second: Features) -> Matrix:
    """Likeness of steps whose features are at hand (see ``own_likeness``)."""
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


def _relation_matrices(flow: Flow, at: dict[str, int], size: int) -> list[OnesMatrix]:
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
    return [OnesMatrix(rows, columns, size) for rows, columns in kinds.values()]


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
    degrees = [np.maximum(first.row_sums[:, None], second.row_sums[None, :]) for first, second in relations]
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
    found: Matrix,
    relations: list[tuple[OnesMatrix, OnesMatrix]],
    degrees: list[Matrix],
    pinned: Callable[[Matrix], Matrix],
    own: Matrix,
) -> Matrix:
    belief = found**3  # what is but half alike says little of its neighbours
    near = np.zeros_like(found)
    weight = np.full_like(found, 1e-9)
    for (first, second), degree in zip(relations, degrees, strict=True):
        some = degree > 0
        both = second.times(first.times(belief).T).T
        share = np.minimum(both / np.where(some, degree, 1.0), 1.0)
        near += np.where(some, share, 0.0)
        weight += some
    around = near / weight
    return pinned(np.where(weight > 0.5, OWN * own + (1 - OWN) * around, own))


def assign_pairs(score: Matrix, least: float) -> list[tuple[int, int, float]]:
    """The pairs of the best assignment with a score of at least ``least``: row, column, confidence. The confidence is the
    score, less when another pair of the row or column comes near."""
    if not score.size:
        return []
    number, member = score.shape
    # Where nothing else speaks, what stood first stands first.
    order = np.abs(np.arange(number).reshape(-1, 1) / number - np.arange(member).reshape(1, -1) / member)
    pairs = []
    for item, j in best_assignment(score - 1e-3 * order):
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

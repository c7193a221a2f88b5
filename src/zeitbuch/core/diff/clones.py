# Copies: flows, branches, steps and prompts that are nearly the same. Who copies a branch changes the name of the port in
# four places and forgets the fifth; so beside where two copies differ, this says what was changed everywhere else and left
# as it was here.
"""Near-identical parts of an estate, where they differ, and what was left as in the other."""

from __future__ import annotations

import itertools
import re
from collections import Counter
from collections.abc import Iterable

from msgspec import Struct, structs

from zeitbuch.core.graph.components import group_items
from zeitbuch.core.graph.exchanged_words import ExchangedWord
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.kinds import AI_KINDS
from zeitbuch.core.model.records import Flow, Step
from zeitbuch.core.model.words import join_words

from .estate_changes import flow_changes
from .flow_similarity import flow_likeness
from .left_over import Left, left_over_texts
from .matching import match_steps
from .parts_of_flow import PartsOfFlow, Place, Sort, Unit, branches_of
from .records import Change
from .similarity import assign_pairs, likeness_by_features, overlap_matrix

FLOWS, PARTS, STEPS, PROMPTS = 0.72, 0.62, 0.72, 0.8  # likeness from which two of a sort are copies
SAME_SORTS = 0.6  # of flows of four steps or more that are of the very same sorts: every name and value may be another
MANY = 60  # branches of the same sorts that are held against each other
MOST_UNITS = 150  # branches of one flow, and steps of one operation in it, that are held against each other
WORDS = 12  # words that a prompt needs to be compared with others
_WORD = re.compile(r"[\w.@/-]*\w")


class Clone(Struct, frozen=True):
    """Two copies: how alike (0 to 1), where they differ, what was left."""

    sort: Sort
    a: Place
    b: Place
    likeness: float
    changes: tuple[Change, ...] = ()
    left: tuple[Left, ...] = ()


class CloneGroup(Struct, frozen=True):
    """Copies of one thing: the one that is most like all others, the least likeness to it, and each other held against it."""

    sort: Sort
    reference: Place
    likeness: float
    copies: tuple[Clone, ...]


class ClonesResult(Struct, frozen=True):
    """`diff --clones --format json`: groups of copies, and the words by which flows hand work to each other."""

    groups: tuple[CloneGroup, ...]
    words: tuple[ExchangedWord, ...] = ()

    @property
    def is_doubtful(self) -> bool:
        """Whether something was left as it was, or a word is not written alike."""
        return any(clone.left for group in self.groups for clone in group.copies) or any(
            word.near for word in self.words
        )


def _has_substance(step: Step) -> bool:
    """Whether a step says enough to be told from another."""
    words = sum(len(prompt.text.split()) for prompt in step.model.prompts) if step.model is not None else 0
    return words >= 8 or len(step.inputs) >= 2 or (step.kind in AI_KINDS and words > 0)


def _likeness_of(a: Unit, b: Unit) -> float:
    """Likeness of two parts: the mean likeness of their steps in the best pairing, unpaired ones counting nothing."""
    less, size = sorted((len(a.part.steps), len(b.part.steps)))
    if less < PARTS * size or sum((a.sorts & b.sorts).values()) < PARTS * size:
        return 0.0
    score = likeness_by_features(a.part.steps, b.part.steps, a.features, b.features)
    return sum(float(score[index, inner]) for index, inner, _ in assign_pairs(score, 0.3)) / size


def detect_clones(flows: Iterable[Flow], single: bool = True) -> list[CloneGroup]:
    """All copies in groups: flows first, then branches, and (where ``single``) steps and prompts, that are no part of a copy already told. Without
    ``single`` it is not said how copies differ, but for what was left as it was."""
    flows = list(flows)
    told: set[tuple[str, str]] = set()  # pairs of steps (flow/id) that stand in copies already
    found = _whole_clones(flows, told, single)
    branches: list[Unit] = []
    for flow in flows:
        found += _clones_within(flow, branches, told, single)
    found += _grouped(_branches_across(branches), PARTS, told, single)
    return [*found, *_prompt_clones(flows, told)] if single else found


def _whole_clones(flows: list[Flow], told: set[tuple[str, str]], judged: bool) -> list[CloneGroup]:
    """Flows that are alike as a whole."""
    whole = [flow for flow in flows if len(flow.steps) >= 3]
    if len(whole) < 2:
        return []
    units = [Unit("flow", flow, structs.replace(flow, id="part", name=""), flow.title) for flow in whole]
    score = flow_likeness(whole, whole)
    sorts = [unit.sorts for unit in units]
    places = zip(*((score >= SAME_SORTS).nonzero()), strict=True)
    pairs = [
        (float(score[i, j]), units[i], units[j])
        for i, j in places
        if i < j and (score[i, j] >= FLOWS or (len(whole[i].steps) > 3 and sorts[i] == sorts[j]))
    ]
    return _grouped(pairs, SAME_SORTS, told, judged)


def _clones_within(flow: Flow, branches: list[Unit], told: set[tuple[str, str]], single: bool) -> list[CloneGroup]:
    """Copies of branches, and of single steps, within one flow."""
    units = [unit for unit in branches_of(flow) if len(unit.part.steps) > 1]
    branches += units
    found = _grouped(_pairs_of(units), PARTS, told, single)
    if not single:
        return found
    parts = PartsOfFlow(flow)
    steps = [parts.part("step", [step.id], quote_name(step.title)) for step in flow.steps if _has_substance(step)]
    groups = group_items(steps, lambda unit: unit.part.steps[0].operation).values()
    return found + _grouped([pair for alike in groups for pair in _pairs_of(alike)], STEPS, told)


def _pairs_of(units: list[Unit]) -> list[tuple[float, Unit, Unit]]:
    pairs = itertools.combinations(units[:MOST_UNITS], 2)
    return [(_likeness_of(first, second), first, second) for first, second in pairs if not first.ids & second.ids]


def parts_not_compared(flow: Flow) -> int:
    """How many branches and steps of a flow are not held against the others of it."""
    alike = Counter(step.operation for step in flow.steps if _has_substance(step))
    scopes = len({step.scope for step in flow.steps if step.scope is not None})
    return sum([max(0, number - MOST_UNITS) for number in (scopes, *alike.values())])


def _branches_across(branches: list[Unit]) -> list[tuple[float, Unit, Unit]]:
    """Branches of different flows that hold steps of the same sorts: what was copied from flow to flow."""
    mapping: dict[frozenset[tuple[str, int]], list[Unit]] = {}
    for unit in branches:
        if any(_has_substance(step) for step in unit.part.steps):
            mapping.setdefault(frozenset(unit.sorts.items()), []).append(unit)
    pairs = []
    for units in mapping.values():
        # What stands in a great many flows is a house pattern, no copy of one.
        for first, second in itertools.combinations(units[:MANY], 2):
            if first.flow is not second.flow:
                pairs.append((_likeness_of(first, second), first, second))
    return pairs


Pair = tuple[float, Unit, Unit]


def _grouped(pairs: Iterable[Pair], least: float, told: set[tuple[str, str]], judged: bool = True) -> list[CloneGroup]:
    """Groups of copies, the largest parts first: one that most others are like, and these. A part that lies within a pair already told
    is not told again."""
    kept = [pair for pair in pairs if pair[0] >= least]
    near: dict[int, dict[int, float]] = {}
    units: dict[int, Unit] = {}
    for value, first, second in kept:
        units |= {id(first): first, id(second): second}
        near.setdefault(id(first), {})[id(second)] = value
        near.setdefault(id(second), {})[id(first)] = value
    order = list(units)
    found = []
    while near:
        # The one with the largest part, then the most copies, then the most alike; the order of the estate decides ties.
        key = max(
            near,
            key=lambda one: (len(units[one].part.steps), len(near[one]), sum(near[one].values()), -order.index(one)),
        )
        others = sorted(near[key], key=order.index)
        clones = [
            _make_clone(units[key], units[other], near[key][other], told, judged)
            for other in others
            if _first_steps(units[key], units[other]) not in told
        ]
        if clones:
            lowest = min(clone.likeness for clone in clones)
            found.append(CloneGroup(units[key].sort, clones[0].a, lowest, tuple(clones)))
        _take_out(near, {key, *others})
    return found


def _first_steps(first: Unit, second: Unit) -> tuple[str, str]:
    return _place_of_step(first.flow, first.part.steps[0]), _place_of_step(second.flow, second.part.steps[0])


def _take_out(near: dict[int, dict[int, float]], gone: set[int]) -> None:
    for key in gone:
        near.pop(key, None)
    for key in list(near):
        near[key] = {other: value for other, value in near[key].items() if other not in gone}
        if not near[key]:
            del near[key]


def _place_of_step(flow: Flow, step: Step) -> str:
    return f"{flow.id}/{step.id}"


def _make_clone(a: Unit, b: Unit, value: float, told: set[tuple[str, str]], judged: bool) -> Clone:
    matching = match_steps(a.part, b.part)
    first, second = {step.id: step for step in a.part.steps}, {step.id: step for step in b.part.steps}
    for pair in matching.steps:
        text, second_text = _place_of_step(a.flow, first[pair.old]), _place_of_step(b.flow, second[pair.new])
        told |= {(text, second_text), (second_text, text)}
    changes = flow_changes(a.part, b.part) if judged else None
    kept = tuple(change for change in changes.changes if change.edits) if changes is not None else ()
    pairs = [(first[pair.old], second[pair.new]) for pair in matching.steps]
    return Clone(a.sort, a.place, b.place, round(value, 2), kept, tuple(left_over_texts((a.title, b.title), pairs)))


# -- prompts ------------------------------------------------------------------------------------------------------


def _prompt_clones(flows: list[Flow], told: set[tuple[str, str]]) -> list[CloneGroup]:
    """Prompts that are nearly the same in steps that are no copies of each other."""
    held = _held_prompts(flows)
    if len(held) < 2:
        return []
    bags = [{" ".join(entry) for entry in itertools.pairwise(_WORD.findall(text.casefold()))} for _, _, text in held]
    score, _ = overlap_matrix(bags, bags)
    parts = {id(flow): PartsOfFlow(flow) for flow, _, _ in held}
    units = [parts[id(flow)].part("prompt", [step.id], quote_name(step.title)) for flow, step, _ in held]
    places = zip(*((score >= PROMPTS).nonzero()), strict=True)
    groups = _grouped([(float(score[i, j]), units[i], units[j]) for i, j in places if i < j], PROMPTS, told)
    return [structs.replace(group, copies=tuple(map(_with_prompts_only, group.copies))) for group in groups]


def _with_prompts_only(clone: Clone) -> Clone:
    return structs.replace(clone, changes=tuple(change for change in clone.changes if change.topic == "prompt"))


def _held_prompts(flows: list[Flow]) -> list[tuple[Flow, Step, str]]:
    """The long prompts of the estate, each with its flow and step."""
    held = [
        (flow, step, " ".join(prompt.text for prompt in step.model.prompts))
        for flow in flows
        for step in flow.steps
        if step.model is not None
    ]
    held = [entry for entry in held if len(entry[2].split()) >= WORDS]
    return held


def group_title(group: CloneGroup) -> str:
    """'3 flows, at least 0.93 alike: ‘A’, ‘B’ and ‘C’'."""
    places = [group.reference, *[clone.b for clone in group.copies]]
    noun = {"flow": "flows", "branch": "branches", "step": "steps", "prompt": "steps with the same prompt"}[group.sort]
    count = "Two" if len(places) == 2 else str(len(places))
    alike = f"{group.likeness:.2f} alike" if len(places) == 2 else f"at least {group.likeness:.2f} alike"
    ends = [quote_name(place.title) if group.sort == "flow" else place.title for place in places]
    if group.sort != "flow" and len({place.flow for place in places}) == 1:
        return f"{count} {noun} in {quote_name(group.reference.flow_name)}, {alike}: {join_words(ends)}"
    if group.sort != "flow":
        ends = [f"{name} in {quote_name(place.flow_name)}" for name, place in zip(ends, places, strict=True)]
    return f"{count} {noun}, {alike}: {join_words(ends)}"


def copy_title(clone: Clone) -> str:
    """One of several copies, held against the reference: '‘B’ against ‘A’'."""
    ends = [quote_name(place.title) if clone.sort == "flow" else place.title for place in (clone.b, clone.a)]
    flows = [place.flow_name for place in (clone.b, clone.a)]
    if clone.sort != "flow" and flows[0] != flows[1]:
        ends = [f"{end} in {quote_name(flow)}" for end, flow in zip(ends, flows, strict=True)]
    return f"{ends[0]} against {ends[1]}"

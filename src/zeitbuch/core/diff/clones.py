# Copies: flows, branches, steps and prompts that are nearly the same. Who copies a branch changes the name of the port in
# four places and forgets the fifth; so beside where two copies differ, this says what was changed everywhere else and left
# as it was here.
"""Near-identical parts of an estate, where they differ, and what was left as in the other."""

from __future__ import annotations

import itertools
import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from difflib import SequenceMatcher
from typing import Literal

from msgspec import Struct, structs

from zeitbuch.core.graph.components import group_items
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.kinds import AI_KINDS
from zeitbuch.core.model.records import Flow, Link, Origin, Step
from zeitbuch.core.model.references import replace_refs
from zeitbuch.core.model.secret_labels import LABEL
from zeitbuch.core.model.words import join_words

from .estate_changes import flow_changes
from .flow_similarity import flow_likeness
from .matching import match_steps
from .records import Change
from .similarity import assign_pairs, overlap_matrix, own_likeness

Sort = Literal["flow", "branch", "step", "prompt"]
FLOWS, PARTS, STEPS, PROMPTS = 0.72, 0.62, 0.72, 0.8  # likeness from which two of a sort are copies
MANY = 60  # branches of the same sorts that are held against each other
MOST_UNITS = 150  # branches of one flow, and steps of one operation in it, that are held against each other
WORDS = 12  # words that a prompt needs to be compared with others
_WORD = re.compile(r"[\w.@/-]*\w")


class Place(Struct, frozen=True):
    """One of two copies."""

    flow: str
    flow_name: str
    title: str
    steps: tuple[str, ...] = ()
    origin: Origin | None = None


class Left(Struct, frozen=True):
    """A field that says the same in both copies, though elsewhere ``old`` became ``new`` (``times`` times)."""

    where: str
    text: str
    old: str
    new: str
    times: int
    origin: Origin | None = None


class Clone(Struct, frozen=True):
    """Two copies: how alike (0 to 1), where they differ, what was left."""

    sort: Sort
    a: Place
    b: Place
    likeness: float
    changes: tuple[Change, ...] = ()
    left: tuple[Left, ...] = ()


class ClonesResult(Struct, frozen=True):
    """`diff --clones --format json`."""

    clones: tuple[Clone, ...]


class Unit(Struct):
    """A part that can be a copy: steps of a flow with the links among them, as a flow of its own."""

    sort: Sort
    flow: Flow
    part: Flow
    title: str

    @property
    def ids(self) -> frozenset[str]:
        return frozenset(step.id for step in self.part.steps)

    @property
    def place(self) -> Place:
        first = self.part.steps[0].origin if self.part.steps and self.sort != "flow" else self.flow.origin
        steps = () if self.sort == "flow" else tuple(step.title for step in self.part.steps)
        return Place(self.flow.id, self.flow.title, self.title, steps, first)


def _part_of_flow(flow: Flow, sort: Sort, ids: Iterable[str], title: str) -> Unit:
    """Steps of a flow as a flow: links among them, ends that stand outside left out."""
    inside = set(ids)
    steps = tuple(
        structs.replace(step, scope=step.scope if step.scope in inside else None)
        for step in flow.steps
        if step.id in inside
    )
    links = tuple(link for link in flow.links if link.source in inside and link.target in inside)
    return Unit(sort, flow, Flow(id="part", steps=steps, links=links, connections=flow.connections), title)


def _branches_of(flow: Flow) -> Iterator[Unit]:
    """What each case of a decision leads to up to where the cases meet, and what each scope holds."""
    graph = Graph(flow)
    out: dict[str, list[Link]] = {}
    for link in flow.links:
        if link.role != "attach":
            out.setdefault(link.source, []).append(link)
    helpers: dict[str, list[str]] = {}
    for helper, host in graph.host.items():
        helpers.setdefault(host, []).append(helper)

    def after(first: str) -> set[str]:
        found, work = {first}, [first]
        while work:
            for link in out.get(work.pop(), ()):
                if link.target not in found:
                    found.add(link.target)
                    work.append(link.target)
        return found

    yield from _case_branches(flow, out, after, helpers)
    yield from _scope_contents(flow, graph)


def _case_branches(
    flow: Flow, out: dict[str, list[Link]], after: Callable[[str], set[str]], helpers: dict[str, list[str]]
) -> Iterator[Unit]:
    """What each case of a decision leads to up to where the cases meet."""
    for step in flow.steps:
        starts = [link for link in out.get(step.id, ()) if link.role in ("case", "next")]
        if len(starts) > 1:
            reach = {link.target: after(link.target) for link in starts}
            for k in starts:
                others: set[str] = set().union(*[row for text, row in reach.items() if text != k.target])
                own = reach[k.target] - others - {step.id}
                own |= {name for text in own for name in helpers.get(text, ())}
                if own:
                    yield _part_of_flow(
                        flow, "branch", own, f"the case {quote_name(k.label or k.target)} of {quote_name(step.title)}"
                    )


def _scope_contents(flow: Flow, graph: Graph) -> Iterator[Unit]:
    """What each scope holds."""
    for scope in graph.levels:
        if scope is not None:
            inside = {
                step.id for step in flow.steps if scope in graph.scope_path(graph.card_of(step.id)) and step.id != scope
            }
            if inside:
                yield _part_of_flow(flow, "branch", inside, f"what {quote_name(graph.names[scope])} holds")


def _has_substance(step: Step) -> bool:
    """Whether a step says enough to be told from another."""
    words = sum(len(prompt.text.split()) for prompt in step.model.prompts) if step.model is not None else 0
    return words >= 8 or len(step.inputs) >= 2 or (step.kind in AI_KINDS and words > 0)


def _count_sorts(unit: Unit) -> Counter[str]:
    return Counter(f"{step.kind}/{step.operation}" for step in unit.part.steps)


def _likeness_of(a: Unit, b: Unit) -> float:
    """Likeness of two parts: the mean likeness of their steps in the best pairing, unpaired ones counting nothing."""
    one, two = _count_sorts(a), _count_sorts(b)
    size = max(len(a.part.steps), len(b.part.steps))
    if sum((one & two).values()) < PARTS * size:
        return 0.0
    score = own_likeness(a.part.steps, b.part.steps, a.ids | b.ids)
    return sum(float(score[index, inner]) for index, inner, _ in assign_pairs(score, 0.3)) / size


def detect_clones(flows: Iterable[Flow]) -> list[Clone]:
    """All copies: flows first, then branches, steps and prompts that are no part of a copy already told."""
    flows = list(flows)
    found: list[Clone] = []
    told: set[tuple[str, str]] = set()  # pairs of steps (flow/id) that stand in copies already
    _whole_clones(flows, found, told)
    branches: list[Unit] = []
    for flow in flows:
        _clones_within(flow, branches, found, told)
    found += _best_pairs(_branches_across(branches), PARTS, told)
    found += _prompt_clones(flows, told)
    return found


def _whole_clones(flows: list[Flow], found: list[Clone], told: set[tuple[str, str]]) -> None:
    """Pairs of flows that are alike as a whole."""
    whole = [flow for flow in flows if len(flow.steps) >= 3]
    if len(whole) > 1:
        score = flow_likeness(whole, whole)
        for item, j in zip(*((score >= FLOWS).nonzero()), strict=True):
            if item < j:
                first, second = (
                    Unit("flow", field, structs.replace(field, id="part", name=""), field.title)
                    for field in (whole[item], whole[j])
                )
                found.append(_make_clone(first, second, float(score[item, j]), told))


def _clones_within(flow: Flow, branches: list[Unit], found: list[Clone], told: set[tuple[str, str]]) -> None:
    """Copies of branches and of steps within one flow."""
    units = [unit for unit in _branches_of(flow) if len(unit.part.steps) > 1]
    branches += units
    found += _best_pairs(_pairs_of(units), PARTS, told)
    steps = [
        _part_of_flow(flow, "step", [step.id], quote_name(step.title)) for step in flow.steps if _has_substance(step)
    ]
    groups = group_items(steps, lambda unit: unit.part.steps[0].operation).values()
    found += _best_pairs([pair for alike in groups for pair in _pairs_of(alike)], STEPS, told)


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
            mapping.setdefault(frozenset(_count_sorts(unit).items()), []).append(unit)
    pairs = []
    for units in mapping.values():
        # What stands in a great many flows is a house pattern, no copy of one.
        for first, second in itertools.combinations(units[:MANY], 2):
            if first.flow is not second.flow:
                pairs.append((_likeness_of(first, second), first, second))
    return pairs


def _best_pairs(pairs: list[tuple[float, Unit, Unit]], least: float, told: set[tuple[str, str]]) -> list[Clone]:
    """The most alike first; a part that lies within a pair already told is not told again."""
    found = []
    pairs = [pair for pair in pairs if pair[0] >= least]
    pairs.sort(key=lambda p: (-len(p[1].part.steps), -p[0]))
    for value, first, second in pairs:
        if (
            _place_of_step(first.flow, first.part.steps[0]),
            _place_of_step(second.flow, second.part.steps[0]),
        ) not in told:
            found.append(_make_clone(first, second, value, told))
    return found


def _place_of_step(flow: Flow, step: Step) -> str:
    return f"{flow.id}/{step.id}"


def _make_clone(a: Unit, b: Unit, value: float, told: set[tuple[str, str]]) -> Clone:
    matching = match_steps(a.part, b.part)
    first, second = {step.id: step for step in a.part.steps}, {step.id: step for step in b.part.steps}
    for pair in matching.steps:
        text, second_text = _place_of_step(a.flow, first[pair.old]), _place_of_step(b.flow, second[pair.new])
        told |= {(text, second_text), (second_text, text)}
    changes = flow_changes(a.part, b.part)
    kept = tuple(change for change in changes.changes if change.edits) if changes is not None else ()
    pairs = [(first[pair.old], second[pair.new]) for pair in matching.steps]
    return Clone(a.sort, a.place, b.place, round(value, 2), kept, tuple(_left_over_texts(a, b, pairs)))


# -- what was left ------------------------------------------------------------------------------------------------


def _texts_of_step(step: Step) -> Iterator[tuple[str, str]]:
    """The texts of a step that people write, with what each is."""
    yield "name", step.name
    if step.condition:
        yield "condition", step.condition
    if step.model is not None:
        for prompt in step.model.prompts:
            yield (
                f"{prompt.role} prompt",
                replace_refs(prompt.text, [ref for ref in prompt.refs if ref.step is not None], {}),
            )
    for second in step.inputs:
        if isinstance(second.value, str) and not LABEL.fullmatch(second.value):
            yield f"input {second.name}", second.value
    if step.calls:
        yield "called flow", step.calls


def _swapped_words(old: str, new: str) -> Iterator[tuple[str, str]]:
    """Single words of a text that became other single words."""
    first, second = _WORD.findall(old), _WORD.findall(new)
    for tag, i1, i2, j1, j2 in SequenceMatcher(None, first, second, autojunk=False).get_opcodes():
        if tag == "replace" and i2 - i1 == j2 - j1:
            yield from zip(first[i1:i2], second[j1:j2], strict=True)


def _left_over_texts(a: Unit, b: Unit, pairs: list[tuple[Step, Step]]) -> Iterator[Left]:
    """Texts of the second copy that still say what the copying changed elsewhere."""
    swaps, shown = _count_swaps(a, b, pairs)
    # What became several things, or what several things became, is no systematic replacement.
    olds, news = Counter(name for name, _ in swaps), Counter(name for _, name in swaps)
    for (old, new), times in sorted(swaps.items(), key=lambda s: (-s[1], s[0])):
        if times < 2 or olds[old] > 1 or news[new] > 1:
            continue
        yield from _unswapped_texts(pairs, old, shown, new, times)


def _count_swaps(
    a: Unit, b: Unit, pairs: list[tuple[Step, Step]]
) -> tuple[Counter[tuple[str, str]], dict[tuple[str, str], tuple[str, str]]]:
    """How often each word was swapped for another between the copies, and how both were written."""
    swaps: Counter[tuple[str, str]] = Counter()
    shown: dict[tuple[str, str], tuple[str, str]] = {}
    for one, two in pairs:
        for (_, word), (_, second_text) in zip(_texts_of_step(one), _texts_of_step(two), strict=False):
            for old, new in set(_swapped_words(word, second_text)):
                if len(old) > 2 and old.casefold() != new.casefold():
                    key = old.casefold(), new.casefold()
                    swaps[key] += 1
                    shown.setdefault(key, (old, new))
    if a.title != b.title:
        for old, new in _swapped_words(a.title, b.title):
            if (old.casefold(), new.casefold()) in swaps:
                swaps[old.casefold(), new.casefold()] += 1
    return swaps, shown


def _unswapped_texts(
    pairs: list[tuple[Step, Step]], old: str, shown: dict[tuple[str, str], tuple[str, str]], new: str, times: int
) -> Iterator[Left]:
    pattern = re.compile(rf"(?<!\w){re.escape(old)}(?!\w)", re.IGNORECASE)
    for one, two in pairs:
        mine = dict(_texts_of_step(two))
        for what, text in _texts_of_step(one):
            if mine.get(what) == text and pattern.search(text):
                yield Left(f"{quote_name(two.title)} ({what})", text, *shown[old, new], times, two.origin)


# -- prompts ------------------------------------------------------------------------------------------------------


def _prompt_clones(flows: list[Flow], told: set[tuple[str, str]]) -> Iterator[Clone]:
    """Prompts that are nearly the same in steps that are no copies of each other."""
    held = _held_prompts(flows)
    if len(held) < 2:
        return
    bags = [{" ".join(entry) for entry in itertools.pairwise(_WORD.findall(text.casefold()))} for _, _, text in held]
    score, _ = overlap_matrix(bags, bags)
    for item, j in zip(*((score >= PROMPTS).nonzero()), strict=True):
        (f1, s1, _), (f2, s2, _) = held[item], held[j]
        if item >= j or (_place_of_step(f1, s1), _place_of_step(f2, s2)) in told:
            continue
        first, second = (
            _part_of_flow(field, "prompt", [item.id], quote_name(item.title)) for field, item in ((f1, s1), (f2, s2))
        )
        clone = _make_clone(first, second, float(score[item, j]), told)
        yield structs.replace(clone, changes=tuple(change for change in clone.changes if change.topic == "prompt"))


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


def clone_title(clone: Clone) -> str:
    """'Two flows, 0.93 alike: ‘A’ and ‘B’'."""
    noun = {"flow": "flows", "branch": "branches", "step": "steps", "prompt": "steps with the same prompt"}[clone.sort]
    ends = [quote_name(place.title) if clone.sort == "flow" else place.title for place in (clone.a, clone.b)]
    if clone.a.flow == clone.b.flow and clone.sort != "flow":
        return f"Two {noun} in {quote_name(clone.a.flow_name)}, {clone.likeness:.2f} alike: {join_words(ends)}"
    if clone.sort != "flow":
        ends = [
            f"{name} in {quote_name(place.flow_name)}" for name, place in zip(ends, (clone.a, clone.b), strict=True)
        ]
    return f"Two {noun}, {clone.likeness:.2f} alike: {join_words(ends)}"


def left_words(left: Left) -> str:
    """'left as it was: ‘X’ (input to) still says ‘Oslo’, which became ‘Bergen’ in 3 other places'."""
    places = "1 other place" if left.times == 1 else f"{left.times} other places"
    return f"left as it was: {left.where} still says {quote_name(left.old)}, which became {quote_name(left.new)} in {places}"

# Copies: flows, branches, steps and prompts that are nearly the same. Who copies a branch changes the name of the port in
# four places and forgets the fifth; so beside where two copies differ, this says what was changed everywhere else and left
# as it was here.
"""Near-identical parts of an estate, where they differ, and what was left as in the other."""

from __future__ import annotations

import itertools
import re
from collections import Counter
from collections.abc import Iterable, Iterator
from difflib import SequenceMatcher
from typing import Literal

from msgspec import Struct, structs

from zeitbuch.core.graph.phrases import quoted
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import AI_KINDS, Flow, Link, Origin, Step
from zeitbuch.core.model.references import readable
from zeitbuch.core.model.words import joined

from .estate_changes import flow_changes
from .flow_similarity import flow_likeness
from .matching import match_steps
from .records import Change
from .similarity import assigned, overlap, own_likeness

Sort = Literal["flow", "branch", "step", "prompt"]
FLOWS, PARTS, STEPS, PROMPTS = 0.72, 0.62, 0.72, 0.8  # likeness from which two of a sort are copies
MANY = 60  # branches of the same sorts that are held against each other
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


class Twin(Struct, frozen=True):
    """Two copies: how alike (0 to 1), where they differ, what was left."""

    sort: Sort
    a: Place
    b: Place
    likeness: float
    changes: tuple[Change, ...] = ()
    left: tuple[Left, ...] = ()


class TwinsResult(Struct, frozen=True):
    """`diff --twins --format json`."""

    twins: tuple[Twin, ...]


class Unit(Struct):
    """A part that can be a copy: steps of a flow with the links among them, as a flow of its own."""

    sort: Sort
    flow: Flow
    part: Flow
    title: str

    @property
    def ids(self) -> frozenset[str]:
        return frozenset(s.id for s in self.part.steps)

    @property
    def place(self) -> Place:
        first = self.part.steps[0].origin if self.part.steps and self.sort != "flow" else self.flow.origin
        steps = () if self.sort == "flow" else tuple(s.title for s in self.part.steps)
        return Place(self.flow.id, self.flow.title, self.title, steps, first)


def _part(flow: Flow, sort: Sort, ids: Iterable[str], title: str) -> Unit:
    """Steps of a flow as a flow: links among them, ends that stand outside left out."""
    inside = set(ids)
    steps = tuple(
        structs.replace(s, scope=s.scope if s.scope in inside else None) for s in flow.steps if s.id in inside
    )
    links = tuple(k for k in flow.links if k.source in inside and k.target in inside)
    return Unit(sort, flow, Flow(id="part", steps=steps, links=links, connections=flow.connections), title)


def _branches(flow: Flow) -> Iterator[Unit]:
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

    for step in flow.steps:
        starts = [k for k in out.get(step.id, ()) if k.role in ("case", "next")]
        if len(starts) > 1:
            reach = {k.target: after(k.target) for k in starts}
            for k in starts:
                others: set[str] = set().union(*[r for t, r in reach.items() if t != k.target])
                own = reach[k.target] - others - {step.id}
                own |= {h for s in own for h in helpers.get(s, ())}
                if own:
                    yield _part(flow, "branch", own, f"the case {quoted(k.label or k.target)} of {quoted(step.title)}")
    for scope in graph.levels:
        if scope is not None:
            inside = {s.id for s in flow.steps if scope in graph.path(graph.host.get(s.id, s.id)) and s.id != scope}
            if inside:
                yield _part(flow, "branch", inside, f"what {quoted(graph.names[scope])} holds")


def _substance(step: Step) -> bool:
    """Whether a step says enough to be told from another."""
    words = sum(len(p.text.split()) for p in step.model.prompts) if step.model is not None else 0
    return words >= 8 or len(step.inputs) >= 2 or (step.kind in AI_KINDS and words > 0)


def _sorts(unit: Unit) -> Counter[str]:
    return Counter(f"{s.kind}/{s.operation}" for s in unit.part.steps)


def _alike(a: Unit, b: Unit) -> float:
    """Likeness of two parts: the mean likeness of their steps in the best pairing, unpaired ones counting nothing."""
    one, two = _sorts(a), _sorts(b)
    size = max(len(a.part.steps), len(b.part.steps))
    if sum((one & two).values()) < PARTS * size:
        return 0.0
    score = own_likeness(a.part.steps, b.part.steps, a.ids | b.ids)
    return sum(float(score[i, j]) for i, j, _ in assigned(score, 0.3)) / size


def twins(flows: Iterable[Flow]) -> list[Twin]:
    """All copies: flows first, then branches, steps and prompts that are no part of a copy already told."""
    flows = list(flows)
    found: list[Twin] = []
    told: set[tuple[str, str]] = set()  # pairs of steps (flow/id) that stand in copies already
    whole = [f for f in flows if len(f.steps) >= 3]
    if len(whole) > 1:
        score = flow_likeness(whole, whole)
        for i, j in zip(*((score >= FLOWS).nonzero()), strict=True):
            if i < j:
                a, b = (Unit("flow", f, structs.replace(f, id="part", name=""), f.title) for f in (whole[i], whole[j]))
                found.append(_twin(a, b, float(score[i, j]), told))
    branches: list[Unit] = []
    for flow in flows:
        units = [u for u in _branches(flow) if len(u.part.steps) > 1]
        branches += units
        pairs = [(_alike(a, b), a, b) for a, b in itertools.combinations(units, 2) if not a.ids & b.ids]
        found += _best(pairs, PARTS, told)
        steps = [_part(flow, "step", [s.id], quoted(s.title)) for s in flow.steps if _substance(s)]
        near = [
            (_alike(a, b), a, b)
            for a, b in itertools.combinations(steps, 2)
            if a.part.steps[0].operation == b.part.steps[0].operation
        ]
        found += _best(near, STEPS, told)
    found += _best(_across(branches), PARTS, told)
    found += _prompts(flows, told)
    return found


def _across(branches: list[Unit]) -> list[tuple[float, Unit, Unit]]:
    """Branches of different flows that hold steps of the same sorts: what was copied from flow to flow."""
    by: dict[frozenset[tuple[str, int]], list[Unit]] = {}
    for unit in branches:
        if any(_substance(s) for s in unit.part.steps):
            by.setdefault(frozenset(_sorts(unit).items()), []).append(unit)
    pairs = []
    for units in by.values():
        # What stands in a great many flows is a house pattern, no copy of one.
        for a, b in itertools.combinations(units[:MANY], 2):
            if a.flow is not b.flow:
                pairs.append((_alike(a, b), a, b))
    return pairs


def _best(pairs: list[tuple[float, Unit, Unit]], least: float, told: set[tuple[str, str]]) -> list[Twin]:
    """The most alike first; a part that lies within a pair already told is not told again."""
    found = []
    pairs = [p for p in pairs if p[0] >= least]
    pairs.sort(key=lambda p: (-len(p[1].part.steps), -p[0]))
    for value, a, b in pairs:
        if (_at(a.flow, a.part.steps[0]), _at(b.flow, b.part.steps[0])) not in told:
            found.append(_twin(a, b, value, told))
    return found


def _at(flow: Flow, step: Step) -> str:
    return f"{flow.id}/{step.id}"


def _twin(a: Unit, b: Unit, value: float, told: set[tuple[str, str]]) -> Twin:
    matching = match_steps(a.part, b.part)
    first, second = {s.id: s for s in a.part.steps}, {s.id: s for s in b.part.steps}
    for p in matching.steps:
        x, y = _at(a.flow, first[p.old]), _at(b.flow, second[p.new])
        told |= {(x, y), (y, x)}
    changes = flow_changes(a.part, b.part)
    kept = tuple(c for c in changes.changes if c.edits) if changes is not None else ()
    pairs = [(first[p.old], second[p.new]) for p in matching.steps]
    return Twin(a.sort, a.place, b.place, round(value, 2), kept, tuple(_left(a, b, pairs)))


# -- what was left ------------------------------------------------------------------------------------------------


def _texts(step: Step) -> Iterator[tuple[str, str]]:
    """The texts of a step that people write, with what each is."""
    yield "name", step.name
    if step.condition:
        yield "condition", step.condition
    if step.model is not None:
        for p in step.model.prompts:
            yield f"{p.role} prompt", readable(p.text, [r for r in p.refs if r.step is not None], {})
    for b in step.inputs:
        if isinstance(b.value, str) and not b.value.startswith("secret:"):
            yield f"input {b.name}", b.value
    if step.calls:
        yield "called flow", step.calls


def _swaps(old: str, new: str) -> Iterator[tuple[str, str]]:
    """Single words of a text that became other single words."""
    a, b = _WORD.findall(old), _WORD.findall(new)
    for tag, i1, i2, j1, j2 in SequenceMatcher(None, a, b, autojunk=False).get_opcodes():
        if tag == "replace" and i2 - i1 == j2 - j1:
            yield from zip(a[i1:i2], b[j1:j2], strict=True)


def _left(a: Unit, b: Unit, pairs: list[tuple[Step, Step]]) -> Iterator[Left]:
    """Texts of the second copy that still say what the copying changed elsewhere."""
    swaps: Counter[tuple[str, str]] = Counter()
    shown: dict[tuple[str, str], tuple[str, str]] = {}
    for one, two in pairs:
        for (_, x), (_, y) in zip(_texts(one), _texts(two), strict=False):
            for old, new in set(_swaps(x, y)):
                if len(old) > 2 and old.casefold() != new.casefold():
                    key = old.casefold(), new.casefold()
                    swaps[key] += 1
                    shown.setdefault(key, (old, new))
    if a.title != b.title:
        for old, new in _swaps(a.title, b.title):
            if (old.casefold(), new.casefold()) in swaps:
                swaps[old.casefold(), new.casefold()] += 1
    # What became several things, or what several things became, is no systematic replacement.
    olds, news = Counter(o for o, _ in swaps), Counter(n for _, n in swaps)
    for (old, new), times in sorted(swaps.items(), key=lambda s: (-s[1], s[0])):
        if times < 2 or olds[old] > 1 or news[new] > 1:
            continue
        pattern = re.compile(rf"(?<!\w){re.escape(old)}(?!\w)", re.IGNORECASE)
        for one, two in pairs:
            mine = dict(_texts(two))
            for what, text in _texts(one):
                if mine.get(what) == text and pattern.search(text):
                    yield Left(f"{quoted(two.title)} ({what})", text, *shown[old, new], times, two.origin)


# -- prompts ------------------------------------------------------------------------------------------------------


def _prompts(flows: list[Flow], told: set[tuple[str, str]]) -> Iterator[Twin]:
    """Prompts that are nearly the same in steps that are no copies of each other."""
    held = [
        (flow, step, " ".join(p.text for p in step.model.prompts))
        for flow in flows
        for step in flow.steps
        if step.model is not None
    ]
    held = [h for h in held if len(h[2].split()) >= WORDS]
    if len(held) < 2:
        return
    bags = [{" ".join(w) for w in itertools.pairwise(_WORD.findall(t.casefold()))} for _, _, t in held]
    score, _ = overlap(bags, bags)
    for i, j in zip(*((score >= PROMPTS).nonzero()), strict=True):
        (f1, s1, _), (f2, s2, _) = held[i], held[j]
        if i >= j or (_at(f1, s1), _at(f2, s2)) in told:
            continue
        a, b = (_part(f, "prompt", [s.id], quoted(s.title)) for f, s in ((f1, s1), (f2, s2)))
        twin = _twin(a, b, float(score[i, j]), told)
        yield structs.replace(twin, changes=tuple(c for c in twin.changes if c.topic == "prompt"))


def title(twin: Twin) -> str:
    """'Two flows, 0.93 alike: ‘A’ and ‘B’'."""
    noun = {"flow": "flows", "branch": "branches", "step": "steps", "prompt": "steps with the same prompt"}[twin.sort]
    ends = [quoted(p.title) if twin.sort == "flow" else p.title for p in (twin.a, twin.b)]
    if twin.a.flow == twin.b.flow and twin.sort != "flow":
        return f"Two {noun} in {quoted(twin.a.flow_name)}, {twin.likeness:.2f} alike: {joined(ends)}"
    if twin.sort != "flow":
        ends = [f"{e} in {quoted(p.flow_name)}" for e, p in zip(ends, (twin.a, twin.b), strict=True)]
    return f"Two {noun}, {twin.likeness:.2f} alike: {joined(ends)}"


def left_words(left: Left) -> str:
    """'left as it was: ‘X’ (input to) still says ‘Oslo’, which became ‘Bergen’ in 3 other places'."""
    places = "1 other place" if left.times == 1 else f"{left.times} other places"
    return f"left as it was: {left.where} still says {quoted(left.old)}, which became {quoted(left.new)} in {places}"

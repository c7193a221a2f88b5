# A step that runs only where a condition of its own holds is, for all who count and explain, a decision before the step: one case leads
# to it, the other to what comes behind it.
"""Decisions before steps that have a condition of their own."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, NamedTuple

import msgspec
from msgspec import structs

from zeitbuch.core.graph.reaching import reached_from
from zeitbuch.core.model.outcomes import deciding_steps, is_inside
from zeitbuch.core.model.records import Flow, Link, Step
from zeitbuch.readers.input.pointers import escape_key

from .paths import Getter, as_text, is_words, make_getter, path_keys
from .placeholders import Placeholders
from .rules import Unmet

if TYPE_CHECKING:
    from .draft import Draft

OWN_CONDITIONS = {"own_condition": True, "skip_condition": False}  # field -> whether the step runs where it holds
_ONWARD = ("next", "case")  # roles of links that a run goes on by
_PLAIN = {True: True, False: False, "true": True, "false": False}


class GateRule(NamedTuple):
    """Where the own condition of a step may stand; ``runs``: whether the step runs where it holds, or where it does not; ``unless_cases``: it
    is what the step decides by where that has cases."""

    runs: bool
    ways: tuple[tuple[tuple[str, ...], Getter], ...]
    unmet: Unmet
    unless_cases: bool = False


class Gate(NamedTuple):
    """An own condition of one step: its text, or ``plain`` that it is always or never so; ``word`` is the builder's own for it."""

    rule: GateRule
    condition: str
    plain: bool | None
    word: str
    pointer: str


def make_gate_rule(name: str, paths: str | list[str], unmet: Unmet | None) -> GateRule:
    """The rule for one field of ``OWN_CONDITIONS``, or for the condition of a step that may decide by it."""
    places = [paths] if isinstance(paths, str) else paths
    ways = tuple((path_keys(path), make_getter(path)) for path in places if path)
    return GateRule(OWN_CONDITIONS.get(name, True), ways, unmet or "continue", name not in OWN_CONDITIONS)


def find_gates(rules: list[GateRule], raw: dict[str, Any], pointer: str) -> list[Gate]:
    """The own conditions of a step as written."""
    found = []
    for rule in rules:
        keys, value = next(((keys, value) for keys, get in rule.ways if not _is_empty(value := get(raw))), ((), None))
        if keys:
            place = pointer + "".join(f"/{escape_key(key)}" for key in keys)
            found.append(Gate(rule, spell_condition(value), _plain_of(value), keys[-1], place))
    return found


def _is_empty(value: Any) -> bool:
    return value is None or (type(value) is str and not value.strip()) or value in ([], {})


def spell_condition(value: Any) -> str:
    """A condition as text; an object or a list of objects as JSON."""
    return as_text(value) if is_words(value) else msgspec.json.encode(value).decode()


def _plain_of(value: Any) -> bool | None:
    return _PLAIN.get(value.strip().lower() if type(value) is str else value) if type(value) in (str, bool) else None


def add_gates(draft: Draft, places: Placeholders, outline: bool = False) -> None:
    """Puts a decision before each step of the draft that has an own condition. What is passed over goes on where the step leads to; of a
    step with cases where all of them meet again, and where they never do it ends. An ``outline`` holds no conditions."""
    work = _Gating(draft, places, outline)
    draft.steps = [made for step in draft.steps for made in work.with_gates(step)]
    draft.links = [*map(work.through_door, draft.links), *work.inward, *map(work.through_door, work.around)]


class _Gating:
    """The decisions put before the steps of a flow so far, and the links that they need."""

    def __init__(self, draft: Draft, places: Placeholders, outline: bool) -> None:
        self.draft, self.places, self.outline = draft, places, outline
        self.leaving: dict[str, list[Link]] = {}
        for link in draft.links:
            self.leaving.setdefault(link.source, []).append(link)
        self.onward = {
            source: [link.target for link in links if link.role in _ONWARD] for source, links in self.leaving.items()
        }
        self.deciding = deciding_steps(Flow(id="", steps=tuple(draft.steps), links=tuple(draft.links)))
        self.helpers = {link.source for link in draft.links if link.role == "attach"}
        self.scopes = {step.id: step.scope for step in draft.steps}
        self.taken = {*self.scopes, *(trigger.id for trigger in draft.triggers)}
        self.around: list[Link] = []
        self.inward: list[Link] = []
        self.doors: dict[str, str] = {}  # step -> the first decision before it

    def with_gates(self, step: Step) -> list[Step]:
        """The step behind the decisions whether it runs."""
        gates = self._own_gates(step.id)
        if step.id in self.helpers:  # whoever uses it decides when
            self.draft.lost += [{f"{gate.word} of {step.id}": gate.condition} for gate in gates]
            return [step]
        if any(gate.rule.unless_cases for gate in gates):
            step = structs.replace(step, condition=None, refs=())
        if any(gate.plain is not None and gate.plain != gate.rule.runs for gate in gates):
            step = structs.replace(step, enabled=False)
        asked = [gate for gate in gates if gate.plain is None]
        if not asked:
            return [step]
        keys = [free_id(f"{step.id}.{gate.word}", self.taken) for gate in asked]
        self.doors[step.id] = keys[0]
        self._link_gates(step, asked, keys)
        made = [self._gate_step(key, step, gate) for gate, key in zip(asked, keys, strict=True)]
        return [*made, structs.replace(step, join=None)]  # what comes meets at the first decision

    def _gate_step(self, key: str, step: Step, gate: Gate) -> Step:
        if self.outline:
            return Step(id=key, kind="decide", scope=step.scope)
        return Step(
            id=key,
            kind="decide",
            name=f"{step.title}?",
            operation=gate.word,
            scope=step.scope,
            condition=gate.condition,
            refs=self.places.in_text(gate.condition, self.draft.names),
            join=step.join,
            per_item=step.per_item,
            origin=self.draft.origin_at(gate.pointer),
        )

    def _own_gates(self, step: str) -> list[Gate]:
        """The conditions of a step that are its own: those of one that decides are not, if it may decide by them."""
        decides = step in self.deciding
        return [gate for gate in self.draft.gates.pop(step, []) if not (decides and gate.rule.unless_cases)]

    def _places_behind(self, step: str) -> list[str]:
        """Where a pass goes on that passes a step over."""
        ways = [link for link in self.leaving.get(step, ()) if _leads_on(link, self.scopes)]
        plain = [link.target for link in ways if link.role == "next" and not link.after]
        cases = [list(reached_from([link.target], self.onward)) for link in ways if link.role == "case"]
        if plain or not cases:
            return list(dict.fromkeys(plain))
        return [place for place in cases[0] if all(place in others for others in cases)][:1]

    def _link_gates(self, step: Step, asked: list[Gate], keys: list[str]) -> None:
        behind = self._places_behind(step.id)
        for gate, key, target in zip(asked, keys, [*keys[1:], step.id], strict=True):
            runs, passes = ("yes", "no") if gate.rule.runs else ("no", "yes")
            self.inward.append(_case(key, target, runs))
            if gate.rule.unmet == "continue":
                self.around += [_case(key, other, passes) for other in behind]

    def through_door(self, link: Link) -> Link:
        """The link, led to the decision before the step it leads to. What is in a step leads to the step itself."""
        door = self.doors.get(link.target)
        if door is None or link.role == "attach" or is_inside(link.source, link.target, self.scopes):
            return link
        return structs.replace(link, target=door)


def free_id(key: str, taken: set[str]) -> str:
    """The id, or where a step has it the id with a number, which is then taken as well."""
    made, number = key, 2
    while made in taken:
        made, number = f"{key}~{number}", number + 1
    taken.add(made)
    return made


def _case(source: str, target: str, label: str) -> Link:
    """``yes`` where the condition holds, else ``no``."""
    return Link(source=source, target=target, role="case", label=label, otherwise=label == "no")


def _leads_on(link: Link, scopes: dict[str, str | None]) -> bool:
    onward = link.role in _ONWARD and link.target != link.source
    return onward and not is_inside(link.target, link.source, scopes)

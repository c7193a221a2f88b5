# What is known of a flow while it is read: its parts so far, what could not be used, and what finds no place.
"""The parts of a flow while it is being read."""

from __future__ import annotations

from collections.abc import Iterable
from textwrap import shorten
from typing import Any, NamedTuple

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Link, Origin, Schedule, Step, Trigger
from zeitbuch.readers.input.link_builder import Loose
from zeitbuch.readers.input.pointers import escape_key

from .field_checks import Refused
from .gates import Gate
from .own_rounds import Rounds
from .places import Places


class Case(NamedTuple):
    """One case of a decision, and what of it stands in the export."""

    label: str
    condition: str
    written: dict[str, str]


class Draft:
    """The parts of one flow while it is being read."""

    def __init__(self, base: Origin, pointer: str, places: Places | None = None) -> None:
        self.places = places
        self.source = base.source
        self.member = base.member
        self.pointer = pointer
        self.names: dict[str, str] = {}
        self.first = ""  # the step that the flow names as its first
        self.steps: list[Step] = []
        self.triggers: list[Trigger] = []
        self.links: list[Link] = []
        self.cases: dict[str, dict[str, Case]] = {}
        self.taken_cases: set[tuple[str, str]] = set()  # step and outlet of the cases that links take
        self.problems: list[Problem] = []
        self.bodies: list[Link] = []  # ways into the bodies of loops
        self.gates: dict[str, list[Gate]] = {}  # the own conditions of steps
        self.rounds: dict[str, Rounds] = {}  # how steps repeat themselves
        self.clocks: dict[str, list[Schedule]] = {}  # of triggers that have several
        self.tools: dict[str, list[str]] = {}  # the names of the tools of agents
        self.lost: list[dict[str, Any]] = []
        self.noise: dict[str, Any] = {}  # what the dialect says carries no meaning, by its place
        self.missed = 0  # values of steps that were only counted as unread
        self.rest: dict[str, Any] | None = None  # of a flow that is its own trigger: what that does not read of it

    def keep_gates(self, step_id: str, gates: list[Gate]) -> None:
        """The own conditions of a step. Of two steps with one id the first keeps its own."""
        if step_id not in self.gates:
            self.gates[step_id] = gates
        else:
            self.lost += [{f"{gate.word} of {step_id}": gate.condition} for gate in gates]

    def keep_clocks(self, trigger_id: str, clocks: list[Schedule]) -> None:
        """Several schedules of one trigger."""
        if clocks:
            self.clocks[trigger_id] = clocks

    def keep_tools(self, step_id: str, names: list[str]) -> None:
        """The tools that an agent names. Of two steps with one id the first keeps its own."""
        if names and step_id in self.tools:
            self.lost.append({f"tools of {step_id}": names})
        elif names:
            self.tools[step_id] = names

    def keep_rounds(self, step_id: str, rounds: Rounds | None) -> None:
        """How a step repeats itself. Of two steps with one id the first keeps its own."""
        if rounds is not None and step_id in self.rounds:
            self.lose_rounds(step_id, rounds)
        elif rounds is not None:
            self.rounds[step_id] = rounds

    def lose_rounds(self, step_id: str, rounds: Rounds) -> None:
        """What says that a step repeats itself finds no place."""
        repeat = rounds.repeat
        said = {"items": repeat.items, "count": repeat.count, "until": repeat.until, "cap": repeat.cap}
        self.lost.append(
            {f"{rounds.word} of {step_id}": {key: value for key, value in said.items() if value is not None}}
        )

    def step_named(self, name: str) -> str | None:
        """The id of the step with this id or name."""
        return name if any(step.id == name for step in self.steps) else self.names.get(name)

    def case_of(self, step_id: str, outlet: str) -> Case | None:
        """The case that an outlet of a step stands for."""
        cases = self.cases.get(step_id)
        if not cases:
            return None
        key = outlet if outlet in cases else outlet.rpartition("/")[2]
        self.taken_cases.add((step_id, key))
        return cases.get(key)

    def keep_cases(self, step_id: str, cases: dict[str, Case]) -> None:
        """The cases of a step. Of two steps with one id links leave the first: the cases of the other lead nowhere."""
        if step_id not in self.cases:
            self.cases[step_id] = cases
        else:
            self.lost += [{f"case of {step_id}": case.written} for case in cases.values() if case.written]

    def tell_idle_cases(self) -> None:
        """Cases that no link takes lead nowhere: they are lost."""
        for step_id, cases in self.cases.items():
            idle = [case.written for outlet, case in cases.items() if (step_id, outlet) not in self.taken_cases]
            self.lost += [{f"case of {step_id}": written} for written in idle if written]

    def tell_loose(self, loose: Iterable[Loose]) -> None:
        """Cases that arrive nowhere, because nothing follows where they end: no link holds them."""
        for arrow in loose:
            said = {"label": arrow.label, "condition": arrow.condition, "otherwise": arrow.otherwise}
            if arrow.role == "case" and any(said.values()):
                self.lost.append({f"case of {arrow.source}": {key: value for key, value in said.items() if value}})

    def origin_at(self, pointer: str) -> Origin:
        """The place in the file of what stands at a pointer within the flow."""
        place = self.pointer + pointer
        return Origin(self.source, place if self.places is None else self.places.former_place(place), self.member)

    def tell_refused(self, refused: Iterable[Refused], whose: str, pointer: str) -> None:
        """Says once, with its place, that a value could not be used. What another place made idle is only unread."""
        for one in refused:
            if one.expected:
                message = (
                    f"expected {one.expected} at `{'.'.join(one.keys)}` {whose}, found {shorten(repr(one.value), 60)}"
                )
                hint = "the value is kept under unread parts; if the builder means something else by it, mend that path in the dialect"
                place = pointer + "".join(f"/{escape_key(key)}" for key in one.keys)
                self.problems.append(Problem("value-unusable", "finding", message, self.origin_at(place), hint))

    def add_problem(self, code: str, message: str, hint: str, pointer: str) -> None:
        self.problems.append(Problem(code, "finding", message, self.origin_at(pointer), hint))

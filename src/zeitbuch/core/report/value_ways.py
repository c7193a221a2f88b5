# Where what a step takes comes from, and where what it makes goes, from step to step and from flow to flow: through calls, and through what one flow writes and
# another reads. That two flows use one connection does not say that they use the same data in it: such ways are perhaps ones.
"""Ways of values over the flows of an estate."""

from __future__ import annotations

from collections.abc import Iterable
from functools import cached_property
from typing import Literal, NamedTuple

from zeitbuch.core.graph.flow_calls import Call, calls_of, service_name, stores_of, titles_of
from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model.records import Estate, Flow, Step, Trigger
from zeitbuch.core.model.words import join_words
from zeitbuch.core.passes.reachability import Reachability, Read
from zeitbuch.core.passes.steps_that_run import steps_that_may_run

from .blocks import Block, Heading, Outline, Page, Paragraph
from .sentences import when_words

Direction = Literal["upstream", "downstream"]
MOST_LINES = 300
_HANDS_OVER = frozenset({"subflow", "tool", "webhook"})


class Place(NamedTuple):
    """A step or trigger of a flow."""

    flow: str
    id: str


class _Flow:
    """A flow with what its steps take."""

    def __init__(self, flow: Flow, titles: dict[str, str]) -> None:
        self.flow, self.graph = flow, Graph(flow, titles)

    @cached_property
    def reads(self) -> list[Read]:
        return Reachability(self.graph).reads

    @cached_property
    def running(self) -> frozenset[str]:
        return steps_that_may_run(self.graph)

    def last_steps(self) -> list[Step]:
        """The steps behind which nothing comes, that do more than end."""
        graph = self.graph
        return [
            step
            for step in graph.in_order()
            if step.id not in graph.host
            and step.kind not in ("note", "end")
            and not any(link.role != "attach" for link in graph.leaving.get(step.id, ()))
        ]


class ValueWays:
    """Follows values through an estate, each place once."""

    def __init__(self, estate: Estate) -> None:
        self.titles = titles_of(estate.flows)
        self.flows = {flow.id: _Flow(flow, self.titles) for flow in reversed(estate.flows)}
        self.handed = [call for call in calls_of(estate) if call.how in _HANDS_OVER and call.target]
        self.stores = stores_of(estate)

    def page(self, flow: Flow, step: Step, directions: Iterable[Direction]) -> Page:
        """The ways from and to a step, as a page."""
        if self.flows[flow.id].flow is not flow:  # of two with one id the one that was asked for
            self.flows[flow.id] = _Flow(flow, self.titles)
        start = Place(flow.id, step.id)
        blocks: list[Block] = [Heading(1, f"{flow.title}: {self._name(start)}")]
        for direction in directions:
            lines = self.lines(start, direction)
            title = "Where what it takes comes from" if direction == "upstream" else "Where what it makes goes"
            nothing = (
                "It takes nothing from elsewhere."
                if direction == "upstream"
                else "Nothing takes what it makes, as far as the exports say."
            )
            blocks += [Heading(2, title), Outline(tuple(lines[:MOST_LINES])) if lines else Paragraph(nothing)]
            if len(lines) > MOST_LINES:
                blocks.append(Paragraph(f"{len(lines) - MOST_LINES:,} more are not shown.", quiet=True))
        return Page("explain", step.title, tuple(blocks))

    def lines(self, start: Place, direction: Direction) -> list[tuple[int, str]]:
        """The way in lines with their depth; a place that was told above is only named."""
        found: list[tuple[int, str]] = []
        seen = {start}
        further = self._before if direction == "upstream" else self._behind
        work = [(0, words, place) for words, place in reversed(further(start))]
        while work and len(found) <= 10 * MOST_LINES:
            depth, words, place = work.pop()
            again = place is not None and place in seen
            found.append((depth, f"{words} (told above)" if again else words))
            if place is not None and not again:
                seen.add(place)
                work += [(depth + 1, said, there) for said, there in reversed(further(place))]
        return found

    def _name(self, place: Place) -> str:
        graph = self.flows[place.flow].graph
        title = quote_name(graph.names.get(place.id, place.id))
        return f"{graph.numbers.get(place.id, '')} {title}".strip()

    def _far(self, place: Place) -> str:
        """A place of another flow."""
        return f"{self._name(place)} of the flow {quote_name(self.flows[place.flow].flow.title)}"

    def _idle(self, flow: str, step: Step) -> str:
        """What is said of a step that is switched off, or that no run comes to."""
        return "" if step.id in self.flows[flow].running else ", but not as it stands"

    # -- upstream --------------------------------------------------------------------------------------------------

    def _before(self, place: Place) -> list[tuple[str, Place | None]]:
        """What a place has its values from."""
        here = self.flows[place.flow]
        trigger = here.graph.triggers.get(place.id)
        if trigger is not None:
            return self._before_trigger(place.flow, trigger)
        takers: dict[tuple[str, Place | None], list[str]] = {}
        for read in here.reads:
            if read.reader == place.id:
                takers.setdefault(self._taken(place.flow, read), []).append(read.where)
        found: dict[tuple[str, Place | None], None] = {}
        for (what, there), where in takers.items():
            wheres = list(dict.fromkeys(where))
            found[f"{join_words(wheres)} {'takes' if len(wheres) == 1 else 'take'} {what}", there] = None
        step = here.graph.steps.get(place.id)
        if step is not None:
            found |= dict.fromkeys(self._from_outside(place.flow, step))
        return list(found)

    def _taken(self, flow: str, read: Read) -> tuple[str, Place | None]:
        what = f"{read.ref.path} of " if read.ref.path else ""
        if read.trust == "missing":
            return f"{what}{quote_name(read.source)}, which is no step of the flow", None
        place = Place(flow, read.source)
        return f"{what}{self._name(place)}", place

    def _from_outside(self, flow: str, step: Step) -> list[tuple[str, Place | None]]:
        """What a step reads from a store, and what a flow that it calls gives back."""
        found: list[tuple[str, Place | None]] = []
        own = self.flows[flow].flow
        if step.effect == "read" and step.connection:
            name = service_name(own, step.connection)
            found.append((f"it reads from {quote_name(name)}{self._idle(flow, step)}", None))
            for call in self.stores:
                if call.target == flow and call.name.casefold() == name.casefold():
                    found += [
                        (f"perhaps written there by {self._far(Place(call.source, key))}", Place(call.source, key))
                        for key in call.steps
                    ]
        for call in self._calls_at(flow, step):
            ends = self.flows[call.target].last_steps()
            found += [
                (f"perhaps given back by {self._far(Place(call.target, one.id))}", Place(call.target, one.id))
                for one in ends
            ]
        if step.kind == "agent":
            tools = [Place(flow, one.id) for one in self.flows[flow].graph.used_by(step.id) if one.kind != "model"]
            found += [(f"it may use {self._name(one)}", one) for one in tools]
        if step.kind in ("model", "agent") and step.id in self.flows[flow].running:
            found.append(("a model words it", None))
        return found

    def _calls_at(self, flow: str, step: Step) -> list[Call]:
        return [
            call for call in self.handed if call.source == flow and step.id in call.steps and call.target in self.flows
        ]

    def _before_trigger(self, flow: str, trigger: Trigger) -> list[tuple[str, Place | None]]:
        """Who starts the flow, and with what."""
        found: list[tuple[str, Place | None]] = []
        if trigger.kind in ("call", "tool-call", "webhook"):
            for call in self.handed:
                if call.target == flow and call.source in self.flows:
                    found += [
                        (f"handed over by {self._far(Place(call.source, key))}", Place(call.source, key))
                        for key in call.steps
                    ]
        if not found or trigger.kind == "webhook":
            when = when_words(trigger)
            found.append((f"from outside: {when[:1].lower()}{when[1:]}", None))
        return found

    # -- downstream ------------------------------------------------------------------------------------------------

    def _behind(self, place: Place) -> list[tuple[str, Place | None]]:
        """What takes the values of a place."""
        here = self.flows[place.flow]
        by_reader: dict[str, list[str]] = {}
        for read in here.reads:
            if read.source == place.id:
                what = f" ({read.ref.path})" if read.ref.path else ""
                by_reader.setdefault(read.reader, []).append(f"{read.where}{what}")
        found: list[tuple[str, Place | None]] = [
            (
                f"{self._name(Place(place.flow, key))} takes it: {join_words(list(dict.fromkeys(where)))}",
                Place(place.flow, key),
            )
            for key, where in by_reader.items()
        ]
        step = here.graph.steps.get(place.id)
        if step is not None:
            found += self._to_outside(place.flow, step)
        return found

    def _to_outside(self, flow: str, step: Step) -> list[tuple[str, Place | None]]:
        """What a step writes to a store, hands to another flow, or gives back to a caller."""
        found: list[tuple[str, Place | None]] = []
        here = self.flows[flow]
        name = service_name(here.flow, step.connection) if step.connection else ""
        if step.effect in ("write", "send", "spend", "delete"):
            verb = {
                "write": "is written to",
                "send": "is sent through",
                "spend": "is spent through",
                "delete": "says what is deleted in",
            }
            found.append(
                (
                    (
                        f"{verb[step.effect]} {quote_name(name)}"
                        if name
                        else f"leaves the flow at {self._name(Place(flow, step.id))}"
                    )
                    + self._idle(flow, step),
                    None,
                )
            )
        for call in self.stores:
            if call.source == flow and step.id in call.steps and call.target in self.flows:
                found += [
                    (f"perhaps read there by {self._far(one)}", one) for one in self._readers(call.target, call.name)
                ]
        for call in self._calls_at(flow, step):
            triggers = [
                one for one in self.flows[call.target].flow.triggers if one.kind in ("call", "tool-call", "webhook")
            ]
            found += [
                (f"is handed to {self._far(Place(call.target, one.id))}", Place(call.target, one.id))
                for one in triggers
            ]
            found += (
                [] if triggers else [(f"is handed to the flow {quote_name(self.flows[call.target].flow.title)}", None)]
            )
        if step in here.last_steps():
            for call in self.handed:
                if call.target == flow and call.source in self.flows and call.how != "webhook":
                    found += [
                        (f"perhaps given back to {self._far(Place(call.source, key))}", Place(call.source, key))
                        for key in call.steps
                    ]
        return found

    def _readers(self, flow: str, name: str) -> list[Place]:
        own = self.flows[flow].flow
        return [
            Place(flow, step.id)
            for step in own.steps
            if step.effect == "read"
            and step.connection
            and service_name(own, step.connection).casefold() == name.casefold()
        ]

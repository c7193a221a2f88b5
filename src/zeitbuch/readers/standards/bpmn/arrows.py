# Sequence flows, events on the borders of activities, and the starts that BPMN leaves unsaid, as links.
"""Arrows of a BPMN process as links."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from msgspec import structs

from zeitbuch.core.model import bpmn_terms as E
from zeitbuch.core.model.records import Link, LinkRole, Outcome, Step, Trigger
from zeitbuch.readers.input.clock_texts import duration_of
from zeitbuch.readers.input.xml_tree import Element

from .definitions import Definitions
from .details import definitions_of, event_word, local_name, take_child, take_name, take_note
from .extension_records import OwnRecords
from .process_index import ProcessIndex

GOES_ON = " (goes on)"  # behind the label of an event that does not interrupt its activity
_FAILS = ("errorEventDefinition", "cancelEventDefinition")


class ArrowReader:
    """Reads the arrows of one process, once its elements are read."""

    def __init__(self, process: Element, definitions: Definitions, index: ProcessIndex, own: OwnRecords) -> None:
        self.process = process
        self.definitions = definitions
        self.index = index
        self.own = own
        self.kinds: dict[str, str] = {}

    def links_of(self, steps: Iterable[Step], entries: set[str]) -> list[Link]:
        """All links but those from starts into event sub-processes; what leaves an ``entries`` start is its way in."""
        self.kinds = {step.id: step.kind for step in steps}
        found: list[Link] = []
        for element in self.process.walk_tree():
            if element.tag == "sequenceFlow":
                found += self._read_sequence(element, entries)
            elif element.tag == "association":
                found += self._read_association(element)
        for element in self.process.walk_tree():
            if element.tag == "boundaryEvent" and element.attribute("id") not in self.own.routes:
                found.append(self._read_border(element))
        return found

    def _end_of(self, reference: str) -> str:
        """The step that stands for an element as the end of a link."""
        name = local_name(reference)
        name = self.own.routes.get(name, name)
        return self.index.wrapped.get(name) or self.own.ids.get(name, name)

    def _read_sequence(self, element: Element, entries: set[str]) -> list[Link]:
        source, target = (self._end_of(element.attribute(name)) for name in ("sourceRef", "targetRef"))
        if source in entries:
            if target in self.kinds and self.index.incoming.get(local_name(element.attribute("targetRef"))) == 1:
                # The entry of an event sub-process: what nothing else leads to from within.
                element.noise("id")
                element.mark("sourceRef", "targetRef")
            return []
        element.mark("sourceRef", "targetRef")
        key, label, note = element.take("id"), take_name(element), take_note(element)
        element.expect("isImmediate", "true", "false")
        words = take_child(element, "conditionExpression")
        default = key in self.index.defaults
        role: LinkRole = "case" if self.kinds.get(source) == "decide" or words or default else "next"
        read = Link(
            source=source, target=target, role=role, label=label or ("otherwise" if default else ""), condition=words, note=note,
            otherwise=default, id=key, origin=self.definitions.origin_of(element),
        )  # fmt: skip
        return [self.own.link_of(element, read)]

    def _read_association(self, element: Element) -> list[Link]:
        if not self.own.stands_for(element):
            return []  # of a note, or to a compensation: told there, or unread
        element.noise("id")
        read = Link(
            source=self._end_of(element.take("sourceRef")), target=self._end_of(element.take("targetRef")), role="attach",
            origin=self.definitions.origin_of(element),
        )  # fmt: skip
        return [self.own.link_of(element, read)]

    def _read_border(self, event: Element) -> Link:
        """The arrow from an activity to an event on its border."""
        definitions = definitions_of(event, self.definitions)
        kind = definitions[0].tag if definitions else ""
        role: LinkRole = "error" if kind in (*_FAILS, "timerEventDefinition") else "case"
        after: tuple[Outcome, ...] = ()
        if kind in _FAILS:
            after = ("failure",)
        elif kind == "timerEventDefinition":
            after = ("timeout",)
        going_on = event.attribute("cancelActivity") == "false"
        name = " ".join(event.attribute("name").split())
        label = (name or event_word(kind)) + (GOES_ON if going_on else "")
        attached = event.attribute("attachedToRef")
        if local_name(attached) not in self.definitions.elements:
            self.definitions.tell_missing(local_name(attached), event)
        return Link(
            source=self._end_of(attached), target=self._end_of(event.attribute("id")), role=role, label=label, after=after,
            origin=self.definitions.origin_of(event),
        )  # fmt: skip


def with_limits(steps: Sequence[Step], links: Iterable[Link]) -> list[Step]:
    """The steps; those with a timer on their border that interrupts them have its duration as their time limit, the shortest of several (OMG
    formal/2011-01-03, clause 10.4.4 "Intermediate Event", attached to an activity boundary). One that lets them go on is a reminder."""
    durations = {step.id: _timer_durations(step) for step in steps}
    limits: dict[str, list[float]] = {}
    for link in links:
        if link.after == ("timeout",) and not link.label.endswith(GOES_ON):
            limits.setdefault(link.source, []).extend(durations.get(link.target, ()))
    return [
        structs.replace(step, timeout=min(limits[step.id])) if step.timeout is None and limits.get(step.id) else step
        for step in steps
    ]


def _timer_durations(step: Step) -> list[float]:
    """The seconds of the timer that an event is; none where an expression says them."""
    texts = [one.value for one in step.inputs if one.name == "timeDuration" and isinstance(one.value, str)]
    return [seconds for text in texts if (seconds := duration_of(text)) is not None]


def implicit_start(key: str, called: bool, steps: list[Step], links: list[Link]) -> tuple[Trigger, list[Link]]:
    """The trigger of a process without start events, and its arrows: what nothing leads to begins when the process does
    (OMG formal/2011-01-03, clause 10.3 "Activities": without incoming sequence flows)."""
    reached = {link.target for link in links}
    roots = [
        step
        for step in steps
        if step.scope is None
        and step.id not in reached
        and step.kind not in ("note", "group")
        and not step.operation.startswith(("boundaryEvent", E.EVENT_SUBPROCESS))
    ]
    word = "called" if called else "start"
    trigger = Trigger(
        id=f"{key}.{word}",
        kind="call" if called else "manual",
        operation="calledElement" if called else "no start event",
    )
    return trigger, [Link(source=trigger.id, target=step.id, origin=step.origin) for step in roots]

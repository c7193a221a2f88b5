# BPMN 2.0 XML (OMG formal/2011-01-03) -> flows, one for each process. Every flow element becomes a step or a trigger; what has
# no place in the model stays unread, by construction: an element remembers what was taken of it.
"""Reading BPMN 2.0."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from msgspec import structs

from zeitbuch.core.model import bpmn_terms as E
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Connection, Content, Flow, Origin, Variable
from zeitbuch.readers.input.limits import count_values
from zeitbuch.readers.input.xml_tree import Element, noise_below

from .arrows import ArrowReader, implicit_start, with_limits
from .definitions import Definitions
from .details import local_name, take_name, take_note
from .elements import ElementReader
from .extension_records import OwnRecords
from .process_index import ProcessIndex


def recognises(document: Any) -> bool:
    """Whether a document is BPMN: its root is `definitions` of the BPMN model, under any prefix."""
    return isinstance(document, Element) and document.tag == "definitions" and document.space == E.MODEL_SPACE


def flows(document: Any, base: Origin, count: int) -> Iterator[tuple[Flow, list[Problem]]]:
    """One flow for each process of the definitions. What stands around them and was not understood goes with the first."""
    definitions = Definitions(document, base)
    processes = document.children_with("process")
    shares = [_count_below(process) for process in processes]
    read = [ProcessReader(definitions, process).read_flow() for process in processes]
    around = document.rest()
    for place, (flow, problems) in enumerate(read):
        values, unread = shares[place], flow.content.unread
        if not place:
            values += count - sum(shares)
            unread += count_values(around) if around else 0
            flow = structs.replace(flow, around=around, noise=noise_below(document))
            problems += definitions.problems
        yield structs.replace(flow, content=Content(values=values, unread=unread)), problems


def _count_below(element: Element) -> int:
    return sum(len(held.attributes) + len(held.foreign) + bool(held.text.strip()) for held in element.walk_tree())


class ProcessReader:
    """Reads one process."""

    def __init__(self, definitions: Definitions, process: Element) -> None:
        self.definitions = definitions
        self.process = process
        self.own = OwnRecords(process, definitions.names)
        self.index = ProcessIndex(process, definitions, self.own)
        self.elements = ElementReader(process, definitions, self.index, self.own)
        self.arrows = ArrowReader(process, definitions, self.index, self.own)

    def read_flow(self) -> tuple[Flow, list[Problem]]:
        """The process as a flow; of the content only what is unread is counted."""
        process, definitions = self.process, self.definitions
        key = process.take("id") or process.attribute("name") or "process"
        elements, arrows = self.elements, self.arrows
        elements.read_container(process, None)
        links = [*elements.links, *arrows.links_of(elements.steps, elements.entries)]
        steps, triggers = with_limits(elements.steps, links), elements.triggers
        if not triggers:
            start, ways = implicit_start(key, key in definitions.called, steps, links)
            triggers, links = [start], [*ways, *links]
        pool = definitions.participants.get(key)
        name, note = take_name(process), take_note(process)
        title = take_name(pool) if pool is not None else ""
        connections, variables = self._read_data()
        inputs = definitions.messages_at(pool.attribute("id")) if pool is not None else []
        variables += [
            Variable(name=f"message {binding.value}", description=binding.description or "") for binding in inputs
        ]
        flow = Flow(
            id=key, name=name or title, description=note, folder=title, triggers=tuple(triggers), steps=tuple(steps),
            links=tuple(links), connections=connections, variables=tuple(variables), format="bpmn",
            origin=definitions.origin_of(process),
        )  # fmt: skip
        flow = self.own.flow_of(flow)
        return self._with_unread(flow), [*self.own.problems]

    def _read_data(self) -> tuple[tuple[Connection, ...], list[Variable]]:
        """Stores as connections; data and properties of the process, and what it says of how it may run, as variables."""
        stores: list[Connection] = []
        variables: list[Variable] = []
        named: set[str] = set()
        for name in E.PROCESS_ATTRIBUTES:
            if self.process.attribute(name):
                variables.append(Variable(name=name, value=self.process.take(name)))
        for element in self.process.walk_tree():
            if element.tag == "dataStoreReference":
                store = self.definitions.shared.get(local_name(element.take("dataStoreRef")))
                about = take_name(store) if store is not None else ""
                stores.append(
                    Connection(id=element.take("id"), name=take_name(element), service="data store", account=about)
                )
            elif element.tag in ("dataObjectReference", "property"):
                element.noise("id")
                held = local_name(element.take("dataObjectRef"))
                if held not in self.definitions.elements:
                    self.definitions.tell_missing(held, element)
                state = element.first_child("dataState")
                words = take_name(state) if state is not None else ""
                variables.append(Variable(name=take_name(element) or element.attribute("id"), description=words))
                named.add(variables[-1].name)
            elif element.tag == "dataObject":
                element.noise("id")
                name = take_name(element)
                variables += [Variable(name=name)] if name and name not in named else []
        return tuple(stores), variables

    def _with_unread(self, flow: Flow) -> Flow:
        """The flow with what was not taken: of a step with its step, of all else with the flow."""
        rests: dict[str, dict[str, Any]] = {}
        for key, element in reversed(self.elements.owners):
            left = element.rest()
            element.close()
            if left:
                rests[key] = {**rests.get(key, {}), **left}
        steps = tuple(
            structs.replace(step, unread={**step.unread, **rests[step.id]}) if step.id in rests else step
            for step in flow.steps
        )
        triggers = tuple(
            structs.replace(trigger, unread={**trigger.unread, **rests[trigger.id]}) if trigger.id in rests else trigger
            for trigger in flow.triggers
        )
        left = self.process.rest()
        self.process.close()
        missed = [left, *rests.values()]
        content = Content(unread=sum(count_values(one) for one in missed if one))
        return structs.replace(flow, steps=steps, triggers=triggers, unread={**flow.unread, **left}, content=content)

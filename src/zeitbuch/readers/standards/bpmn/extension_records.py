# BPMN that we wrote carries in extension elements what BPMN has no place for, and hashes of what BPMN itself said then. What a
# modelling tool has edited since is read as edited; names, order and arrows always come from the BPMN.
"""Records in the extension elements of BPMN."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, TypeVar

import msgspec
from msgspec import structs

from zeitbuch.core.model import bpmn_terms as E
from zeitbuch.core.model.bpmn_facts import Said, changed_facts, facts_of
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Flow, Link, Step, Trigger
from zeitbuch.readers.input.xml_tree import Element

from .edits import edited_inputs, edited_step

T = TypeVar("T")


def _record_of(element: Element) -> Element | None:
    extension = element.first_child("extensionElements")
    if extension is None:
        return None
    return next(
        (held for held in extension.children if held.space == E.OWN_SPACE and held.tag in ("record", "route")), None
    )


def said_by(element: Element) -> Said:
    """What an element says, without its namespaces."""
    children = tuple(said_by(child) for child in element.children if child.tag not in E.NODES)
    return Said(element.tag, element.attributes, element.text, children)


class OwnRecords:
    """The records of one process."""

    def __init__(self, process: Element, names: Mapping[str, str]) -> None:
        self.process = process
        self.names = names  # what stands for shared elements where something refers to them, by their ids
        self.problems: list[Problem] = []
        self.records: dict[int, dict[str, Any]] = {}
        self.changed: dict[int, set[str]] = {}
        self.ids: dict[str, str] = {}
        self.routes: dict[str, str] = {}
        for element in process.walk_tree():
            self._read_record(element)

    def _read_record(self, element: Element) -> None:
        found = _record_of(element)
        if found is None:
            return
        if found.tag == "route":
            found.close()
            self.routes[element.attribute("id")] = element.attribute("attachedToRef")
            return
        try:
            plain = msgspec.json.decode(found.text)
        except (msgspec.DecodeError, RecursionError):
            plain = None
        if not isinstance(plain, dict):
            self._tell_wrong(element, found, "expected an object in JSON")
            return
        found.close()
        self.records[id(element)] = plain
        written = found.attribute("facts")
        if written:
            self.changed[id(element)] = changed_facts(written, facts_of(said_by(element), self.names))
        if isinstance(plain.get("id"), str) and element is not self.process and element.tag not in E.MARKERS:
            self.ids[element.attribute("id")] = plain["id"]

    def _tell_wrong(self, element: Element, found: Element, message: str) -> None:
        self.problems.append(
            Problem(
                "bpmn-record",
                "error",
                f'{message} in <{found.tag}> of <{element.tag} id="{element.attribute("id")}"> at line {found.line}',
                None,
                "the element is read as plain BPMN; convert the original anew",
            )
        )

    def stands_for(self, element: Element) -> bool:
        """Whether the record of an element says how often it runs: no marker was edited."""
        return id(element) in self.records and not self._edits(element) & set(E.MARKERS)

    def loop_around(self, element: Element) -> str | None:
        """The id of the loop that stands for the marker on a task; None where it has no marker, or a record of ours says
        without a loop how often it runs."""
        marker = next((held for name in E.MARKERS if (held := element.first_child(name)) is not None), None)
        if marker is None or element.tag in E.SCOPES:
            return None
        known = self.records.get(id(marker), {}).get("id")
        if isinstance(known, str):
            return known
        return None if self.stands_for(element) else element.attribute("id") + ".each"

    def _edits(self, element: Element) -> set[str]:
        return self.changed.get(id(element), set())

    def _make_record(self, element: Element, kind: type[T], more: dict[str, Any]) -> T | None:
        plain = self.records.get(id(element))
        if plain is None:
            return None
        try:
            return msgspec.convert({**plain, **more}, kind)
        except msgspec.ValidationError as error:
            self._tell_wrong(element, element, str(error))
            return None

    def step_of(self, element: Element, read: Step) -> Step:
        """The step as its record says, with what was edited since as it was read."""
        said: dict[str, Any] = {"name": read.name, "scope": read.scope} if element.tag != "textAnnotation" else {}
        made = self._make_record(element, Step, said)
        if made is None:
            return read
        edits = self._edits(element)
        made = structs.replace(made, position=read.position, origin=read.origin)
        return edited_step(made, read, edits)

    def loop_of(self, marker: Element, read: Step) -> Step:
        """The loop of a marker as its record says, or as it was read where the marker was edited."""
        made = self._make_record(marker, Step, {"name": read.name, "scope": read.scope})
        if made is None:
            return read
        made = structs.replace(made, position=read.position, origin=read.origin)
        if not self._edits(marker):
            return made
        return structs.replace(made, operation=read.operation, repeat=read.repeat, inputs=read.inputs)

    def trigger_of(self, element: Element, read: Trigger) -> Trigger:
        """The trigger as its record says, with what was edited since as it was read."""
        made = self._make_record(element, Trigger, {"name": read.name})
        if made is None:
            return read
        made = structs.replace(made, position=read.position, origin=read.origin)
        edits = self._edits(element)
        if "documentation" in edits:
            made = structs.replace(made, note=read.note)
        if edits & E.DEFINITIONS.keys():
            # Another kind of event, or another clock: what the record said of it no longer holds.
            made = structs.replace(
                made, kind=read.kind, operation=read.operation, schedule=read.schedule, event=read.event, condition=read.condition
            )  # fmt: skip
        return structs.replace(made, inputs=edited_inputs(made.inputs, read.inputs, edits, read.operation))

    def link_of(self, element: Element, read: Link) -> Link:
        """The link as its record says, with what was edited since as it was read."""
        made = self._make_record(element, Link, {"source": read.source, "target": read.target})
        if made is None:
            return read
        edits = self._edits(element)
        made = structs.replace(made, origin=read.origin, otherwise=read.otherwise)
        if "name" in edits:
            made = structs.replace(made, label=read.label)
        if "conditionExpression" in edits:
            role = "case" if made.role == "next" and read.condition else made.role
            made = structs.replace(made, condition=read.condition, refs=(), role=role)
        return structs.replace(made, note=read.note) if "documentation" in edits else made

    def flow_of(self, read: Flow) -> Flow:
        """The flow with the fields that the process carries."""
        made = self._make_record(self.process, Flow, {"name": read.name})
        if made is None:
            return read
        edits = self._edits(self.process)
        made = structs.replace(
            made, steps=read.steps, triggers=read.triggers, links=read.links, origin=read.origin,
            unread={**made.unread, **read.unread},
        )  # fmt: skip
        if "documentation" in edits:
            made = structs.replace(made, description=read.description)
        if "isExecutable" in edits:
            others = [variable for variable in made.variables if variable.name != "isExecutable"]
            said = [variable for variable in read.variables if variable.name == "isExecutable"]
            made = structs.replace(made, variables=(*others, *said))
        return made

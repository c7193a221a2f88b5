# BPMN that we wrote carries in extension elements what BPMN has no place for, and hashes of what BPMN itself said then. What a
# modelling tool has edited since is read as edited; names, order and arrows always come from the BPMN.
"""Records in the extension elements of BPMN."""

from __future__ import annotations

from typing import Any, TypeVar

import msgspec
from msgspec import structs

from zeitbuch.core.model import bpmn_terms as E
from zeitbuch.core.model.bpmn_facts import Said, changed_facts, facts_of
from zeitbuch.core.model.kinds import KINDS
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Binding, Flow, Link, Step, Trigger
from zeitbuch.readers.input.xml_tree import Element

T = TypeVar("T")
_CLOCK = frozenset({"timeDate", "timeCycle", "timeDuration"})
_HEARD = frozenset({*_CLOCK, "condition", "message", "signal", "error", "escalation", "name", "activity", "operation"})


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

    def __init__(self, process: Element) -> None:
        self.process = process
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
            self.changed[id(element)] = changed_facts(written, facts_of(said_by(element)))
        if isinstance(plain.get("id"), str) and element is not self.process:
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
        return _edited_step(made, read, edits)

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
        return structs.replace(made, inputs=_edited_inputs(made.inputs, read.inputs, edits))

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


def _edited_step(made: Step, read: Step, edits: set[str]) -> Step:
    if "documentation" in edits or "text" in edits:
        made = structs.replace(made, note=read.note)
    if "calledElement" in edits:
        made = structs.replace(made, calls=read.calls)
    if "tag" in edits or (edits & E.DEFINITIONS.keys()):
        # Another task or event: it is what it was made, and uses a model only where such a step can.
        model = made.model if KINDS[read.kind].uses_model else None
        made = structs.replace(made, kind=read.kind, effect=read.effect, operation=read.operation, join=read.join, inclusive=read.inclusive, model=model)  # fmt: skip
    if edits & set(E.MARKERS) and read.kind == "loop":
        made = structs.replace(made, kind="loop", repeat=read.repeat, operation=read.operation)
    elif edits & set(E.MARKERS) and made.kind == "loop":
        made = structs.replace(made, kind=read.kind, repeat=None, operation=read.operation)
    return structs.replace(made, inputs=_edited_inputs(made.inputs, read.inputs, edits))


def _edited_inputs(held: tuple[Binding, ...], read: tuple[Binding, ...], edits: set[str]) -> tuple[Binding, ...]:
    """Inputs of a record with those that the edited parts now give put in their places; what such a part gave and no longer
    gives is taken out. Lanes stand outside the element: they always come from the BPMN."""
    names = {"lane", *edits}
    if "script" in edits or "scriptFormat" in edits:
        names |= {"script", "language"}
    if edits & E.DEFINITIONS.keys():
        names |= _HEARD
    if edits & {"dataInputAssociation", "dataOutputAssociation"}:
        names |= {binding.name for binding in read}
    now = {binding.name: binding for binding in read if binding.name in names}
    kept = [
        now.pop(binding.name, binding)
        for binding in held
        if binding.name not in names or binding.name in now or not isinstance(binding.value, str)
    ]
    return (*kept, *now.values())

# BPMN that we wrote carries in extension elements what BPMN has no place for; names, order and arrows still come from
# the BPMN itself, so that edits in a modelling tool count.
"""Records in the extension elements of BPMN."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import msgspec
from msgspec import structs

from zeitbuch.core.model import bpmn_terms as E
from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Flow, Link, Step, Trigger
from zeitbuch.readers.input.xml_tree import Element

if TYPE_CHECKING:
    from .definitions import Definitions


def _record_of(element: Element) -> Element | None:
    extension = element.first_child("extensionElements")
    if extension is None:
        return None
    return next(
        (
            element
            for element in extension.children
            if element.space == E.OWN_SPACE and element.tag in ("record", "route")
        ),
        None,
    )


def has_record(element: Element) -> bool:
    """Whether an element carries a record of ours."""
    return _record_of(element) is not None


class OwnRecords:
    """The records of one process."""

    def __init__(self, process: Element) -> None:
        self.process = process
        self.problems: list[Problem] = []
        self.records: dict[int, dict[str, Any]] = {}
        self.ids: dict[str, str] = {}
        self.routes: dict[str, str] = {}
        for element in process.walk_tree():
            found = _record_of(element)
            if found is None:
                continue
            if found.tag == "route":
                self.routes[element.attribute("id")] = element.attribute("attachedToRef")
                continue
            try:
                plain = msgspec.json.decode(found.text)
            except (msgspec.DecodeError, RecursionError):
                plain = None
            if not isinstance(plain, dict):
                self._tell_wrong(element, found, "expected an object in JSON")
                continue
            self.records[id(element)] = plain
            if isinstance(plain.get("id"), str) and element is not process:
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

    def has_own_record(self, element: Element) -> bool:
        return id(element) in self.records

    def _make_record(self, element: Element, kind: Any, more: dict[str, Any]) -> Any:
        plain = self.records.get(id(element))
        if plain is None:
            return None
        try:
            return msgspec.convert({**plain, **more}, kind)
        except msgspec.ValidationError as error:
            self._tell_wrong(element, element, str(error))
            return None

    def read_step(self, element: Element, scope: str | None, definitions: Definitions) -> Step | None:
        """The step of an element that carries one."""
        said: dict[str, Any] = (
            {"name": element.attribute("name"), "scope": scope} if element.tag != "textAnnotation" else {}
        )
        made: Step | None = self._make_record(element, Step, said)
        if made is None:
            return None
        return structs.replace(
            made, position=definitions.places.get(element.attribute("id")), origin=definitions.origin_of(element)
        )

    def read_trigger(self, element: Element, definitions: Definitions) -> Trigger | None:
        """The trigger of a start event that carries one."""
        made: Trigger | None = self._make_record(element, Trigger, {"name": element.attribute("name")})
        if made is None:
            return None
        return structs.replace(
            made, position=definitions.places.get(element.attribute("id")), origin=definitions.origin_of(element)
        )

    def read_link(self, element: Element, source: str, target: str, definitions: Definitions) -> Link | None:
        """The link of a sequence flow or association that carries one."""
        made: Link | None = self._make_record(element, Link, {"source": source, "target": target})
        return None if made is None else structs.replace(made, origin=definitions.origin_of(element))

    def read_flow(self, read: Flow) -> Flow:
        """The flow with the fields that the process carries."""
        made: Flow | None = self._make_record(self.process, Flow, {"name": self.process.attribute("name")})
        if made is None:
            return read
        return structs.replace(made, steps=read.steps, triggers=read.triggers, links=read.links, origin=read.origin)

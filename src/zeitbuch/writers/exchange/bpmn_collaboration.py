# Who talks to whom: the pools of the processes, pools of others, and the messages between them.
"""Collaborations of BPMN, written."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from typing import NamedTuple
from xml.etree import ElementTree as ET

from zeitbuch.core.model.records import Step, Trigger

from .bpmn_names import B, clean_text
from .bpmn_process import ProcessWriter
from .bpmn_shared import SharedElements


class _End(NamedTuple):
    """One end of a message as the model has it: the element or pool, its title, and the title of the other end."""

    key: str
    title: str
    message: str
    other: str
    sends: bool


class Collaboration:
    """The collaboration of a file. Processes without a pool and without messages stay outside; when none is left, there is
    no collaboration."""

    def __init__(self, root: ET.Element, writers: Sequence[ProcessWriter], shared: SharedElements) -> None:
        self.shared = shared
        self.key = ""
        self.pools: dict[str, str] = {}  # process -> its pool
        self.outside: dict[str, str] = {}  # name of a pool of others -> its id
        self.flows: list[tuple[str, str, str]] = []  # id of a message flow, ids of its ends
        self.titles: dict[str, str] = {}
        self.made: ET.Element | None = None
        ends = [end for writer in writers for end in self._ends_of(writer)]
        spoken = {end.key for end in ends}
        for writer in writers:
            keys = {writer.process_id, *map(writer.element_id, writer.elements)}
            if _is_pool(writer) or spoken & keys:
                self._add_pool(root, writer)
        if self.made is not None:
            self._write_messages(ends)

    def _add_pool(self, root: ET.Element, writer: ProcessWriter) -> None:
        if self.made is None:
            self.key = self.shared.unique_id("collaboration")
            self.made = ET.SubElement(root, B + "collaboration", {"id": self.key})
        name = writer.flow.folder or writer.flow.title
        key = self.pools[writer.process_id] = self.shared.unique_id(f"pool_{name}")
        self.titles[key] = name
        ET.SubElement(
            self.made, B + "participant", {"id": key, "name": clean_text(name), "processRef": writer.process_id}
        )

    def _ends_of(self, writer: ProcessWriter) -> Iterator[_End]:
        records: list[Step | Trigger] = [*writer.flow.triggers, *writer.flow.steps]
        for record in records:
            if record.id not in writer.elements:
                continue
            key = writer.element_id(record.id)
            for binding in record.inputs:
                if binding.name == "message" and isinstance(binding.value, str):
                    yield from _end(key, record.name or key, binding.value, binding.description or "")
        for variable in writer.flow.variables:
            if variable.name.startswith("message "):
                name = variable.name.removeprefix("message ")
                yield from _end(writer.process_id, writer.flow.folder or writer.flow.title, name, variable.description)

    def _write_messages(self, ends: Sequence[_End]) -> None:
        """A message that both its ends tell is one; all others come from or go to pools of others."""
        told = Counter((end.message, end.title, end.other) for end in ends if not end.sends)
        taken: Counter[tuple[str, str, str]] = Counter()
        waiting: dict[tuple[str, str, str], list[str]] = {}
        for end in ends:
            if not end.sends:
                waiting.setdefault((end.message, end.title, end.other), []).append(end.key)
        for end in ends:
            if end.sends:
                match = (end.message, end.other, end.title)
                if taken[match] < told[match]:
                    taken[match] += 1
                    target = self._place(waiting[match].pop(0))
                else:
                    target = self._outside(end.other)
                self._write_flow(end.message, self._place(end.key), target)
        for (message, _, other), keys in waiting.items():
            for key in keys:
                self._write_flow(message, self._outside(other), self._place(key))

    def _place(self, key: str) -> str:
        return self.pools.get(key, key)

    def _outside(self, name: str) -> str:
        if name not in self.outside:
            key = self.outside[name] = self.shared.unique_id(f"pool_{name}")
            self.titles[key] = name
            assert self.made is not None
            # Participants stand before message flows (order of the schema).
            pools = len(self.pools) + len(self.outside) - 1
            self.made.insert(pools, ET.Element(B + "participant", {"id": key, "name": clean_text(name)}))
        return self.outside[name]

    def _write_flow(self, name: str, source: str, target: str) -> None:
        assert self.made is not None
        key = self.shared.unique_id("message")
        self.flows.append((key, source, target))
        ET.SubElement(
            self.made,
            B + "messageFlow",
            {"id": key, "name": clean_text(name), "sourceRef": source, "targetRef": target},
        )


def _is_pool(writer: ProcessWriter) -> bool:
    return writer.flow.format == "bpmn" and bool(writer.flow.folder)


def _end(key: str, title: str, message: str, about: str) -> Iterator[_End]:
    for word, sends in (("to ", True), ("from ", False)):
        if about.startswith(word):
            yield _End(key, title, message, about.removeprefix(word), sends)

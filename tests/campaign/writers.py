"""How made-up builders write flows down: a structure each, with the records of steps and triggers in one of several forms."""

from __future__ import annotations

import random
from collections.abc import Callable
from typing import Any

from .flows import Box, Drawn
from .words import Language

FITTED_STRUCTURES = (
    "records", "adjacency", "pointers", "predecessors", "tree", "two lists", "marked ends", "bare pairs", "arrows", "one tree",
)  # fmt: skip
HELD_STRUCTURES = (
    "nested ends", "text ends", "pair ends", "adjacency by role", "outcomes", "state machine", "keyed predecessors",
    "keyed tree", "wires", "next list", "records", "tree", "predecessors",
)  # fmt: skip
NESTED = ("tree", "keyed tree", "one tree")


class Writer:
    """Writes the flows of one builder."""

    def __init__(self, language: Language, structure: str) -> None:
        self.words, self.structure = language, structure
        self.draw = draw = random.Random(language.draw.random())
        self.place = (
            draw.choice(("step", "step", "apart", "list"))
            if structure not in ("outcomes", "state machine", "keyed predecessors")
            else draw.choice(("apart", "step"))
        )
        self.settings = draw.choice(("inside", "inside", "flat", "pairs"))
        self.pair = draw.random() < 0.12  # the operation stands in two fields
        self.has_position = draw.random() < 0.6
        self.order = "as is" if structure in NESTED else draw.choice(("as is", "as is", "shuffled", "last first"))
        self.by_name = draw.random() < 0.15 and structure in (
            "predecessors",
            "keyed predecessors",
            "adjacency",
            "records",
        )
        self.extras = draw.sample(("author", "tags", "made", "note"), draw.choice((0, 1, 2)))
        self.meta = draw.random() < 0.5

    def write_flow(self, flow: Drawn) -> dict[str, Any]:
        """One flow as the builder's own object."""
        key = self.words.key
        yes, no = self.words.states
        made: dict[str, Any] = {
            key("flow id"): flow.id,
            key("flow name"): flow.name,
            key("flow state"): yes if flow.state == "on" else no,
        }
        made |= flow.head
        if flow.handler:
            made[key("handler")] = flow.handler
        if self.meta:
            made[key("meta")] = {key("owner"): "Hedda Quist", key("changed"): "2026-10-14T08:15:00Z"}
        writers: dict[str, Callable[[Drawn, dict[str, Any]], None]] = {
            "records": self._records, "two lists": self._records, "marked ends": self._records, "bare pairs": self._records,
            "arrows": self._records, "one tree": self._tree, "nested ends": self._records, "text ends": self._records, "pair ends": self._records,
            "wires": self._records, "adjacency": self._adjacency, "adjacency by role": self._adjacency, "pointers": self._pointers,
            "next list": self._pointers, "outcomes": self._pointers, "state machine": self._pointers,
            "predecessors": self._predecessors, "keyed predecessors": self._predecessors, "tree": self._tree, "keyed tree": self._tree,
        }  # fmt: skip
        writers[self.structure](flow, made)
        return made

    # -- records --------------------------------------------------------------------------------------------------------

    def _id(self, box: Box) -> Any:
        return box.name if self.by_name else box.id

    def written(self, kind: str) -> str:
        """The operation as it stands in the export; in two fields with a point between them."""
        operation = self.words.operation(kind)
        if not self.pair:
            return operation
        first, _, second = operation.replace("_", ".").replace("-", ".").partition(".")
        return f"{first}.{second or 'run'}"

    def _record(self, box: Box, at: int, keyed: bool = False) -> dict[str, Any]:
        key, draw = self.words.key, self.draw
        made: dict[str, Any] = {}
        if not self.by_name and not keyed:
            made[key("id")] = box.id
        if not (keyed and self.by_name):
            made[key("name")] = box.name
        operation = self.written(box.kind)
        if self.pair:
            made[key("family")], _, made[key("verb")] = operation.partition(".")
        else:
            made[key("operation")] = operation
        if self.settings == "inside":
            made[key("settings")] = dict(box.settings)
        elif self.settings == "pairs":
            made[key("settings")] = [self._setting(name, value) for name, value in box.settings.items()]
        else:
            made |= box.settings
        if self.has_position:
            made[key("position")] = {key("x"): 40 * at, key("y"): 90 + 13 * at}
        made |= box.fields
        for extra in self.extras:
            if extra == "note" and draw.random() < 0.7:
                continue
            made[key(extra)] = {
                "author": "Ola Sund",
                "tags": ["port"],
                "made": "2026-03-01T10:00:00Z",
                "note": "Ask the purser before this is changed again.",
            }[extra]
        return made

    def _setting(self, name: str, value: Any) -> dict[str, Any]:
        return (
            {"key": name, "val": value, "secret": False} if self.words.traits.fitted else {"name": name, "value": value}
        )

    def _switch(self, record: dict[str, Any], box: Box, flow: Drawn) -> dict[str, Any]:
        if flow.switch == "off" and box.off:
            record[self.words.key("off")] = True
        elif flow.switch == "on":
            record[self.words.key("on")] = flow.spelled[box.off]
        return record

    def _place_start(self, flow: Drawn, made: dict[str, Any]) -> bool:
        """Write a trigger that stands apart; whether it stands among the steps instead."""
        key = self.words.key
        if self.place == "step":
            return True
        record = self._record(flow.trigger, 0)
        made[key("trigger")] = record if self.place == "apart" else [record]
        return False

    def _boxes(self, flow: Drawn, made: dict[str, Any]) -> list[Box]:
        boxes = [flow.trigger, *flow.every] if self._place_start(flow, made) else list(flow.every)
        if self.order == "shuffled":
            self.draw.shuffle(boxes)
        elif self.order == "last first":
            boxes.reverse()
        return boxes

    def _listed(self, flow: Drawn, made: dict[str, Any]) -> dict[int, dict[str, Any]]:
        boxes = self._boxes(flow, made)
        records = [self._switch(self._record(box, at), box, flow) for at, box in enumerate(boxes)]
        made[self.words.key("steps")] = records
        return {id(box): record for box, record in zip(boxes, records, strict=True)}

    # -- structures -----------------------------------------------------------------------------------------------------

    def _outlet(self, role: str, label: str) -> str:
        return {"next": "main", "error": "error"}.get(role, label)

    def _records(self, flow: Drawn, made: dict[str, Any]) -> None:
        key = self.words.key
        self._listed(flow, made)
        links: list[Any] = []
        faults: list[Any] = []
        for source, target, role, label in flow.arrows:
            a, b, out = self._id(source), self._id(target), self._outlet(role, label)
            entry: Any = {key("source"): a, key("target"): b}
            if self.structure in ("records", "two lists") and (
                role == "case" or (role == "error" and self.structure == "records")
            ):
                entry[key("outlet")] = out
            elif self.structure == "nested ends":
                entry = {key("source"): {key("id"): a, key("outlet"): out}, key("target"): {key("id"): b}}
            elif self.structure == "marked ends":
                entry = {key("source"): f"{a}#{out}" if role != "next" else str(a), key("target"): str(b)}
            elif self.structure == "bare pairs":
                entry = [a, b]
            elif self.structure == "arrows":
                entry = f"{a} -> {b}"
            elif self.structure == "text ends":
                entry = {key("source"): f"{a}:{out}", key("target"): f"{b}:in"}
            elif self.structure == "pair ends":
                entry = {"ends": [a, b], key("outlet"): out}
            elif self.structure == "wires":
                entry = f"{a} > {b}" if role == "next" else f"{a} [{out}] > {b}"
            (faults if role == "error" and self.structure == "two lists" else links).append(entry)
        made[key("links")] = links
        if faults:
            made[key("faults")] = faults

    def _adjacency(self, flow: Drawn, made: dict[str, Any]) -> None:
        key = self.words.key
        self._listed(flow, made)
        table: dict[str, Any] = {}
        for source, target, role, label in flow.arrows:
            a, b = str(self._id(source)), self._id(target)
            if self.structure == "adjacency":
                table.setdefault(a, {}).setdefault(self._outlet(role, label), []).append(b)
            else:
                table.setdefault({"next": "main", "error": "error", "case": "main"}[role], {}).setdefault(a, []).append(
                    b
                )
        made[key("links")] = table

    def _pointers(self, flow: Drawn, made: dict[str, Any]) -> None:
        key = self.words.key
        records = self._listed(flow, made)
        for source, target, role, label in flow.arrows:
            record, b = records.get(id(source)), self._id(target)
            if record is None:
                start = made[key("trigger")]
                (start[0] if isinstance(start, list) else start)[key("first")] = b
            elif self.structure == "outcomes":
                record.setdefault(key("next"), {}).setdefault(self._outlet(role, label), b)
            elif role == "error":
                record[key("failed")] = b
            elif role == "case":
                record.setdefault(key("cases"), []).append({key("label"): label, key("next"): b})
            elif self.structure == "next list":
                record.setdefault(key("next"), []).append(b)
            else:
                record[key("next")] = b
        if self.structure == "state machine":
            made[key("steps")] = {str(record.pop(key("id"))): record for record in made[key("steps")]}

    def _predecessors(self, flow: Drawn, made: dict[str, Any]) -> None:
        key = self.words.key
        records = self._listed(flow, made)
        for source, target, role, label in flow.arrows:
            record = records[id(target)]
            if id(source) not in records:
                continue  # what waits for nothing is what the trigger sets off
            if self.structure == "predecessors":
                record.setdefault(key("before"), []).append(self._id(source))
            else:
                record.setdefault(key("before"), {}).setdefault(str(self._id(source)), []).append(
                    self._outlet(role, label)
                )
        if self.structure == "keyed predecessors":
            name = key("name") if self.by_name else key("id")
            made[key("steps")] = {
                str(record.pop(name, None) or self._id(box)): record for box, record in self._with_boxes(flow, records)
            }

    def _with_boxes(self, flow: Drawn, records: dict[int, dict[str, Any]]) -> list[tuple[Box, dict[str, Any]]]:
        return [(box, records[id(box)]) for box in (flow.trigger, *flow.every) if id(box) in records]

    def _tree(self, flow: Drawn, made: dict[str, Any]) -> None:
        boxes = [flow.trigger, *flow.body] if self._place_start(flow, made) else flow.body
        made[self.words.key("steps")] = self._inside(boxes, flow)

    def _inside(self, boxes: list[Box], flow: Drawn) -> Any:
        key = self.words.key
        keyed = self.structure == "keyed tree"
        made: list[tuple[str, dict[str, Any]]] = []
        for at, box in enumerate(boxes):
            record = self._switch(self._record(box, at, keyed), box, flow)
            if box.ways and self.structure == "one tree":
                record |= {key("cases"): [self._inside(inner, flow) for _, inner in box.ways]}
            elif box.ways and keyed:
                record[key("cases")] = {label: self._inside(inner, flow) for label, inner in box.ways}
            elif box.ways:
                record[key("cases")] = [
                    {key("label"): label, key("do"): self._inside(inner, flow)} for label, inner in box.ways
                ]
            if box.body:
                record[key("do")] = self._inside(box.body, flow)
            if box.rescue:
                record[key("failed")] = self._inside(box.rescue, flow)
            made.append((str(box.id), record))
        return dict(made) if keyed else [record for _, record in made]

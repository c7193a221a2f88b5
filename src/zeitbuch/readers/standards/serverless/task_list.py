# One list of tasks of a Serverless Workflow. Tasks run in their order unless `then` says otherwise, so the arrows that lead
# to a task are gathered until the whole list is read.
"""Tasks of one list and where their arrows lead."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, NamedTuple

from zeitbuch.readers.input.link_builder import Loose
from zeitbuch.readers.input.pointers import escape_key
from zeitbuch.readers.input.views import View


class Task(NamedTuple):
    """One entry of a list of tasks."""

    name: str
    fields: View
    pointer: str


class TaskList:
    """The tasks of a list with their ids in the flow, what arrives at each, and what leaves the list."""

    def __init__(self, tasks: list[Task], ids: list[str], pointer: str, scope: str | None, path: str) -> None:
        self.tasks = tasks
        self.ids = ids
        self.pointer = pointer
        self.scope = scope
        self.path = path
        self.arriving: list[list[Loose]] = [[] for _ in tasks]
        self.leaving: list[Loose] = []
        # The name a task goes by in `then` is that of its own list.
        self.places = {task.name: place for place, task in enumerate(tasks)}

    def knows(self, then: Any) -> bool:
        """Whether a directive leads anywhere."""
        return then in (None, "continue", "end", "exit") or (isinstance(then, str) and then in self.places)

    def send_arrows(self, loose: list[Loose], then: Any, place: int) -> list[Loose]:
        """Sends arrows of the task at ``place`` where a directive says; returns the cases that end there."""
        if then in (None, "continue"):
            after = self.arriving[place + 1] if place + 1 < len(self.tasks) else self.leaving
            after += loose
            return []
        if then in self.places:
            self.arriving[self.places[then]] += loose
            return []
        if then == "exit":
            self.leaving += [arrow for arrow in loose if arrow.role != "case"]
        return [arrow for arrow in loose if arrow.role == "case"]


def tasks_of(listed: Any, pointer: str) -> tuple[list[Task], list[tuple[str, Any]]]:
    """The tasks of a list, and entries that are none, with their pointers."""
    found: list[Task] = []
    faults: list[tuple[str, Any]] = []
    for place, item in enumerate(listed) if isinstance(listed, list) else [("", listed)]:
        here = f"{pointer}/{place}" if place != "" else pointer
        name, task = next(iter(item.items())) if isinstance(item, dict) and len(item) == 1 else ("", None)
        if isinstance(task, dict):
            place_of_task = f"{here}/{escape_key(str(name))}"
            found.append(Task(str(name), View(task, place_of_task), place_of_task))
        elif item is not None:
            faults.append((here, item))
    return found, faults


def switch_cases(key: str, fields: View) -> Iterator[tuple[Loose, Any]]:
    """(arrow, directive) of every case of a switch, and of the way past it when all cases have a condition."""
    ways = [(label, way) for case in fields.views("switch") for label, way in _ways_of(case)]
    for label, way in ways:
        yield Loose(key, "case", label, way.text("when")), way.take("then")
    if all("when" in way for _, way in ways):
        yield Loose(key, "case", "otherwise"), fields.take("then")


def _ways_of(case: View) -> list[tuple[str, View]]:
    return [(str(label), case.view(label)) for label, value in case.value.items() if isinstance(value, dict)]

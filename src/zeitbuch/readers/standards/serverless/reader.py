# The Serverless Workflow DSL 1.0 (CNCF), YAML or JSON -> a flow. Tasks run in the order of their list unless `then` or
# a case of a switch says otherwise; `do`, `for`, `fork` and `try` hold tasks of their own.
"""Reading Serverless Workflow definitions."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, NamedTuple

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import (
    Binding,
    Content,
    Flow,
    Link,
    Origin,
    Repeat,
    Retry,
    Step,
    StepKind,
)
from zeitbuch.readers.input.limits import count_values
from zeitbuch.readers.input.link_builder import Loose, as_dict, as_list

from .head import read_triggers, read_variables, unread_parts
from .task_list import TaskList, switch_cases, tasks_of
from .tasks import duration_of, inputs_of, kind_of, make_binding, refs_in, task_kind, unread_count, unread_of


def recognises(document: Any) -> bool:
    """Whether a document says that it is of the DSL."""
    head = document.get("document") if isinstance(document, dict) else None
    return isinstance(head, dict) and "dsl" in head and isinstance(document.get("do"), list)


def flows(document: Any, base: Origin, count: int) -> Iterator[tuple[Flow, list[Problem]]]:
    """The one flow of a document."""
    yield WorkflowReader(document, base).read_flow(count)


class _Place(NamedTuple):
    """Where a task stands: the id of its step, its place in the document, the step before it, and the names of the tasks that
    lead down to what it holds."""

    key: str
    pointer: str
    before: str | None
    path: str


class WorkflowReader:
    """Reads one workflow."""

    def __init__(self, document: dict[str, Any], base: Origin) -> None:
        self.document = document
        self.base = base
        used = document.get("use")
        self.used: dict[str, Any] = used if isinstance(used, dict) else {}
        self.functions: dict[str, Any] = as_dict(self.used.get("functions"))
        self.steps: list[Step] = []
        self.links: list[Link] = []
        self.problems: list[Problem] = []
        self.taken: set[str] = set()

    def read_flow(self, count: int) -> tuple[Flow, list[Problem]]:
        """The workflow as a flow."""
        document = self.document
        head = document["document"]
        triggers = read_triggers(document, self.base)
        entry = [Loose(trigger.id) for trigger in triggers]
        self._read_level(document["do"], "/do", None, entry, "")
        unread = unread_parts(document)
        name = str(head.get("name", ""))
        space = str(head.get("namespace", ""))
        flow = Flow(
            id=f"{space}/{name}" if space else name or self.base.file,
            name=str(head.get("title") or name),
            description=str(head.get("summary") or ""),
            folder=space,
            version=str(head.get("version", "")),
            triggers=tuple(triggers),
            steps=tuple(self.steps),
            links=tuple(self.links),
            variables=tuple(read_variables(document)),
            unread=unread,
            format="serverless",
            content=Content(values=count, unread=count_values(unread) * bool(unread) + unread_count(self.steps)),
            origin=self.base.at(""),
        )
        return flow, self.problems

    # -- tasks --------------------------------------------------------------------------------------------------------

    def _unique_id(self, name: str, path: str) -> str:
        made = name if name not in self.taken else f"{path}/{name}".strip("/")
        base, number = made, 2
        while made in self.taken:
            made, number = f"{base}~{number}", number + 1
        self.taken.add(made)
        return made

    def _read_level(self, listed: Any, pointer: str, scope: str | None, entry: list[Loose], path: str) -> list[Loose]:
        """Reads the tasks of one list; returns the arrows that leave it at its end."""
        tasks, faults = tasks_of(listed, pointer)
        message = "expected an object with one task under its name"
        self.problems += [
            Problem("serverless-task", "error", message, self.base.at(place), "the entry is left out")
            for place in faults
        ]
        if not tasks:
            return entry
        level = TaskList(tasks, [self._unique_id(task.name, path) for task in tasks], pointer, scope, path)
        level.arriving[0] += entry
        for place in range(len(tasks)):
            self._read_in_list(level, place)
        for place, task in enumerate(tasks):
            target, arriving = level.ids[place], level.arriving[place]
            if "if" in task.fields:
                self._add_arrows(arriving, f"{target}.if", task.pointer)
                arriving = [Loose(f"{target}.if", "case", "yes", str(task.fields["if"]))]
            self._add_arrows(arriving, target, task.pointer)
        return level.leaving

    def _read_in_list(self, level: TaskList, place: int) -> None:
        """Reads one task of a list and sends its arrows on."""
        name, fields, here = level.tasks[place]
        key, before = level.ids[place], level.ids[place - 1] if place else None
        gate = None
        if fields.get("if") is not None:
            gate = self._add_gate(str(fields["if"]), key, name, level.scope, here, before)
        at = _Place(key, here, before, f"{level.path}/{name}".strip("/"))
        leaving = self._read_task(name, fields, level.scope, at)
        if task_kind(fields) == "switch":
            for loose, then in switch_cases(key, fields):
                self._send_arrows(level, [loose], then, place)
        else:
            self._send_arrows(level, leaving, fields.get("then"), place)
        if gate is not None:
            self._send_arrows(level, [Loose(gate, "case", "no")], None, place)

    def _send_arrows(self, level: TaskList, loose: list[Loose], then: Any, place: int) -> None:
        """Sends arrows where a directive says: on, to a task, out of the list, or to the end."""
        if not level.knows(then):
            message = f"expected a task of the same list after `then`, found {then!r}"
            origin = self.base.at(level.tasks[place].pointer)
            self.problems.append(Problem("link-end", "error", message, origin, "the link is left out"))
            return
        ended = level.send_arrows(loose, then, place)
        if ended:
            here = f"{level.pointer}/{place}"
            self._add_arrows(ended, self._add_end(then, level.scope, here, level.path), here)

    def _add_gate(self, condition: str, key: str, name: str, scope: str | None, here: str, before: str | None) -> str:
        """The decision whether a task with `if` runs."""
        gate = f"{key}.if"
        self.taken.add(gate)
        self.steps.append(
            Step(id=gate, kind="decide", name=f"{name}?", operation="if", scope=scope, condition=condition,
                 refs=refs_in(condition, before), origin=self.base.at(f"{here}/if"))
        )  # fmt: skip
        return gate

    def _add_end(self, then: str, scope: str | None, here: str, path: str) -> str:
        key = self._unique_id(then, path)
        kind: StepKind = "end" if then == "end" or scope is None else "join"
        self.steps.append(
            Step(id=key, kind=kind, name=then, operation=f"then {then}", scope=scope, origin=self.base.at(here))
        )
        return key

    def _add_arrows(self, loose: list[Loose], target: str, here: str) -> None:
        for first in loose:
            self.links.append(
                Link(source=first.source, target=target, role=first.role, label=first.label, condition=first.condition, after=first.after,
                     refs=refs_in(first.condition, None), origin=self.base.at(here))
            )  # fmt: skip

    def _read_task(self, name: str, task: dict[str, Any], scope: str | None, at: _Place) -> list[Loose]:
        """Reads one task and what is inside it; returns the arrows that leave it."""
        what = task_kind(task)
        common: dict[str, Any] = {
            "name": name,
            "scope": scope,
            "origin": self.base.at(at.pointer),
            "unread": unread_of(task, what),
        }
        timeout = task.get("timeout")
        if isinstance(timeout, str) and timeout in as_dict(self.used.get("timeouts")):
            timeout = as_dict(self.used.get("timeouts"))[timeout]
        common["timeout"] = duration_of(as_dict(timeout).get("after"))
        if what in ("do", "for", "fork", "try") or (what == "listen" and "foreach" in task):
            return self._read_container(what, at, task, common)
        kind, effect, operation = kind_of(task, what, self.functions)
        calls = None
        if operation == "run workflow":
            flow = as_dict(task["run"]["workflow"])
            calls = f"{flow['namespace']}/{flow.get('name')}" if flow.get("namespace") else str(flow.get("name", ""))
        self.steps.append(
            Step(
                id=at.key,
                kind=kind,
                operation=operation,
                effect=effect,
                calls=calls or None,
                inputs=inputs_of(task, what, at.before),
                **common,
            )
        )
        return [] if kind == "end" else [Loose(at.key)]

    def _read_container(self, what: str, at: _Place, task: dict[str, Any], common: dict[str, Any]) -> list[Loose]:
        """Reads a task that holds tasks; returns the arrows that leave it."""
        more = list(inputs_of(task, "", at.before))
        if what == "try":
            return self._read_try(at, task, common, more)
        if what == "do":
            self.steps.append(Step(id=at.key, kind="group", operation="do", inputs=tuple(more), **common))
            self._read_level(task["do"], f"{at.pointer}/do", at.key, [], at.path)
        elif what == "for":
            self._read_for(at, task, common, more)
        elif what == "listen":
            self._read_listen(at, task, common, more)
        else:
            self._read_fork(at, task, common, more)
        return [Loose(at.key)]

    def _read_for(self, at: _Place, task: dict[str, Any], common: dict[str, Any], more: list[Binding]) -> None:
        over = as_dict(task["for"])
        items = str(over.get("in") or "")
        until = str(task.get("while") or "")
        repeat = Repeat(
            items=items or None, until=f"not ({until})" if until else None, refs=refs_in([items, until], at.before)
        )
        more += [Binding(name=name, value=over[name]) for name in ("each", "at") if name in over]
        self.steps.append(Step(id=at.key, kind="loop", operation="for", repeat=repeat, inputs=tuple(more), **common))
        self._read_level(task.get("do"), f"{at.pointer}/do", at.key, [], at.path)

    def _read_listen(self, at: _Place, task: dict[str, Any], common: dict[str, Any], more: list[Binding]) -> None:
        more += inputs_of(task, "listen", at.before)
        repeat = Repeat(items="events")
        self.steps.append(
            Step(id=at.key, kind="loop", operation="listen foreach", repeat=repeat, inputs=tuple(more), **common)
        )
        self._read_level(as_dict(task["foreach"]).get("do"), f"{at.pointer}/foreach/do", at.key, [], at.path)

    def _read_fork(self, at: _Place, task: dict[str, Any], common: dict[str, Any], more: list[Binding]) -> None:
        fork = as_dict(task["fork"])
        if "compete" in fork:
            more.append(make_binding("compete", fork["compete"], at.before))
        self.steps.append(Step(id=at.key, kind="parallel", operation="fork", inputs=tuple(more), **common))
        pointer = f"{at.pointer}/fork/branches"
        for place, branch in enumerate(as_list(fork.get("branches"))):
            label = next(iter(branch), "") if isinstance(branch, dict) else ""
            # Each branch is one task: a list of one, so that nothing leads from one branch to the next.
            where = f"{pointer}/{place}" if place else pointer
            self._read_level([branch], where, at.key, [Loose(at.key, "case", str(label))], at.path)

    def _read_try(self, at: _Place, task: dict[str, Any], common: dict[str, Any], more: list[Binding]) -> list[Loose]:
        catch, rule, retry = self._retry_of_try(task)
        for name in ("errors", "as", "when", "exceptWhen"):
            if name in catch:
                more.append(make_binding(f"catch.{name}", catch[name], None))
        if (rule and retry is None) or rule.keys() - {"limit", "delay"}:
            more.append(Binding(name="catch.retry", value=rule))
        self.steps.append(
            Step(id=at.key, kind="guard", operation="try", retry=retry, inputs=tuple(more),
                 on_fault="route" if catch.get("do") else "continue", **common)
        )  # fmt: skip
        self._read_level(task["try"], f"{at.pointer}/try", at.key, [], at.path)
        out = [Loose(at.key)]
        if catch.get("do"):
            error = [Loose(at.key, "error", "on error", str(catch.get("when") or ""), ("failure",))]
            out += self._read_level(catch["do"], f"{at.pointer}/catch/do", common["scope"], error, f"{at.path}/catch")
        return out

    def _retry_of_try(self, task: dict[str, Any]) -> tuple[dict[str, Any], dict[str, Any], Retry | None]:
        catch = as_dict(task.get("catch"))
        given = catch.get("retry")
        rule = as_dict(as_dict(self.used.get("retries")).get(given)) if isinstance(given, str) else as_dict(given)
        attempts = as_dict(as_dict(rule.get("limit")).get("attempt")).get("count")
        retry = (
            Retry(attempts=attempts, wait=duration_of(rule.get("delay")))
            if isinstance(attempts, int) and attempts > 0
            else None
        )
        return catch, rule, retry

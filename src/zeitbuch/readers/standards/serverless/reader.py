# The Serverless Workflow DSL 1.0 (CNCF), YAML or JSON -> a flow. Tasks run in the order of their list unless `then` or
# a case of a switch says otherwise; `do`, `for`, `fork` and `try` hold tasks of their own.
"""Reading Serverless Workflow definitions."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, NamedTuple

from msgspec import structs

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
from zeitbuch.readers.input.link_builder import Loose, as_list
from zeitbuch.readers.input.views import View, noise_below

from .head import read_triggers, read_variables
from .task_list import TaskList, switch_cases, tasks_of
from .tasks import inputs_of, kind_of, make_binding, refs_in, task_kind


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
        self.document = View(document)
        self.base = base
        self.used = self.document.view("use")
        self.functions = self.used.view("functions")
        self.steps: list[Step] = []
        self.views: dict[str, View] = {}  # step -> the task it stands for
        self.links: list[Link] = []
        self.problems: list[Problem] = []
        self.lost: list[Any] = []
        self.taken: set[str] = set()

    def read_flow(self, count: int) -> tuple[Flow, list[Problem]]:
        """The workflow as a flow."""
        document = self.document
        head = document.view("document")
        triggers = read_triggers(document, self.base)
        entry = [Loose(trigger.id) for trigger in triggers]
        self._tell_loose(self._read_level(document.take("do"), "/do", None, entry, ""))
        name, space = head.text("name"), head.text("namespace")
        head.expect("dsl", "1.0.")  # the version of the standard says nothing about the workflow
        title = head.text("title")
        variables = read_variables(document)
        summary, version = head.text("summary"), head.text("version")
        steps = tuple(
            structs.replace(step, unread=rest) if (view := self.views.get(step.id)) and (rest := view.rest()) else step
            for step in self.steps
        )
        unread = document.rest()
        if self.lost:
            unread["unread parts"] = self.lost
        missed = [unread, *[step.unread for step in steps], *[trigger.unread for trigger in triggers]]
        flow = Flow(
            id=f"{space}/{name}" if space else name or self.base.file,
            name=title or name,
            description=summary,
            folder=space,
            version=version,
            triggers=tuple(triggers),
            steps=steps,
            links=tuple(self.links),
            variables=tuple(variables),
            unread=unread,
            noise=noise_below(document),
            format="serverless",
            content=Content(values=count, unread=sum(map(count_values, missed))),
            origin=self.base.at(""),
        )
        return flow, self.problems

    def _tell_loose(self, loose: list[Loose]) -> None:
        """Cases behind which nothing follows: no link holds them."""
        for arrow in loose:
            said = {"label": arrow.label, "condition": arrow.condition}
            if arrow.role == "case" and any(said.values()):
                self.lost.append({f"case of {arrow.source}": {key: words for key, words in said.items() if words}})

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
            Problem("serverless-task", "finding", message, self.base.at(place), "the entry is left out")
            for place, _ in faults
        ]
        self.lost += [{place: item} for place, item in faults]
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
                arriving = [Loose(f"{target}.if", "case", "yes", str(task.fields.peek("if")))]
            self._add_arrows(arriving, target, task.pointer)
        return level.leaving

    def _read_in_list(self, level: TaskList, place: int) -> None:
        """Reads one task of a list and sends its arrows on."""
        name, fields, here = level.tasks[place]
        key, before = level.ids[place], level.ids[place - 1] if place else None
        gate = None
        if fields.peek("if") is not None:
            gate = self._add_gate(str(fields.take("if")), key, name, level.scope, here, before)
        at = _Place(key, here, before, f"{level.path}/{name}".strip("/"))
        leaving = self._read_task(name, fields, level.scope, at)
        if task_kind(fields) == "switch":
            for loose, then in switch_cases(key, fields):
                self._send_arrows(level, [loose], then, place)
        else:
            self._send_arrows(level, leaving, fields.take("then"), place)
        if gate is not None:
            self._send_arrows(level, [Loose(gate, "case", "no")], None, place)

    def _send_arrows(self, level: TaskList, loose: list[Loose], then: Any, place: int) -> None:
        """Sends arrows where a directive says: on, to a task, out of the list, or to the end."""
        if not level.knows(then):
            message = f"expected a task of the same list after `then`, found {then!r}"
            origin = self.base.at(level.tasks[place].pointer)
            self.problems.append(Problem("link-end", "finding", message, origin, "the link is left out"))
            self.lost.append({f"then of {arrow.source}": then for arrow in loose})
            self._tell_loose(loose)
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

    def _read_task(self, name: str, task: View, scope: str | None, at: _Place) -> list[Loose]:
        """Reads one task and what is inside it; returns the arrows that leave it."""
        what = task_kind(task)
        self.views[at.key] = task
        common: dict[str, Any] = {
            "name": name,
            "scope": scope,
            "origin": self.base.at(at.pointer),
            "timeout": self._timeout_of(task),
        }
        if what in ("do", "for", "fork", "try") or (what == "listen" and "foreach" in task):
            return self._read_container(what, at, task, common)
        kind, effect, operation = kind_of(task, what, self.functions)
        calls = None
        if operation == "run workflow":
            flow = task.view("run").view("workflow")
            space, called = flow.text("namespace"), flow.text("name")
            calls = f"{space}/{called}" if space else called
        inputs = inputs_of(task, what, at.before, self.functions)
        self.steps.append(
            Step(id=at.key, kind=kind, operation=operation, effect=effect, calls=calls or None, inputs=inputs, **common)
        )
        return [] if kind == "end" else [Loose(at.key)]

    def _timeout_of(self, task: View) -> float | None:
        """Seconds of the time limit of a task, its own or one that the document names."""
        given = task.peek("timeout")
        if isinstance(given, str):
            named = self.used.view("timeouts")
            if given not in named:
                self._tell_missing("timeout", given, task.pointer)
                return None
            task.take("timeout")
            return named.view(given).duration("after")
        return task.view("timeout").duration("after")

    def _tell_missing(self, what: str, name: str, pointer: str) -> None:
        message = f"expected the {what} '{name}' under `use`, found none of that name"
        self.problems.append(
            Problem(
                "reference-missing",
                "finding",
                message,
                self.base.at(pointer),
                "the reference is kept under unread parts",
            )
        )

    def _read_container(self, what: str, at: _Place, task: View, common: dict[str, Any]) -> list[Loose]:
        """Reads a task that holds tasks; returns the arrows that leave it."""
        more = list(inputs_of(task, "", at.before, self.functions))
        if what == "try":
            return self._read_try(at, task, common, more)
        if what == "do":
            self.steps.append(Step(id=at.key, kind="group", operation="do", inputs=tuple(more), **common))
            self._tell_loose(self._read_level(task.take("do"), f"{at.pointer}/do", at.key, [], at.path))
        elif what == "for":
            self._read_for(at, task, common, more)
        elif what == "listen":
            self._read_listen(at, task, common, more)
        else:
            self._read_fork(at, task, common, more)
        return [Loose(at.key)]

    def _read_for(self, at: _Place, task: View, common: dict[str, Any], more: list[Binding]) -> None:
        over = task.view("for")
        items, until = over.text("in"), task.text("while")
        repeat = Repeat(
            items=items or None, until=f"not ({until})" if until else None, refs=refs_in([items, until], at.before)
        )
        more += [Binding(name=name, value=over.take(name)) for name in ("each", "at") if name in over]
        self.steps.append(Step(id=at.key, kind="loop", operation="for", repeat=repeat, inputs=tuple(more), **common))
        self._tell_loose(self._read_level(task.take("do"), f"{at.pointer}/do", at.key, [], at.path))

    def _read_listen(self, at: _Place, task: View, common: dict[str, Any], more: list[Binding]) -> None:
        more = [*inputs_of(task, "listen", at.before, self.functions)]
        each = task.view("foreach")
        more += [make_binding(f"foreach.{key}", each.take(key), None) for key in each.value if key != "do"]
        repeat = Repeat(items="events")
        self.steps.append(
            Step(id=at.key, kind="loop", operation="listen foreach", repeat=repeat, inputs=tuple(more), **common)
        )
        self._tell_loose(self._read_level(each.take("do"), f"{at.pointer}/foreach/do", at.key, [], at.path))

    def _read_fork(self, at: _Place, task: View, common: dict[str, Any], more: list[Binding]) -> None:
        fork = task.view("fork")
        if "compete" in fork:
            more.append(make_binding("compete", fork.take("compete"), at.before))
        self.steps.append(Step(id=at.key, kind="parallel", operation="fork", inputs=tuple(more), **common))
        pointer = f"{at.pointer}/fork/branches"
        for place, branch in enumerate(as_list(fork.take("branches"))):
            label = next(iter(branch), "") if isinstance(branch, dict) else ""
            # Each branch is one task: a list of one, so that nothing leads from one branch to the next.
            where = f"{pointer}/{place}" if place else pointer
            entry = [Loose(at.key, "case", str(label))]
            self._tell_loose(self._read_level([branch], where, at.key, entry, at.path))

    def _read_try(self, at: _Place, task: View, common: dict[str, Any], more: list[Binding]) -> list[Loose]:
        catch = task.view("catch")
        retry, rule = self._retry_of_try(catch, at)
        caught = bool(catch.peek("do"))
        when = catch.text("when") if caught else ""
        for name in ("errors", "as", "when", "exceptWhen"):
            if name in catch:
                more.append(make_binding(f"catch.{name}", catch.take(name), None))
        if rule is not None:
            more.append(Binding(name="catch.retry", value=rule))
        self.steps.append(
            Step(id=at.key, kind="guard", operation="try", retry=retry, inputs=tuple(more),
                 on_fault="route" if caught else "continue", **common)
        )  # fmt: skip
        self._tell_loose(self._read_level(task.take("try"), f"{at.pointer}/try", at.key, [], at.path))
        out = [Loose(at.key)]
        if caught:
            error = [Loose(at.key, "error", "on error", when, ("failure",))]
            out += self._read_level(
                catch.take("do"), f"{at.pointer}/catch/do", common["scope"], error, f"{at.path}/catch"
            )
        return out

    def _retry_of_try(self, catch: View, at: _Place) -> tuple[Retry | None, Any]:
        """The retry of a guarded block, and its whole rule where that says more than a retry holds."""
        given = catch.peek("retry")
        rule = given
        if isinstance(given, str):
            named = self.used.view("retries")
            if given not in named:
                self._tell_missing("retry", given, at.pointer)
                return None, None
            rule = named.take(given)
        catch.take("retry")
        held = View(rule)
        attempts = held.view("limit").view("attempt").whole("count", 1)
        if attempts is None:
            return None, rule
        retry = Retry(attempts=attempts, wait=held.duration("delay"))
        return retry, rule if held.rest() else None

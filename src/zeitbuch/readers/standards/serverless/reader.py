# The Serverless Workflow DSL 1.0 (CNCF), YAML or JSON -> a flow. Tasks run in the order of their list unless `then` or
# a case of a switch says otherwise; `do`, `for`, `fork` and `try` hold tasks of their own.
"""Reading Serverless Workflow definitions."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import (
    Binding,
    Content,
    Flow,
    Link,
    Origin,
    Repeat,
    Retry,
    Schedule,
    Step,
    StepKind,
    Trigger,
    Variable,
)
from zeitbuch.readers.input.limits import count_values
from zeitbuch.readers.input.link_builder import Loose, as_dict, as_list
from zeitbuch.readers.input.pointers import escape_key

from .tasks import duration_of, inputs_of, kind_of, make_binding, refs_in, task_kind, unread_count, unread_of

_KNOWN = frozenset({"document", "input", "use", "do", "timeout", "output", "schedule", "evaluate", "metadata"})


def recognises(document: Any) -> bool:
    """Whether a document says that it is of the DSL."""
    head = document.get("document") if isinstance(document, dict) else None
    return isinstance(head, dict) and "dsl" in head and isinstance(document.get("do"), list)


def flows(document: Any, base: Origin, count: int) -> Iterator[tuple[Flow, list[Problem]]]:
    """The one flow of a document."""
    yield WorkflowReader(document, base).read_flow(count)


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
        triggers = self._read_triggers()
        entry = [Loose(trigger.id) for trigger in triggers]
        self._read_level(document["do"], "/do", None, entry, "")
        unread: dict[str, Any] = {key: value for key, value in document.items() if key not in _KNOWN}
        for key in ("tags", "metadata"):
            if head.get(key):
                unread[f"document.{key}"] = head[key]
        if document.get("metadata"):
            unread["metadata"] = document["metadata"]
        rest = {
            key: value
            for key, value in self.used.items()
            if key not in ("functions", "retries", "timeouts", "errors", "secrets", "authentications")
        }
        if rest:
            unread["use"] = rest
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
            variables=tuple(self._read_variables()),
            unread=unread,
            format="serverless",
            content=Content(values=count, unread=count_values(unread) * bool(unread) + unread_count(self.steps)),
            origin=self.base.at(""),
        )
        return flow, self.problems

    def _read_variables(self) -> list[Variable]:
        found = [
            Variable(name=f"secrets.{item}") for item in as_list(self.used.get("secrets")) if isinstance(item, str)
        ]
        for part in ("authentications", "errors"):
            found += [
                Variable(name=f"{part}.{key}", value=value) for key, value in as_dict(self.used.get(part)).items()
            ]
        for key in ("input", "output", "timeout", "evaluate"):
            if key in self.document:
                found.append(Variable(name=key, value=self.document[key]))
        return found

    def _read_triggers(self) -> list[Trigger]:
        schedule = as_dict(self.document.get("schedule"))
        found: list[Trigger] = []
        origin = self.base.at("/schedule")
        if isinstance(schedule.get("cron"), str):
            found.append(
                Trigger(
                    id="schedule.cron",
                    kind="schedule",
                    operation="schedule cron",
                    schedule=Schedule(cron=schedule["cron"]),
                    origin=origin,
                )
            )
        for key in ("every", "after"):
            span = duration_of(schedule.get(key))
            if span is not None:
                found.append(
                    Trigger(
                        id=f"schedule.{key}",
                        kind="schedule",
                        operation=f"schedule {key}",
                        schedule=Schedule(every=span),
                        origin=origin,
                    )
                )
        on = schedule.get("on")
        if isinstance(on, dict):
            for event in _event_types(on):
                found.append(
                    Trigger(id=f"on.{len(found)}", kind="event", operation="schedule on", event=event, origin=origin)
                )
        if not found:
            found.append(Trigger(id="start", kind="manual", operation="start", origin=self.base.at("/document")))
        return found

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
        tasks: list[tuple[str, dict[str, Any], str]] = []
        for place, item in enumerate(listed if isinstance(listed, list) else []):
            if isinstance(item, dict) and len(item) == 1:
                (name, task), *_ = item.items()
                if isinstance(task, dict):
                    tasks.append((str(name), task, f"{pointer}/{place}/{escape_key(str(name))}"))
                    continue
            self.problems.append(
                Problem(
                    "serverless-task",
                    "error",
                    "expected an object with one task under its name",
                    self.base.at(f"{pointer}/{place}"),
                    "the entry is left out",
                )
            )
        ids = [self._unique_id(name, path) for name, _, _ in tasks]
        # The name a task goes by in `then` is that of its own list.
        known = {name: index for index, (name, _, _) in enumerate(tasks)}
        arriving: list[list[Loose]] = [[] for _ in tasks]
        leaving: list[Loose] = []

        def go(loose: list[Loose], then: Any, at: int) -> None:
            """Sends arrows where a directive says: on, to a task, out of the list, or to the end."""
            nonlocal leaving
            if then in (None, "continue"):
                if at + 1 < len(tasks):
                    arriving[at + 1] += loose
                else:
                    leaving += loose
            elif isinstance(then, str) and then in known:
                arriving[known[then]] += loose
            elif then in ("end", "exit"):
                cases = [first for first in loose if first.role == "case"]
                if cases:
                    stop = self._add_end(then, scope, f"{pointer}/{at}", path)
                    self._add_arrows(cases, stop, f"{pointer}/{at}")
                if then == "exit":
                    leaving += [first for first in loose if first.role != "case"]
            else:
                self.problems.append(
                    Problem(
                        "link-end",
                        "error",
                        f"expected a task of the same list after `then`, found {then!r}",
                        self.base.at(tasks[at][2]),
                        "the link is left out",
                    )
                )

        if tasks:
            arriving[0] += entry
        order: list[tuple[int, list[Loose]]] = []
        for place, (name, task, here) in enumerate(tasks):
            before = ids[place - 1] if place else None
            key = ids[place]
            condition = task.get("if")
            gate: str | None = None
            if condition is not None:
                gate = self._add_gate(str(condition), key, name, scope, here, before)
            out = self._read_task(name, key, task, here, scope, before, path)
            order.append((place, out))
            if task_kind(task) == "switch":
                for case in as_list(task["switch"]):
                    for label, way in case.items() if isinstance(case, dict) else ():
                        when = str(as_dict(way).get("when") or "")
                        go([Loose(key, "case", str(label), when)], as_dict(way).get("then"), place)
                if not any(
                    "when" not in as_dict(item)
                    for child in as_list(task["switch"])
                    if isinstance(child, dict)
                    for item in child.values()
                ):
                    go([Loose(key, "case", "otherwise")], task.get("then"), place)
            else:
                go(out, task.get("then"), place)
            if gate is not None:
                go([Loose(gate, "case", "no")], None, place)
        for place, (_, task, here) in enumerate(tasks):
            target = ids[place]
            if "if" in task:
                self._add_arrows(arriving[place], f"{target}.if", here)
                self._add_arrows([Loose(f"{target}.if", "case", "yes", str(task["if"]))], target, here)
            else:
                self._add_arrows(arriving[place], target, here)
        return leaving if tasks else entry

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

    def _read_task(
        self, name: str, key: str, task: dict[str, Any], here: str, scope: str | None, before: str | None, path: str
    ) -> list[Loose]:
        """Reads one task and what is inside it; returns the arrows that leave it."""
        what = task_kind(task)
        inner = f"{path}/{name}".strip("/")
        common: dict[str, Any] = {
            "name": name,
            "scope": scope,
            "origin": self.base.at(here),
            "unread": unread_of(task, what),
        }
        timeout = task.get("timeout")
        if isinstance(timeout, str) and timeout in as_dict(self.used.get("timeouts")):
            timeout = as_dict(self.used.get("timeouts"))[timeout]
        common["timeout"] = duration_of(as_dict(timeout).get("after"))
        if what in ("do", "for", "fork", "try") or (what == "listen" and "foreach" in task):
            return self._read_container(what, key, task, here, common, before, inner)
        kind, effect, operation = kind_of(task, what, self.functions)
        calls = None
        if operation == "run workflow":
            flow = as_dict(task["run"]["workflow"])
            calls = f"{flow['namespace']}/{flow.get('name')}" if flow.get("namespace") else str(flow.get("name", ""))
        self.steps.append(
            Step(
                id=key,
                kind=kind,
                operation=operation,
                effect=effect,
                calls=calls or None,
                inputs=inputs_of(task, what, before),
                **common,
            )
        )
        return [] if kind == "end" else [Loose(key)]

    def _read_container(
        self,
        what: str,
        key: str,
        task: dict[str, Any],
        here: str,
        common: dict[str, Any],
        before: str | None,
        path: str,
    ) -> list[Loose]:
        more = list(inputs_of(task, "", before))
        if what == "do":
            self.steps.append(Step(id=key, kind="group", operation="do", inputs=tuple(more), **common))
            self._read_level(task["do"], f"{here}/do", key, [], path)
        elif what == "for":
            over = as_dict(task["for"])
            items = str(over.get("in") or "")
            until = str(task.get("while") or "")
            repeat = Repeat(
                items=items or None, until=f"not ({until})" if until else None, refs=refs_in([items, until], before)
            )
            more += [Binding(name=key, value=over[key]) for key in ("each", "at") if key in over]
            self.steps.append(Step(id=key, kind="loop", operation="for", repeat=repeat, inputs=tuple(more), **common))
            self._read_level(task.get("do"), f"{here}/do", key, [], path)
        elif what == "listen":
            each = as_dict(task["foreach"])
            more += inputs_of(task, "listen", before)
            self.steps.append(
                Step(
                    id=key,
                    kind="loop",
                    operation="listen foreach",
                    repeat=Repeat(items="events"),
                    inputs=tuple(more),
                    **common,
                )
            )
            self._read_level(each.get("do"), f"{here}/foreach/do", key, [], path)
        elif what == "fork":
            fork = as_dict(task["fork"])
            if "compete" in fork:
                more.append(make_binding("compete", fork["compete"], before))
            self.steps.append(Step(id=key, kind="parallel", operation="fork", inputs=tuple(more), **common))
            for place, branch in enumerate(as_list(fork.get("branches"))):
                label = next(iter(branch), "") if isinstance(branch, dict) else ""
                pointer = f"{here}/fork/branches"
                # Each branch is one task: a list of one, so that nothing leads from one branch to the next.
                self._read_level(
                    [branch], f"{pointer}/{place}" if place else pointer, key, [Loose(key, "case", str(label))], path
                )
        else:
            return self._read_try(key, task, here, common, more, path)
        return [Loose(key)]

    def _read_try(
        self, key: str, task: dict[str, Any], here: str, common: dict[str, Any], more: list[Binding], path: str
    ) -> list[Loose]:
        catch = as_dict(task.get("catch"))
        given = catch.get("retry")
        rule = as_dict(as_dict(self.used.get("retries")).get(given)) if isinstance(given, str) else as_dict(given)
        attempts = as_dict(as_dict(rule.get("limit")).get("attempt")).get("count")
        retry = (
            Retry(attempts=attempts, wait=duration_of(rule.get("delay")))
            if isinstance(attempts, int) and attempts > 0
            else None
        )
        for name in ("errors", "as", "when", "exceptWhen"):
            if name in catch:
                more.append(make_binding(f"catch.{name}", catch[name], None))
        if (rule and retry is None) or rule.keys() - {"limit", "delay"}:
            more.append(Binding(name="catch.retry", value=rule))
        self.steps.append(
            Step(id=key, kind="guard", operation="try", retry=retry, inputs=tuple(more),
                 on_fault="route" if catch.get("do") else "continue", **common)
        )  # fmt: skip
        self._read_level(task["try"], f"{here}/try", key, [], path)
        out = [Loose(key)]
        if catch.get("do"):
            error = [Loose(key, "error", "on error", str(catch.get("when") or ""), ("failure",))]
            out += self._read_level(catch["do"], f"{here}/catch/do", common["scope"], error, f"{path}/catch")
        return out


def _event_types(on: dict[str, Any]) -> list[str]:
    """The types of the events that set a flow off or that a task waits for."""
    found: list[str] = []
    for way in ("one", "any", "all"):
        for one in as_list(on.get(way)) or [on.get(way)]:
            given = as_dict(as_dict(one).get("with"))
            if given:
                found.append(str(given.get("type") or given.get("source") or "any event"))
            elif isinstance(one, dict):
                found.append("any event")
    return found

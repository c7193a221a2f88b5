# Which task follows which. A list of tasks runs from top to bottom; `then` leads elsewhere in the list, branches that run side
# by side become a fork, what follows a failure stands in the `catch` of a guarded block.
"""Lists of tasks of the Serverless Workflow DSL."""

from __future__ import annotations

from typing import Any

from zeitbuch.core.model.records import Link, Step

from .sayable import NotSayable, Outline
from .serverless_tasks import catch_of, common_parts, own_parts

Task = dict[str, Any]
_DEPTH = 50
_MARK = "zeitbuch.then"  # where a task leads, until the order of its list is known


class TaskWriter:
    """Writes the tasks of one flow; ``names`` are those of the steps within the document."""

    def __init__(self, outline: Outline, names: dict[str, str]) -> None:
        self.outline = outline
        self.names = names
        self.taken = set(names.values())
        self.written: set[str] = set()
        self.open: list[str] = []  # the steps in whose branches or blocks we are

    def write_level(self, scope: str | None) -> list[Task]:
        """The tasks that stand directly in a scope."""
        entries = self.outline.entries.get(scope, [])
        if not entries:
            return []
        if len(entries) > 1:
            if scope is None:
                titles = ", ".join(f"'{self.outline.title(key)}'" for key in entries[:3])
                raise NotSayable(f"its triggers start at different steps: {titles}")
            return [{self._new_name(f"{self.names[scope]} branches"): self._fork(entries, None)}]
        whole = scope is None  # falling off the end of the document ends the run
        return self._write_list(entries[0], None, "end" if whole else "exit", "end" if whole else "exit")

    def _new_name(self, text: str) -> str:
        made, number = text, 2
        while made in self.taken:
            made, number = f"{text} {number}", number + 1
        self.taken.add(made)
        return made

    # -- lists --------------------------------------------------------------------------------------------------------

    def _write_list(self, entry: str, stop: str | None, ends: str = "exit", falls: str = "exit") -> list[Task]:
        """The tasks from an entry on; those at and behind ``stop`` stand in an outer list. ``ends`` is the directive for a step
        behind which nothing follows, ``falls`` what it means to fall off the end of the list."""
        stops = [stop] if stop is not None else []
        keys = self.outline.reached_from([entry], stops, errors=False)
        keys.sort(key=lambda key: key != entry)  # the entry first, the others in the order of the flow
        for key in keys:
            if key in self.written:
                raise NotSayable(f"'{self.outline.title(key)}' is reached from branches that do not meet at one step")
            if key in self.open:
                raise NotSayable(f"an arrow leads back to '{self.outline.title(key)}' out of a branch")
        if len(self.open) > _DEPTH:
            raise NotSayable("it has branches within branches too deep to write")
        tasks: list[Task] = []
        inside: set[str] = set()
        places: dict[str, str] = {}  # step -> the first task that stands for it
        for key in keys:
            if key in inside or self.outline.steps[key].kind == "end":
                continue
            self.open.append(key)
            made, within = self._write_step(key, stop)
            self.open.pop()
            inside |= within
            places[key] = next(iter(made[0]))
            tasks += made
        self.written |= set(keys)
        self._settle(tasks, places, stop, ends, falls)
        return tasks

    def _settle(self, tasks: list[Task], places: dict[str, str], stop: str | None, ends: str, falls: str) -> None:
        """Puts names in the place of steps, and leaves out what the order of the list says."""
        names = [next(iter(task)) for task in tasks]
        for place, task in enumerate(tasks):
            body = next(iter(task.values()))
            after = falls if place + 1 == len(tasks) else names[place + 1]
            for holder in _holders(body):
                if _MARK in holder:
                    target = holder.pop(_MARK)
                    then = ends if target is None else self._directive(target, places, stop)
                    if then != after or holder is not body:
                        holder["then"] = then

    def _directive(self, target: str, places: dict[str, str], stop: str | None) -> str:
        if target == stop:
            return "exit"
        if target in places:
            return places[target]
        step = self.outline.steps[target]
        if step.kind == "end":
            return "end" if step.ends == "run" or self.outline.scope_of(step) is None else "exit"
        raise NotSayable(f"an arrow leads back to '{self.outline.title(target)}' out of a branch")

    # -- one step -----------------------------------------------------------------------------------------------------

    def _write_step(self, key: str, stop: str | None) -> tuple[list[Task], set[str]]:
        """The tasks of one step, and the steps that were written into branches of it."""
        step, name = self.outline.steps[key], self.names[key]
        on, cases = self.outline.ways(key, "next"), self.outline.ways(key, "case")
        errors = self.outline.ways(key, "error")
        if (len(on) > 1 and cases) or (step.kind == "decide" and errors):
            raise NotSayable(f"several kinds of ways lead on from '{step.title}'")
        body = self._body_of(step)
        if not step.enabled:
            body["if"] = "${ false }"
        within: set[str] = set()
        tasks: list[Task] = []
        if step.kind == "decide":
            body |= {"switch": self._switch(step, cases, on)}
            return [{name: body}], within
        if errors or (step.kind != "guard" and (step.retry is not None or step.on_fault == "continue")):
            body, inner = self._guarded(step, name, body, errors, on)
            name = name if step.kind == "guard" else self._new_name(f"{name} guarded")
            within |= inner
        tasks.append({name: body})
        if len(on) > 1:
            tasks = self._with_branches(step, tasks, on, stop)
            stops = [self.outline.meetings.get(key) or stop or ""]
            within |= set(self.outline.reached_from([link.target for link in on], stops, errors=False))
        elif cases:
            tasks.append({self._new_name(f"{name} outcome"): {"switch": self._switch(step, cases, on)}})
        else:
            body[_MARK] = on[0].target if on else None
        return tasks, within

    def _with_branches(self, step: Step, tasks: list[Task], on: list[Link], stop: str | None) -> list[Task]:
        """The tasks of a step with the fork behind it; a step that does nothing but part the ways is the fork itself."""
        join = self.outline.meetings.get(step.id)
        made = self._fork([link.target for link in on], join if join is not None else stop, on)
        made[_MARK] = join
        name = self.names[step.id]
        if step.kind == "parallel" and not self.outline.inside.get(step.id) and name in tasks[0]:
            return [{name: {**common_parts(step), **made}}]
        return [*tasks, {self._new_name(f"{name} branches"): made}]

    def _body_of(self, step: Step) -> Task:
        """What a step does, with the steps inside it."""
        inside = bool(self.outline.inside.get(step.id))
        body = common_parts(step)
        if not inside:
            return body if step.kind in ("decide", "guard") else {**own_parts(step), **body}
        if step.kind == "parallel":
            entries = self.outline.entries.get(step.id, [])
            return {**self._fork(entries, None, self.outline.branches.get(step.id, [])), **body}
        tasks = self.write_level(step.id)
        if step.kind == "guard":
            return {"try": tasks, "catch": catch_of(step), **body}
        return {**own_parts(step), **body, "do": tasks}

    def _guarded(self, step: Step, name: str, body: Task, errors: list[Link], on: list[Link]) -> tuple[Task, set[str]]:
        """A step in a guarded block, with what follows its failure."""
        if step.kind == "guard":
            guarded = {**body, "try": body.get("try", []), "catch": body.get("catch", catch_of(step))}
        else:
            guarded = {"try": [{name: body}], "catch": catch_of(step)}
        if not errors:
            return guarded, set()
        after = on[0].target if len(on) == 1 else None
        if len(errors) > 1:
            raise NotSayable(f"'{step.title}' has several ways on for its failure")
        target = errors[0].target
        if target == after:
            return guarded, set()
        if errors[0].condition:
            guarded["catch"]["when"] = errors[0].condition
        region = self.outline.reached_from([target], [after] if after else [], errors=False)
        within = set(region)
        strange = next((key for key in region if not within.issuperset(self._before(key) - {step.id})), None)
        if strange is not None:
            raise NotSayable(f"the way on after a failure of '{step.title}' leads into the usual way")
        top = self.outline.scope_of(step) is None
        if not top and after and any(not self.outline.ways(key, "next", "case") for key in region):
            raise NotSayable(f"after a failure of '{step.title}' the block would end before its other steps")
        guarded["catch"]["do"] = self._write_list(target, after, "end" if top else "exit")
        return guarded, within

    def _before(self, key: str) -> set[str]:
        return set(self.outline.arriving.get(key, ()))

    def _switch(self, step: Step, cases: list[Link], on: list[Link]) -> list[Task]:
        """The cases of a decision. Without a condition of its own a case can only be the one that is taken otherwise."""
        bare = [link for link in cases if not link.condition]
        if len(bare) + len(on) > 1:
            titles = ", ".join(f"'{link.label or self.outline.title(link.target)}'" for link in bare[:3])
            raise NotSayable(f"cases of '{step.title}' have no condition: {titles}")
        ordered = [link for link in cases if link.condition] + bare + on
        found: dict[str, Task] = {}
        for link in ordered:
            label = link.label or ("otherwise" if not link.condition else self.outline.title(link.target))
            label = label if label not in found else f"{label} {len(found) + 1}"
            when = {"when": link.condition} if link.condition else {}
            found[label if label not in found else f"case {len(found) + 1}"] = {**when, _MARK: link.target}
        return [{label: way} for label, way in found.items()]

    # -- branches side by side ----------------------------------------------------------------------------------------

    def _fork(self, starts: list[str], stop: str | None, links: list[Link] | None = None) -> Task:
        """Branches that run side by side: a task each, several in a block."""
        labels = {link.target: link.label for link in links or [] if link.label}
        branches: list[Task] = []
        for start in starts:
            if start == stop:
                continue  # a branch in which nothing happens
            tasks = self._write_list(start, stop)
            if len(tasks) == 1:
                branches += tasks
            else:
                branches.append({self._new_name(labels.get(start) or f"{self.names[start]} branch"): {"do": tasks}})
        return {"fork": {"branches": branches}}


def _holders(body: Task) -> list[Task]:
    """The task itself and the cases of its switch."""
    cases = [way for case in body.get("switch", ()) for way in case.values()]
    return [body, *cases]

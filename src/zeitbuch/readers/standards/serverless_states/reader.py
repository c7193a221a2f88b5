# Serverless Workflow 0.8 (CNCF), YAML or JSON -> a flow. States lead to each other by name; what starts the workflow stands at
# its head or in its first state. Version 1.0 is another language, read by readers/standards/serverless.
"""Reading Serverless Workflow definitions of version 0.8."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from msgspec import structs

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Binding, Content, Flow, Link, Origin, Schedule, Step, Trigger, Variable
from zeitbuch.readers.input import clock_texts
from zeitbuch.readers.input.limits import count_values
from zeitbuch.readers.input.views import View, noise_below

from .actions import Definitions
from .states import StateReader

_WHOLE = (
    "annotations", "keepActive", "expressionLang", "autoRetries", "dataInputSchema", "timeouts", "auth", "metadata", "key",
)  # fmt: skip


def recognises(document: Any) -> bool:
    """Whether a document says that it is of version 0.8 (or 0.7, which says the same in the same words)."""
    if not isinstance(document, dict) or not isinstance(document.get("states"), list):
        return False
    return str(document.get("specVersion", "")).startswith(("0.8", "0.7"))


def flows(document: Any, base: Origin, count: int) -> Iterator[tuple[Flow, list[Problem]]]:
    """The one flow of a document."""
    yield WorkflowReader(document, base).read_flow(count)


class WorkflowReader:
    """Reads one workflow."""

    def __init__(self, document: dict[str, Any], base: Origin) -> None:
        self.document = View(document)
        self.base = base
        self.shared = Definitions(self.document, base)
        self.states = self.document.views("states")
        self.names = {state.text("name") for state in self.states}
        self.reader = StateReader(self.shared)
        self.problems: list[Problem] = []
        self.lost: list[Any] = []

    def read_flow(self, count: int) -> tuple[Flow, list[Problem]]:
        """The workflow as a flow."""
        document = self.document
        start = document.view("start")
        first = document.text("start") or start.text("stateName") or self._first_state()
        triggers = self._triggers_of(start, first)
        for state in self.states:
            made = self.reader.read_state(state, state.peek("name") == first)
            self._read_ways(state, made.id)
        if first in self.names:
            self.reader.links[:0] = [
                Link(source=trigger.id, target=first, origin=trigger.origin) for trigger in triggers
            ]
        elif first:
            self._tell_target(first, "/start")
        steps = self._steps_with_unread()
        document.expect("specVersion", "0.8", "0.8.", "0.7", "0.7.")
        key, name = document.text("id"), document.text("name")
        flow = Flow(
            id=key or document.text("key") or name or self.base.file,
            name=name or key,
            description=document.text("description"),
            version=document.text("version"),
            triggers=tuple(triggers),
            steps=steps,
            links=tuple(self.reader.links),
            variables=tuple(self._variables()),
            format="serverless-0.8",
            origin=self.base.at(""),
        )
        unread = {**document.rest(), **({"unread parts": self.lost} if self.lost else {})}
        missed = [unread, *[step.unread for step in steps]]
        content = Content(values=count, unread=sum(map(count_values, filter(None, missed))))
        flow = structs.replace(flow, unread=unread, noise=noise_below(document), content=content)
        return flow, [*self.problems, *self.shared.problems]

    def _first_state(self) -> str:
        return self.states[0].text("name") if self.states else ""

    def _steps_with_unread(self) -> tuple[Step, ...]:
        """The steps with what was not read of them; the innermost first, so that nothing is told twice."""
        rests: dict[str, dict[str, Any]] = {}
        views = self.reader.views
        for key in sorted(views, key=lambda key: views[key].pointer.count("/"), reverse=True):
            view = views[key]
            left = view.rest()
            view.mark(*view.value)
            if left:
                rests[key] = left
        known = {step.id for step in self.reader.steps}
        for key in [key for key in rests if key not in known]:
            outer = key.rpartition(".")[0]  # the single action of a state is the step of the state
            rests[outer] = {**rests.get(outer, {}), **rests.pop(key)}
        return tuple(
            structs.replace(step, unread=rests[step.id]) if step.id in rests else step for step in self.reader.steps
        )

    # -- head ---------------------------------------------------------------------------------------------------------

    def _triggers_of(self, start: View, first: str) -> list[Trigger]:
        origin = self.base.at("/start")
        found = self._clock_of(start, origin)
        state = next((state for state in self.states if state.peek("name") == first), None)
        if state is not None and state.peek("type") == "event":
            found += self._events_of(state)
        return found or [Trigger(id="start", kind="manual", operation="start", origin=origin)]

    def _clock_of(self, start: View, origin: Origin) -> list[Trigger]:
        """The schedule of the start: a cron expression or an ISO 8601 repeating interval."""
        given = start.view("schedule")
        text = start.text("schedule") or given.text("interval")
        cron = given.text("cron") or given.view("cron").text("expression")
        if not text and not cron:
            return []
        schedule = Schedule(cron=cron) if cron else clock_texts.schedule_of_text(text)
        said = {
            "validUntil": given.view("cron").take("validUntil"),
            "interval": text if schedule is None or cron else "",
        }
        zone = given.text("timezone")
        if schedule is not None and zone:
            schedule = structs.replace(schedule, zone=zone)
        elif zone:
            said["timezone"] = zone
        inputs = tuple(Binding(name=name, value=value) for name, value in said.items() if value)
        words = "start schedule"
        return [
            Trigger(id="schedule", kind="schedule", operation=words, schedule=schedule, inputs=inputs, origin=origin)
        ]

    def _events_of(self, state: View) -> list[Trigger]:
        """The events that start a run: each of those that the first state waits for."""
        found = []
        for one in state.views("onEvents"):
            names = one.texts("eventRefs")
            for name in names:
                _, *inputs = self.shared.event_inputs(name, one.pointer)
                held = self.shared.look_up("events", name, one.pointer)
                together = [Binding(name="together with", value=len(names) - 1)] if len(names) > 1 else []
                found.append(
                    Trigger(id=f"on.{name}", kind="event", name=name, operation="event", event=str(held.peek("type") or name),
                            inputs=(*inputs, *together), origin=self.base.at(one.pointer))
                )  # fmt: skip
        return found

    def _variables(self) -> list[Variable]:
        document = self.document
        found = [Variable(name=f"secrets.{name}") for name in document.texts("secrets")]
        constants = document.view("constants")
        found += [Variable(name=f"constants.{name}", value=constants.take(name)) for name in constants.value]
        for held in document.views("errors"):
            name, code, about = held.text("name"), held.text("code"), held.text("description")
            found.append(Variable(name=f"errors.{name}", value=code or None, description=about))
        found += [Variable(name=name, value=document.take(name)) for name in _WHOLE if name in document]
        for part in ("functions", "events", "retries"):
            if isinstance(document.peek(part), str):
                found.append(Variable(name=part, value=document.take(part), description="in a file of its own"))
        return found

    # -- where states lead --------------------------------------------------------------------------------------------

    def _read_ways(self, state: View, key: str) -> None:
        """The arrows that leave a state: its transition, its cases, its ways on after errors."""
        self._add_way(state, Link(source=key, target=""))
        for place, case in enumerate(state.views("dataConditions")):
            condition = case.text("condition")
            self._add_case(case, key, place, condition)
        for place, case in enumerate(state.views("eventConditions")):
            name = case.text("eventRef")
            extra = case.take("eventDataFilter")
            self._add_case(case, key, 100 + place, f"event {name}" if name else "", str(extra) if extra else "")
        default = state.view("defaultCondition")
        if default:
            link = Link(source=key, target="", role="case", label=default.text("name") or "otherwise", otherwise=True)
            self._add_way(default, link, f"{key}.otherwise")
        for place, error in enumerate(state.views("onErrors")):
            names = [error.text("errorRef")] if error.peek("errorRef") else error.texts("errorRefs")
            words = " or ".join(names)
            link = Link(source=key, target="", role="error", label="on error", condition=words, after=("failure",))
            self._add_way(error, link, f"{key}.error {place + 1}")

    def _add_case(self, case: View, key: str, place: int, condition: str, note: str = "") -> None:
        label = case.text("name")
        link = Link(source=key, target="", role="case", label=label, condition=condition, note=note)
        self._add_way(case, link, f"{key}.{label or place + 1}")

    def _add_way(self, view: View, link: Link, end: str = "") -> None:
        """An arrow to the state that follows; a case that ends gets an end of its own."""
        given = view.view("transition")
        target = view.text("transition") or given.text("nextState")
        origin = self.base.at(view.pointer)
        more = [f"{part}: {given.take(part)}" for part in given.value if part not in given.taken] if end else []
        if target and target in self.names:
            note = "\n".join(filter(None, [link.note, *more]))
            self.reader.links.append(structs.replace(link, target=target, origin=origin, note=note))
            return
        if target:
            self._tell_target(target, view.pointer)
            self.lost.append({f"transition of {link.source}": target, "label": link.label, "condition": link.condition})
            self.lost += [{"transition": words} for words in more]
        if end and view.peek("end") not in (None, False):
            self._add_end(view, structs.replace(link, target=end, origin=origin))
        else:
            view.flag("end")

    def _add_end(self, view: View, link: Link) -> None:
        ends = view.take("end")
        said = ends.items() if isinstance(ends, dict) else ()
        inputs = tuple(Binding(name=f"end.{part}", value=value) for part, value in said)
        self.reader.links.append(link)
        self.reader.steps.append(
            Step(id=link.target, kind="end", name="end", operation="end", inputs=inputs, origin=link.origin)
        )

    def _tell_target(self, target: str, pointer: str) -> None:
        message = f"expected a state of the workflow, found '{target}'"
        hint = "the link is left out and listed under unread parts"
        self.problems.append(Problem("link-end", "finding", message, self.base.at(pointer), hint))

# One state -> one step, with steps inside where it runs several actions. What each type of state is, is a table.
"""States of Serverless Workflow 0.8."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from zeitbuch.core.model.records import Binding, Link, Repeat, Step, StepKind
from zeitbuch.readers.input.link_builder import Loose
from zeitbuch.readers.input.views import View
from zeitbuch.readers.standards.serverless.tasks import make_binding, refs_in

from .actions import Definitions, flattened, step_of_action

_FILTERS = ("stateDataFilter", "metadata", "compensatedBy", "usedForCompensation", "eventDataFilter")


class StateReader:
    """Reads the states of one workflow into steps and the links within them."""

    def __init__(self, shared: Definitions) -> None:
        self.shared = shared
        self.steps: list[Step] = []
        self.links: list[Link] = []
        self.views: dict[str, View] = {}

    def read_state(self, state: View, starts: bool) -> Step:
        """The step of a state. A state that waits for events and ``starts`` the workflow waits no more: a trigger does."""
        kind = state.text("type")
        before = len(self.steps)
        made = _STATES.get(kind, _other_state)(self, state, starts)
        self.views[made.id] = state
        self.steps.insert(before, made)
        return made

    # -- what states share ---------------------------------------------------------------------------------------------

    def common_fields(self, state: View, inputs: list[Binding]) -> dict[str, Any]:
        """What every state has: its place, time limits, filters, what its end or transition says beside where it leads."""
        limits = state.view("timeouts")
        span = limits.duration("stateExecTimeout")
        more = [
            make_binding(f"timeouts.{key}", limits.take(key), None) for key in limits.value if key not in limits.taken
        ]
        for key in _FILTERS:
            more += flattened(state, key)
        for key, own in (("transition", "nextState"), ("end", "")):
            given = state.view(key)
            more += [make_binding(f"{key}.{part}", given.take(part), None) for part in given.value if part != own]
        return {
            "id": state.text("name") or state.pointer, "name": state.text("name"), "operation": state.text("type"), "timeout": span,
            "inputs": (*inputs, *more), "origin": self.shared.base.at(state.pointer),
        }  # fmt: skip

    def add_chain(self, actions: list[View], scope: str, path: str, entry: list[Loose]) -> list[Loose]:
        """Actions that run one after another; returns the arrows that leave the last."""
        loose = entry
        for place, action in enumerate(actions):
            key = f"{path}.{place + 1}"
            condition = action.text("condition")
            past: list[Loose] = []
            if condition:
                gate = f"{key}.if"
                origin = self.shared.base.at(action.pointer)
                self.steps.append(
                    Step(id=gate, kind="decide", name=f"{action.text('name') or key}?", operation="condition", scope=scope,
                         condition=condition, refs=refs_in(condition, None), origin=origin)
                )  # fmt: skip
                self.add_arrows(loose, gate)
                loose, past = [Loose(gate, "case", "yes", condition)], [Loose(gate, "case", "no")]
            step = step_of_action(action, key, "", scope, self.shared)
            self.views[key] = action
            self.steps.append(step)
            self.add_arrows(loose, key)
            loose = [Loose(key), *past]
        return loose

    def add_arrows(self, loose: list[Loose], target: str) -> None:
        """Arrows to a step."""
        for one in loose:
            refs = refs_in(one.condition, None)
            self.links.append(
                Link(
                    source=one.source,
                    target=target,
                    role=one.role,
                    label=one.label,
                    condition=one.condition,
                    refs=refs,
                    after=one.after,
                )
            )

    def add_wait(self, names: list[str], key: str, scope: str, pointer: str, more: list[Binding]) -> None:
        """A step that waits for events."""
        inputs = [binding for name in names for binding in self.shared.event_inputs(name, pointer)]
        title = f"event {' or '.join(names)}" if names else "event"
        self.steps.append(
            Step(id=key, kind="wait", name=title, operation="event", scope=scope, inputs=(*inputs, *more),
                 origin=self.shared.base.at(pointer))
        )  # fmt: skip


def _operation_state(reader: StateReader, state: View, starts: bool) -> Step:
    mode = state.text("actionMode")
    return _with_actions(reader, state, state.views("actions"), mode, [])


def _with_actions(reader: StateReader, state: View, actions: list[View], mode: str, more: list[Binding]) -> Step:
    """A state with its actions: a single one is the step itself."""
    more = [*more, *([Binding(name="actionMode", value=mode)] if mode else [])]
    common = reader.common_fields(state, more)
    if len(actions) == 1 and not actions[0].peek("condition"):
        (action,) = actions
        held = step_of_action(action, common["id"], common["name"], None, reader.shared)
        reader.views[f"{common['id']}.1"] = action
        given = {**common, "inputs": (*held.inputs, *common["inputs"]), "operation": held.operation}
        return Step(kind=held.kind, effect=held.effect, calls=held.calls, retry=held.retry, **given)
    if mode == "parallel":
        for place, action in enumerate(actions):
            entry = [Loose(common["id"], "case", action.text("name"))]
            reader.add_chain([action], common["id"], f"{common['id']}.{place + 1}", entry)
        return Step(kind="parallel", **common)
    reader.add_chain(actions, common["id"], common["id"], [])
    return Step(kind="group", **common)


def _event_state(reader: StateReader, state: View, starts: bool) -> Step:
    heard = state.views("onEvents")
    exclusive = state.flag("exclusive")
    more = [Binding(name="exclusive", value=exclusive)] if exclusive is not None else []
    if starts and len(heard) == 1:
        (one,) = heard
        one.texts("eventRefs")  # told with the trigger
        more += flattened(one, "eventDataFilter")
        return _with_actions(reader, state, one.views("actions"), one.text("actionMode"), more)
    common = reader.common_fields(state, more)
    for place, one in enumerate(heard):
        key, names = f"{common['id']}.event {place + 1}", one.texts("eventRefs")
        mode = one.text("actionMode")
        filters = [*flattened(one, "eventDataFilter"), *([Binding(name="actionMode", value=mode)] if mode else [])]
        reader.add_wait(names, key, common["id"], one.pointer, filters)
        reader.add_chain(one.views("actions"), common["id"], key, [Loose(key)])
    return Step(kind="group", **common)


def _switch_state(reader: StateReader, state: View, starts: bool) -> Step:
    return Step(kind="decide", **reader.common_fields(state, []))


def _parallel_state(reader: StateReader, state: View, starts: bool) -> Step:
    more = [binding for key in ("completionType", "numCompleted") for binding in flattened(state, key)]
    common = reader.common_fields(state, more)
    for place, branch in enumerate(state.views("branches")):
        name = branch.text("name") or f"branch {place + 1}"
        limits = flattened(branch, "timeouts")
        key = f"{common['id']}.{name}"
        reader.links.append(Link(source=common["id"], target=key, role="case", label=name))
        actions = branch.views("actions")
        if len(actions) == 1 and not actions[0].peek("condition") and not limits:
            reader.views[key] = actions[0]
            reader.steps.append(step_of_action(actions[0], key, name, common["id"], reader.shared))
            continue
        origin = reader.shared.base.at(branch.pointer)
        reader.steps.append(
            Step(id=key, kind="group", name=name, operation="branch", scope=common["id"], inputs=tuple(limits), origin=origin)
        )  # fmt: skip
        reader.add_chain(actions, key, key, [])
    return Step(kind="parallel", **common)


def _foreach_state(reader: StateReader, state: View, starts: bool) -> Step:
    items = state.text("inputCollection")
    names = ("iterationParam", "outputCollection", "batchSize", "mode")
    more = [binding for key in names for binding in flattened(state, key)]
    common = reader.common_fields(state, more)
    reader.add_chain(state.views("actions"), common["id"], common["id"], [])
    return Step(kind="loop", repeat=Repeat(items=items or None, refs=refs_in(items, None)), **common)


def _callback_state(reader: StateReader, state: View, starts: bool) -> Step:
    common = reader.common_fields(state, [])
    action, name = state.view("action"), state.text("eventRef")
    loose = reader.add_chain([action] if action else [], common["id"], common["id"], [])
    key = f"{common['id']}.event"
    reader.add_wait([name] if name else [], key, common["id"], state.pointer, [])
    reader.add_arrows(loose, key)
    return Step(kind="group", **common)


def _plain_state(kind: StepKind, *names: str) -> Callable[[StateReader, View, bool], Step]:
    def read(reader: StateReader, state: View, starts: bool) -> Step:
        inputs = [binding for key in names for binding in flattened(state, key)]
        return Step(kind=kind, **reader.common_fields(state, inputs))

    return read


_STATES: dict[str, Callable[[StateReader, View, bool], Step]] = {
    "operation": _operation_state,
    "event": _event_state,
    "switch": _switch_state,
    "parallel": _parallel_state,
    "foreach": _foreach_state,
    "callback": _callback_state,
    "sleep": _plain_state("wait", "duration"),
    "inject": _plain_state("shape", "data"),
}
_other_state = _plain_state("other")

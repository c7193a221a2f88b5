# What a task of the Serverless Workflow DSL 1.0 (CNCF) is in the words of the model, and the small parts tasks share:
# parameters and expressions.
"""Kinds, parameters and expressions of Serverless Workflow tasks."""

from __future__ import annotations

import re
from typing import Any

from zeitbuch.core.model.records import Binding, Effect, Ref, StepKind
from zeitbuch.readers.input.link_builder import METHOD_EFFECTS
from zeitbuch.readers.input.views import View

# DSL reference, "Task": the key that names the kind of a task
TASKS = ("for", "try", "fork", "listen", "call", "emit", "raise", "run", "set", "switch", "wait", "do")
COMMON = frozenset({"if", "input", "output", "export", "timeout", "then", "metadata"})
_EXPRESSION = re.compile(r"\$\{\s*(.{0,4000}?)\s*\}", re.DOTALL)
_NAME = re.compile(r"\$([A-Za-z_]\w*)((?:\.[A-Za-z_]\w*)*)|(?<![\w.\])$])\.([A-Za-z_]\w*(?:\.[A-Za-z_]\w*)*)")


def task_kind(task: View) -> str:
    """The key that says what a task is; empty when none of the DSL's is there."""
    return next((key for key in TASKS if key in task), "")


def kind_of(task: View, name: str, functions: View) -> tuple[StepKind, Effect, str]:
    """Kind, effect and operation of a task that contains no other."""
    if name == "call":
        return _call_kind(task.value, functions.value)
    if name == "run":
        run = task.view("run")
        way = next((key for key in ("container", "script", "shell", "workflow") if key in run), "")
        return ("subflow" if way == "workflow" else "code"), "none", f"run {way}".strip()
    kinds: dict[str, tuple[StepKind, Effect]] = {
        "emit": ("send", "send"), "listen": ("wait", "none"), "raise": ("end", "none"), "set": ("shape", "none"),
        "wait": ("wait", "none"), "switch": ("decide", "none"),
    }  # fmt: skip
    kind, effect = kinds.get(name, ("other", "none"))
    return kind, effect, name or ", ".join(sorted(task.value.keys() - COMMON))[:80]


def _call_kind(task: dict[str, Any], functions: dict[str, Any]) -> tuple[StepKind, Effect, str]:
    called = str(task["call"])
    given = task.get("with")
    held = functions.get(called)
    if isinstance(held, dict) and "call" in held and held is not task:
        kind, effect, operation = _call_kind({**held, "call": str(held["call"])}, {})
        return kind, effect, f"call {called} ({operation.removeprefix('call ')})"
    if called == "http":
        method = str(given.get("method", "get")).lower() if isinstance(given, dict) else "get"
        return "http", METHOD_EFFECTS.get(method, "none"), f"call http {method}"
    if called in ("openapi", "grpc"):
        return "http", "none", f"call {called}"
    if called == "asyncapi":
        sends = isinstance(given, dict) and ("message" in given or given.get("operation") == "send")
        return ("send", "send", "call asyncapi") if sends else ("wait", "none", "call asyncapi")
    if isinstance(held, dict) and "run" in held:
        return "code", "none", f"call {called}"
    return "tool", "none", f"call {called}"


def refs_in(value: Any, before: str | None) -> tuple[Ref, ...]:
    """What the runtime expressions in a value refer to: the step before, or a variable of the context."""
    found: list[Ref] = []
    stack = [value]
    while stack:
        item = stack.pop()
        if isinstance(item, str):
            for matched in _EXPRESSION.finditer(item):
                found += _read_refs(matched[1], matched[0], before)
        elif isinstance(item, dict):
            stack += reversed(list(item.values()))
        elif isinstance(item, list):
            stack += reversed(item)
    return tuple(dict.fromkeys(found))


def _read_refs(inner: str, whole: str, before: str | None) -> list[Ref]:
    found: list[Ref] = []
    for matched in _NAME.finditer(inner):
        name, path, own = matched[1], (matched[2] or "").lstrip("."), matched[3]
        if own is not None:
            found.append(
                Ref(step=before, path=own, text=whole) if before else Ref(variable="input", path=own, text=whole)
            )
        elif name in ("context", "secrets", "workflow", "runtime", "input", "output", "task", "authorization"):
            head, _, rest = path.partition(".")
            found.append(Ref(variable=f"{name}.{head}" if head else name, path=rest, text=whole))
        else:
            found.append(Ref(variable=name, path=path, text=whole))
    return found


def make_binding(name: str, value: Any, before: str | None) -> Binding:
    """One input of a task."""
    refs = refs_in(value, before)
    return Binding(name=name, value=value, decided="data" if refs else "fixed", refs=refs)


def inputs_of(task: View, name: str, before: str | None, functions: View) -> tuple[Binding, ...]:
    """The parameters of a task, objects taken apart one level; those of a function it calls stand before its own."""
    parts: dict[str, Any] = {}
    if name == "call":
        parts |= _parts_of_call(task, functions)
    elif name in ("run", "set", "emit", "raise", "listen", "wait"):
        parts |= _parts_of_task(task, name)
    for key in ("input", "output", "export"):
        if key in task:
            parts |= _flattened(key, task.take(key))
    return tuple([make_binding(key, value, before) for key, value in parts.items()])


def _parts_of_call(task: View, functions: View) -> dict[str, Any]:
    called = str(task.take("call"))
    parts: dict[str, Any] = {}
    held = functions.peek(called)
    if isinstance(held, dict):
        # A function of the document: what it says is said by every task that calls it.
        parts |= {f"function.{key}": value for key, value in held.items() if key not in ("call", "with")}
        functions.take(called)
        given = held.get("with")
        parts |= given if isinstance(given, dict) else {} if given is None else {"function.with": given}
    own = task.take("with")
    return {**parts, **own} if isinstance(own, dict) else parts if own is None else {**parts, "with": own}


def _flattened(key: str, value: Any) -> dict[str, Any]:
    return {f"{key}.{inner}": item for inner, item in value.items()} if isinstance(value, dict) else {key: value}


def _parts_of_task(task: View, name: str) -> dict[str, Any]:
    value = task.take(name)
    if not isinstance(value, dict):
        return {name: value}
    parts: dict[str, Any] = {}
    for key, inner in value.items():
        parts |= {key: inner} if name == "set" else _flattened(key, inner)
    return parts

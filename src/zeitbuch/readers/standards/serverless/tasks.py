# What a task of the Serverless Workflow DSL 1.0 (CNCF) is in the words of the model, and the small parts tasks share:
# durations, timeouts, expressions.
"""Kinds, durations and expressions of Serverless Workflow tasks."""

from __future__ import annotations

import re
from typing import Any

from zeitbuch.core.model.records import Binding, Effect, Ref, Step, StepKind
from zeitbuch.readers.input.clock_texts import duration_seconds
from zeitbuch.readers.input.limits import count_values
from zeitbuch.readers.input.link_builder import METHOD_EFFECTS

COMMON = frozenset({"if", "input", "output", "export", "timeout", "then", "metadata"})
# DSL reference, "Task": the key that names the kind of a task
TASKS = ("call", "do", "emit", "for", "fork", "listen", "raise", "run", "set", "switch", "try", "wait")
_UNITS = {"days": 86400.0, "hours": 3600.0, "minutes": 60.0, "seconds": 1.0, "milliseconds": 0.001}
_EXPRESSION = re.compile(r"\$\{\s*(.{0,4000}?)\s*\}", re.DOTALL)
_NAME = re.compile(r"\$([A-Za-z_]\w*)((?:\.[A-Za-z_]\w*)*)|(?<![\w.\])$])\.([A-Za-z_]\w*(?:\.[A-Za-z_]\w*)*)")


def duration_of(value: Any) -> float | None:
    """Seconds of a duration: an object of units, or ISO 8601 text."""
    if isinstance(value, str):
        return duration_seconds(value)
    if isinstance(value, dict) and value.keys() <= _UNITS.keys() and value:
        return sum(float(item) * _UNITS[key] for key, item in value.items() if isinstance(item, int | float))
    return None


def task_kind(task: dict[str, Any]) -> str:
    """The key that says what a task is; empty when none of the DSL's is there."""
    return next(
        (
            key
            for key in ("for", "try", "fork", "listen", "call", "emit", "raise", "run", "set", "switch", "wait", "do")
            if key in task
        ),
        "",
    )


def kind_of(task: dict[str, Any], name: str, functions: dict[str, Any]) -> tuple[StepKind, Effect, str]:
    """Kind, effect and operation of a task that contains no other."""
    if name == "call":
        return _call_kind(task, functions)
    if name == "run":
        run = task["run"] if isinstance(task["run"], dict) else {}
        way = next((key for key in ("container", "script", "shell", "workflow") if key in run), "")
        return ("subflow" if way == "workflow" else "code"), "none", f"run {way}".strip()
    kinds: dict[str, tuple[StepKind, Effect]] = {
        "emit": ("send", "send"), "listen": ("wait", "none"), "raise": ("end", "none"), "set": ("shape", "none"),
        "wait": ("wait", "none"), "switch": ("decide", "none"),
    }  # fmt: skip
    kind, effect = kinds.get(name, ("other", "none"))
    return kind, effect, name or ", ".join(sorted(task.keys() - COMMON))[:80]


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


def inputs_of(task: dict[str, Any], name: str, before: str | None) -> tuple[Binding, ...]:
    """The parameters of a task, objects taken apart one level."""
    found: list[Binding] = []
    parts: dict[str, Any] = {}
    given = task.get("with")
    if name == "call" and isinstance(given, dict):
        parts |= given
    elif name in ("run", "set", "emit", "raise", "listen", "wait"):
        _parts_of_task(task, name, parts)
    for key in ("input", "output", "export"):
        if key in task:
            inner = task[key]
            parts |= {f"{key}.{k}": value for k, value in inner.items()} if isinstance(inner, dict) else {key: inner}
    for key, value in parts.items():
        found.append(make_binding(key, value, before))
    return tuple(found)


def _parts_of_task(task: dict[str, Any], name: str, parts: dict[str, Any]) -> None:
    value = task[name]
    if isinstance(value, dict):
        for key, inner in value.items():
            parts |= (
                {f"{key}.{k}": value for k, value in inner.items()}
                if isinstance(inner, dict) and name != "set"
                else {key: inner}
            )
    else:
        parts[name] = value


def unread_of(task: dict[str, Any], name: str) -> dict[str, Any]:
    """What of a task has no place in the model."""
    understood = {
        "call": {"with"}, "for": {"while", "do"}, "try": {"catch"}, "listen": {"foreach"},
    }.get(name, set()) | COMMON | {name}  # fmt: skip
    rest = {key: value for key, value in task.items() if key not in understood}
    if task.get("metadata"):
        rest["metadata"] = task["metadata"]
    return rest


def unread_count(steps: list[Step]) -> int:
    """How many values the unread parts of steps hold."""
    return sum(count_values(step.unread) for step in steps if step.unread)

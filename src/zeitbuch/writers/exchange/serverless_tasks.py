# What one task does: the calls, events and waits of the DSL where the step is one, else a call of the builder's own operation.
"""Tasks of the Serverless Workflow DSL."""

from __future__ import annotations

from typing import Any

from zeitbuch.core.model.records import Step

from .sayable import NotSayable, given_values, prompt_values, slug

# DSL reference: what must stand in a task of a kind, parts of a duration, parts of a request.
_TAKES = {
    "emit": {"event"}, "raise": {"error"}, "listen": {"to"}, "run": {"container", "script", "shell", "workflow"},
}  # fmt: skip
_SPANS = {"days", "hours", "minutes", "seconds", "milliseconds"}
_REQUEST = {"headers", "body", "query", "output", "redirect"}
_ADDRESS = ("endpoint", "url", "uri", "address")


def common_parts(step: Step) -> dict[str, Any]:
    """What any task may say: its time limit."""
    return {"timeout": {"after": span_of(step.timeout)}} if step.timeout is not None else {}


def catch_of(step: Step) -> dict[str, Any]:
    """What a guarded block does about failures: which it catches, and how often it tries again."""
    given = given_values(step.inputs)
    found = {key.removeprefix("catch."): value for key, value in given.items() if key.startswith("catch.")}
    retry = found.pop("retry", None)
    if step.retry is not None:
        wait = {"delay": span_of(step.retry.wait)} if step.retry.wait is not None else {}
        plain = {**wait, "limit": {"attempt": {"count": step.retry.attempts}}}
        found["retry"] = retry if isinstance(retry, dict) else plain
    return found


def own_parts(step: Step) -> dict[str, Any]:
    """What the kind of a step says, without the steps inside it."""
    given = given_values(step.inputs)
    shared = {key: given.pop(key) for key in list(given) if key.split(".")[0] in ("input", "output", "export")}
    more = _unflattened(shared)
    if step.kind == "loop":
        return {"for": _loop_of(step, given), **_while_of(step), **more}
    if step.kind == "subflow" and step.calls:
        return {"run": {"workflow": _workflow_of(step, given)}, **more}
    return (_task_of_standard(step, given) or _call_of(step, given)) | more


def _task_of_standard(step: Step, given: dict[str, Any]) -> dict[str, Any]:
    """A task of a kind that the DSL has, where the inputs are what such a task takes; empty otherwise."""
    word = step.operation.split(" ")[0]
    if word in _TAKES and step.operation != "listen foreach":
        said = _unflattened(given)
        return {word: said} if said.keys() & _TAKES[word] else {}
    if step.operation == "set":
        return {"set": given}
    if step.operation == "wait" and isinstance(given.get("wait"), str):
        return {"wait": given["wait"]}
    return {"wait": given} if step.operation == "wait" and given and given.keys() <= _SPANS else {}


def _call_of(step: Step, given: dict[str, Any]) -> dict[str, Any]:
    """A call of a function: of one of the DSL's own where the step was one, else of the builder's operation."""
    if step.operation.startswith("call "):
        called = step.operation.removeprefix("call ").split(" ")[0]
        # A task of the DSL names no model: what a model map takes as prompt stood among its parameters.
        prompts = {name: value for name, value in prompt_values(step).items() if name.startswith("prompt")}
        return _with({"call": called}, {**prompts, **given})
    request = _request_of(given) if step.kind == "http" else None
    if request is not None:
        return _with({"call": "http"}, request)
    return _with({"call": step.operation or step.kind}, {**prompt_values(step), **given})


def _with(call: dict[str, Any], given: dict[str, Any]) -> dict[str, Any]:
    return {**call, **({"with": given} if given else {})}


def span_of(seconds: float) -> dict[str, int] | str:
    """A duration: whole seconds as an object, others as ISO 8601, for the DSL counts in whole numbers."""
    return {"seconds": int(seconds)} if seconds == int(seconds) else f"PT{seconds:g}S"


def _unflattened(given: dict[str, Any]) -> dict[str, Any]:
    """Names with a dot as objects, one level deep."""
    found: dict[str, Any] = {}
    for key, value in given.items():
        outer, dot, inner = key.partition(".")
        held = found.setdefault(outer, {}) if dot else found
        if isinstance(held, dict):
            held[inner if dot else key] = value
    return found


def _request_of(given: dict[str, Any]) -> dict[str, Any] | None:
    """A request with its address and method; None when the export does not say them, or says what a request has no place for."""
    address = next((name for name in _ADDRESS if isinstance(given.get(name), str)), None)
    if address is None:
        return None
    method = given.get("method", "get")
    rest = {key: value for key, value in given.items() if key not in (address, "method")}
    if not rest.keys() <= _REQUEST:
        return None
    return {"method": str(method).lower(), "endpoint": given[address], **rest}


def _loop_of(step: Step, given: dict[str, Any]) -> dict[str, Any]:
    repeat = step.repeat
    if repeat is not None and repeat.items:
        items: Any = repeat.items
    elif repeat is not None and repeat.count is not None:
        items = f"${{ [range({repeat.count})] }}"
    else:
        raise NotSayable(f"'{step.title}' repeats without a list of items or a number")
    return {"each": str(given.get("each") or "item"), "in": items, **({"at": given["at"]} if "at" in given else {})}


def _while_of(step: Step) -> dict[str, Any]:
    until = step.repeat.until if step.repeat is not None else None
    if not until:
        return {}
    bare = until.removeprefix("not (").removesuffix(")") if until.startswith("not (") else None
    return {"while": bare if bare is not None else f"not ({until})"}


def _workflow_of(step: Step, given: dict[str, Any]) -> dict[str, Any]:
    space, _, name = str(step.calls).rpartition("/")
    held = _unflattened(given).get("workflow")
    said = held if isinstance(held, dict) else {"input": given} if given else {}
    usual = {"namespace": space or "flows", "name": slug(name), "version": "0.1.0"}
    return {**usual, **said}

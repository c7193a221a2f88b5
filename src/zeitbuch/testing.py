# The conformance kit: what a reader of another package must keep to, said in sentences that name the document. The same is asked
# of the readers of the house.
"""Checks for readers that other packages write.

``check_reader(module, documents)`` in a test of the package fails with all that is wrong.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import msgspec

from .core.model.problems import Problem
from .core.model.records import Flow, Origin
from .readers.input.limits import Limits, count_values
from .readers.reading.validated import validate_flow

FOREIGN: tuple[Any, ...] = (
    None, True, 0, 1.5, "", "text", [], {}, [[]], [{}], {"": None}, {"a": [1, "b", None]}, {"flows": []}, [{"id": 1}],
    {"steps": "no list"}, {"nodes": [{}], "edges": [[0, 1]]},
)  # fmt: skip
BASE = Origin("checked.json")


def check_reader(module: Any, documents: Sequence[Any]) -> None:
    """Raises AssertionError with a sentence for everything in which a reader does not conform.

    ``module`` offers ``recognises(document) -> bool`` and ``flows(document, origin, count)``, which gives pairs of a Flow and a
    list of Problems; ``documents`` are examples that it must read, as plain trees (what ``json.loads`` gives).
    """
    faults = [*_faults_of_recognition(module, documents)]
    for place, document in enumerate(documents):
        faults += [f"document {place}: {fault}" for fault in _faults_of_reading(module, document)]
    if faults:
        raise AssertionError("\n".join(faults))


def _faults_of_recognition(module: Any, documents: Sequence[Any]) -> Iterator[str]:
    for place, document in enumerate(documents):
        if module.recognises(document) is not True:
            yield f"document {place}: expected recognises() to give True for it"
    for foreign in FOREIGN:
        try:
            if module.recognises(foreign):
                yield f"expected recognises() to give False for {foreign!r}, which is of no builder"
        except Exception as error:  # any: that is what is checked
            yield f"expected recognises() to take {foreign!r} without {type(error).__name__}: {error}"


def _faults_of_reading(module: Any, document: Any) -> Iterator[str]:
    before = msgspec.json.encode(document)
    try:
        read = list(module.flows(document, BASE, count_values(document)))
        again = list(module.flows(document, BASE, count_values(document)))
    except Exception as error:  # any: that is what is checked
        yield f"expected flows() to read it without {type(error).__name__}: {error}"
        return
    if msgspec.json.encode(document) != before:
        yield "expected flows() to leave the document as it is, found it changed"
    if not read:
        yield "expected at least one flow, found none"
    if [flow for flow, _ in read] != [flow for flow, _ in again]:
        yield "expected the same flows when it is read again"
    for flow, problems in read:
        yield from _faults_of_flow(flow, problems, document)


def _faults_of_flow(flow: Any, problems: Any, document: Any) -> Iterator[str]:
    if not isinstance(flow, Flow):
        yield f"expected a Flow, found {type(flow).__name__}"
        return
    name = f"flow '{flow.id}'"
    try:
        msgspec.convert(msgspec.to_builtins(flow), Flow)
    except (msgspec.ValidationError, TypeError) as error:
        yield f"{name}: expected the vocabularies and types of the model, found: {error}"
        return
    if not isinstance(problems, list) or not all(isinstance(problem, Problem) for problem in problems):
        yield f"{name}: expected a list of Problems beside it"
    yield from _faults_of_content(flow, document, name)


def _faults_of_content(flow: Flow, document: Any, name: str) -> Iterator[str]:
    if not flow.id:
        yield "expected a flow with an id, found an empty one"
    if not flow.format:
        yield f"{name}: expected the name of its format in `format`"
    yield from (
        f"{name}: {problem.message}"
        for problem in validate_flow(flow, Limits())[1]
        if problem.severity in ("error", "finding")
    )
    if flow.content.unread > flow.content.values:
        yield f"{name}: expected at most as many unread values as there are ({flow.content.values}), found {flow.content.unread}"
    places = [(flow.id, flow.origin)]
    places += [(step.id, step.origin) for step in flow.steps]
    places += [(trigger.id, trigger.origin) for trigger in flow.triggers]
    for identity, origin in places:
        if origin is None:
            yield f"{name}: expected an origin on '{identity}', so that messages can point"
        elif not _points_into(document, origin.pointer):
            yield f"{name}: expected the origin of '{identity}' to point into the document, found {origin.pointer!r}"


def _points_into(document: Any, pointer: str) -> bool:
    """Whether a JSON pointer (RFC 6901) leads to a value."""
    value = document
    for part in pointer.split("/")[1:]:
        key = part.replace("~1", "/").replace("~0", "~")
        if isinstance(value, dict) and key in value:
            value = value[key]
        elif isinstance(value, list) and key.isdecimal() and int(key) < len(value):
            value = value[int(key)]
        else:
            return False
    return True

"""A format: flows of the made-up builder Quay, which writes {"quay": 1, "runs": [...]}.

A format offers ``recognises(document)`` and ``flows(document, origin, count)``. It is asked only for documents that neither a
format nor a dialect of the house recognises. ``document`` is a plain tree; secrets in it are masked already.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Content, Flow, Link, ModelUse, Origin, Prompt, Step, Trigger

KNOWN = {"key", "label", "by", "asks", "text", "then"}


def recognises(document: Any) -> bool:
    """Whether a document is one of ours. It must say no to anything else, whatever its form."""
    return isinstance(document, dict) and document.get("quay") == 1 and isinstance(document.get("runs"), list)


def flows(document: Any, base: Origin, count: int) -> Iterator[tuple[Flow, list[Problem]]]:
    """Every flow with what is wrong in it. ``base`` is the place of the file, ``count`` the number of values in it."""
    for place, run in enumerate(document["runs"]):
        pointer = f"/runs/{place}"
        problems: list[Problem] = []
        if not isinstance(run, dict) or not run.get("key"):
            text = f"expected a run with a key, found {type(run).__name__}"
            problems.append(Problem("malformed", "error", text, base.at(pointer), "export the run again"))
            continue
        yield _flow(run, base, pointer, count), problems


def _flow(run: dict[str, Any], base: Origin, pointer: str, count: int) -> Flow:
    steps = [step for step in run.get("steps", []) if isinstance(step, dict)]
    trigger = Trigger("start", kind="manual", origin=base.at(pointer))
    links = [Link("start", str(steps[0]["key"]))] if steps else []
    links += [Link(str(step["key"]), str(step["then"])) for step in steps if step.get("then")]
    unread = sum(len(step.keys() - KNOWN) for step in steps)
    return Flow(
        id=str(run["key"]),
        name=str(run.get("label", "")),
        format="quay",
        triggers=(trigger,),
        steps=tuple(_step(step, base, f"{pointer}/steps/{place}") for place, step in enumerate(steps)),
        links=tuple(links),
        content=Content(count, unread),
        origin=base.at(pointer),
    )


def _step(step: dict[str, Any], base: Origin, pointer: str) -> Step:
    model = None
    if step.get("asks"):
        model = ModelUse(name=str(step["asks"]), prompts=(Prompt("user", str(step.get("text", ""))),))
    return Step(
        id=str(step["key"]),
        kind="model" if model is not None else "other",
        name=str(step.get("label", "")),
        operation=str(step.get("by", "")),
        model=model,
        unread={key: value for key, value in step.items() if key not in KNOWN},
        origin=base.at(pointer),
    )

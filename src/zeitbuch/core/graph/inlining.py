# A standard may need a flow of its own for what stands in a block. Put back into the flow that runs it, it can be compared with
# what it was made from.
"""Flows within flows, put into the steps that run them."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import structs

from zeitbuch.core.model.records import Flow, Link, Step


def inline_flows(flow: Flow, inner: Mapping[str, Flow]) -> Flow:
    """The flow with the steps of ``inner`` flows (by their ids) in the steps that call them: in the block around a step that does
    nothing but call, else in the step itself. Their triggers are what the block leads to. Inner flows must not call in a circle."""
    steps: list[Step] = []
    links = list(flow.links)
    for step in flow.steps:
        called = inner.get(step.calls) if step.calls is not None else None
        if called is None:
            steps.append(step)
            continue
        host = step.id
        if step.operation == "subflow" and step.scope is not None:
            host = step.scope
        else:
            steps.append(structs.replace(step, kind="group", calls=None))
        whole = inline_flows(called, inner)
        triggers = {trigger.id for trigger in whole.triggers}
        steps += [structs.replace(one, scope=one.scope if one.scope is not None else host) for one in whole.steps]
        links += [_from_host(link, host) if link.source in triggers else link for link in whole.links]
    return structs.replace(flow, steps=tuple(steps), links=tuple(links))


def _from_host(link: Link, host: str) -> Link:
    return structs.replace(link, source=host)

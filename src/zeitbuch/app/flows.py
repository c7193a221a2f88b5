# A flow by what people call it; the one place that finds near names.
"""Finding flows of an estate by id or name."""

from __future__ import annotations

from collections.abc import Sequence

from zeitbuch.core.model.name_patterns import is_plain, pattern_fits
from zeitbuch.core.model.problems import fail
from zeitbuch.core.model.records import Estate, Flow


def find_flow(estate: Estate, key: str) -> Flow:
    """The flow with this id or name, or the only one whose name holds it. Raises ZeitbuchError with near names when there
    is none."""
    flow = estate.flow(key)
    if flow is not None:
        return flow
    holding = [flow for flow in estate.flows if key.casefold() in flow.title.casefold()]
    if len(holding) == 1:
        return holding[0]
    import difflib  # a slip of the fingers is rare, and start-up is to be light

    names = [flow.title for flow in estate.flows] + [flow.id for flow in estate.flows]
    near = [flow.title for flow in holding] or difflib.get_close_matches(key, names, 3, 0.4)
    hint = (
        "did you mean " + " or ".join(f"'{name}'" for name in near[:5]) + "?"
        if near
        else "`zeitbuch inventory` lists the flows"
    )
    raise fail("flow-unknown", f"expected the id or name of a flow, found '{key}'", hint)


def find_flows(estate: Estate, keys: Sequence[str]) -> list[Flow]:
    """The flows with these ids or names, or whose ids or names fit these patterns (``*``); all without any. Raises ZeitbuchError for
    one that is not there."""
    found: dict[int, Flow] = {}
    for key in keys:
        found.update({id(flow): flow for flow in _fitting(estate, key)})
    return list(found.values()) or list(estate.flows)


def _fitting(estate: Estate, key: str) -> list[Flow]:
    if is_plain(key) or estate.flow(key) is not None:
        return [find_flow(estate, key)]
    fitting = [flow for flow in estate.flows if pattern_fits(key, flow.id, flow.name)]
    if not fitting:
        message = f"expected a pattern that fits the id or name of a flow, found '{key}'"
        raise fail("flow-unknown", message, "`zeitbuch inventory` lists the flows")
    return fitting

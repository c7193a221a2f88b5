# A step that fails takes its own ways for that, or goes on; else the block around it fails with it, and so outwards, until something takes the
# fault or its branch ends. The same rules as those by which passes are counted.
"""Where a fault goes."""

from __future__ import annotations

from typing import Literal, NamedTuple

from zeitbuch.core.model.outcomes import takes_faults, takes_outcome
from zeitbuch.core.model.records import Step

from .open_frames import crossed_frames
from .topology import Graph


class FaultRoute(NamedTuple):
    """What takes a fault: ways of ``at`` to ``targets`` (``route``), nothing needs to (``continues``), a loop that goes on with its next item
    or may do so (``next item``, ``unknown``), or nothing does (``nothing``). ``through`` are the blocks that fail with the step, the innermost
    first."""

    end: Literal["route", "continues", "next item", "unknown", "nothing"]
    at: str
    targets: tuple[str, ...] = ()
    through: tuple[str, ...] = ()


def fault_route(graph: Graph, step: Step, outcome: Literal["failure", "timeout"] = "failure") -> FaultRoute:
    """Where a step that fails for good (or runs out of time) leads."""
    around = [graph.steps[text] for text in reversed(graph.scope_path(step.id)) if text is not None]
    frames = crossed_frames(graph) if any(block.kind == "group" for block in around) else frozenset()
    through: list[str] = []
    for at in [step, *[block for block in around if block.id != step.id and block.id not in frames]]:
        if at is not step:
            if at.kind == "loop":
                said = at.repeat.on_item_fault if at.repeat is not None else None
                if said != "stop":
                    return FaultRoute("unknown" if said is None else "next item", at.id, (), tuple(through))
            through.append(at.id)
        leaving = graph.leaving.get(at.id, ())
        taking = [link for link in leaving if takes_outcome(link, outcome)]
        if taking:
            return FaultRoute("route", at.id, tuple(dict.fromkeys(link.target for link in taking)), tuple(through))
        if at.on_fault == "continue" and not any(map(takes_faults, leaving)):
            return FaultRoute("continues", at.id, (), tuple(through))
    return FaultRoute("nothing", step.id, (), tuple(through))

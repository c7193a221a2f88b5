# What a flow says once for all its steps: the model of those that name none.
"""The model that a flow names for its steps."""

from __future__ import annotations

from typing import TYPE_CHECKING

from msgspec import structs

from zeitbuch.core.model.records import Step

if TYPE_CHECKING:
    from .draft import Draft


def give_default_model(draft: Draft, name: str) -> None:
    """Steps that ask a model and name none ask this one; not those that embed, nor those to which a model is attached. Where all name one
    it is of no use, and stays unread."""
    if not name:
        return
    models = {step.id for step in draft.steps if step.kind == "model"}
    served = {link.target for link in draft.links if link.role == "attach" and link.source in models}
    taking = {step.id for step in draft.steps if _asks_unnamed(step) and step.id not in served}
    if not taking:
        draft.lost.append({"model": name})
    draft.steps = [
        structs.replace(step, model=structs.replace(step.model, name=name))
        if step.id in taking and step.model is not None
        else step
        for step in draft.steps
    ]


def _asks_unnamed(step: Step) -> bool:
    use = step.model
    return step.kind in ("model", "agent") and use is not None and not use.name and use.modality in ("text", "vision")

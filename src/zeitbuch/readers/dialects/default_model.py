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
    taking = _silent_steps(draft) if name else set()
    if name and not taking:
        draft.lost.append({"model": name})
    draft.steps = [_asking(step, name) if step.id in taking else step for step in draft.steps]


def _silent_steps(draft: Draft) -> set[str]:
    models = {step.id for step in draft.steps if step.kind == "model"}
    served = {link.target for link in draft.links if link.role == "attach" and link.source in models}
    return {step.id for step in draft.steps if _asks_unnamed(step)} - served


def _asking(step: Step, name: str) -> Step:
    return structs.replace(step, model=structs.replace(step.model, name=name)) if step.model is not None else step


def _asks_unnamed(step: Step) -> bool:
    use = step.model
    return step.kind in ("model", "agent") and use is not None and not use.name and use.modality in ("text", "vision")

# Who answers for a flow.
"""Checks of ownership."""

from __future__ import annotations

from collections.abc import Iterator

from zeitbuch.core.graph.phrases import quote_name
from zeitbuch.core.model.words import join_words

from ..records import Check, Hit
from ..views import FlowView


def _no_owner(view: FlowView) -> Iterator[Hit]:
    if not view.flow.owners and not view.is_of_standard:
        yield Hit(None, "the export names nobody who answers for the flow")


def _one_owner(view: FlowView) -> Iterator[Hit]:
    if len(view.flow.owners) == 1 and view.estate.names_several_owners:
        yield Hit(None, f"only {quote_name(view.flow.owners[0])} answers for the flow")


def _unknown_owners(view: FlowView) -> Iterator[Hit]:
    people = view.estate.people
    if not people:
        return
    unknown = [name for name in view.flow.owners if name.casefold() not in people]
    left = [name for name in view.flow.owners if name.casefold() in people and people[name.casefold()].left]
    if unknown:
        yield Hit(None, f"{join_words([quote_name(name) for name in unknown])} is none of the workspace's people")
    if left:
        yield Hit(None, f"{join_words([quote_name(name) for name in left])} has left the house")


def _no_description(view: FlowView) -> Iterator[Hit]:
    if not view.flow.description.strip() and not view.is_of_standard:
        yield Hit(None, "nothing says what the flow is for")


def _foreign_operations(view: FlowView) -> Iterator[Hit]:
    own = view.estate.facts.own_operations.get(view.flow.format)
    for step in view.flow.steps if own else ():
        if step.operation and not step.operation.startswith(own or ()):
            yield Hit(
                step, f"{quote_name(step.title)} runs {quote_name(step.operation)}, which is none of the builder's own"
            )


CHECKS: tuple[Check, ...] = (
    Check("owner-missing", "low", "a flow without an owner",
          "Nobody is asked when it fails, and nobody signs for it.",
          "The owners that the export names.",
          "Owners who stand in another system.",
          "Name an owner in the builder.", _no_owner),
    Check("owner-alone", "low", "a flow with one owner only",
          "When that person is away nobody answers for it.",
          "One owner, in an estate where some flow names several: where none does the builder may have room for one only.",
          "Deputies who stand in another system.",
          "Name a deputy.", _one_owner),
    Check("owner-unknown", "medium", "an owner who is none of the house",
          "Whoever is to be asked is not there.",
          "The owners against the people of the workspace (`[[person]]`, `people`), by name or address; those who have left are told too.",
          "Other spellings of a name.",
          "Name somebody who is there, or add the person to the workspace.", _unknown_owners),
    Check("description-missing", "low", "a flow without a description",
          "A reader has to guess what it is for.",
          "The description that the export gives.",
          "Notes within the flow.",
          "Describe it in a sentence in the builder.", _no_description),
    Check("operation-foreign", "low", "a step of a third party",
          "It is made and mended by others than the builder, and may do more than it says.",
          "Operations that begin with none of `own_operations` of the dialect.",
          "Dialects that name none: nothing is told then.",
          "Know who makes it, and accept it with a reason.", _foreign_operations),
)  # fmt: skip

# What writers of other standards share: which flows can be said in them at all, and a flow as they see it: levels of steps with
# the arrows between them, without notes and helpers.
"""Flows to be said in another standard."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from functools import cached_property
from typing import Any

import msgspec

from zeitbuch.core.graph.dominators import meeting_points
from zeitbuch.core.model.records import Binding, Estate, Flow, Link, Step
from zeitbuch.core.model.secret_labels import without_digests

from .native import dump_yaml


class NotSayable(Exception):
    """A flow that a standard has no words for; the text says why."""


class Written(msgspec.Struct, frozen=True):
    """A flow that was written, without its secrets' digests, the ids of its steps in what was written, and how many flows within
    the flow hold its blocks there."""

    flow: Flow
    names: dict[str, str]
    inner: int = 0


class Exchanged(msgspec.Struct, frozen=True):
    """Flows written in a standard: the text, the flows in it, in order, and (flow, why) of those that cannot be said."""

    text: str
    written: tuple[Written, ...]
    refused: tuple[tuple[Flow, str], ...]


def exchange_documents(estate: Estate, write: Callable[[Flow], tuple[Any, Written]]) -> Exchanged:
    """Every flow as a document of its own, as YAML."""
    documents: list[Any] = []
    written: list[Written] = []
    refused: list[tuple[Flow, str]] = []
    for flow in estate.flows:
        try:
            document, made = write(without_digests(flow))
            documents.append(document)
            written.append(made)
        except NotSayable as reason:
            refused.append((flow, str(reason)))
    return Exchanged(dump_yaml(documents), tuple(written), tuple(refused))


def group_documents(
    estate: Estate, write: Callable[[Flow], tuple[Any, dict[str, str]]], unite: Callable[[list[Flow], list[Any]], Any]
) -> Exchanged:
    """Flows of one folder and version as one document, which ``unite`` makes of them."""
    groups: dict[tuple[str, str], list[tuple[Written, Any]]] = {}
    refused: list[tuple[Flow, str]] = []
    for flow in estate.flows:
        bare = without_digests(flow)
        try:
            part, names = write(bare)
            groups.setdefault((flow.folder, flow.version), []).append((Written(bare, names), part))
        except NotSayable as reason:
            refused.append((flow, str(reason)))
    documents = [unite([held.flow for held, _ in group], [part for _, part in group]) for group in groups.values()]
    written = tuple(held for group in groups.values() for held, _ in group)
    return Exchanged(dump_yaml(documents), written, tuple(refused))


class Outline:
    """A flow without its notes and without the helpers of its agents, level by level."""

    def __init__(self, flow: Flow) -> None:
        self.flow = flow
        helpers = {link.source for link in flow.links if link.role == "attach"}
        self.steps = {step.id: step for step in flow.steps if step.kind != "note" and step.id not in helpers}
        self.triggers = {trigger.id for trigger in flow.triggers}
        self.entries: dict[str | None, list[str]] = {}
        self.leaving: dict[str, list[Link]] = {}
        self.branches: dict[str, list[Link]] = {}  # scope -> links that name the branches in it
        self.inside: dict[str | None, list[str]] = {}
        self.places = {key: place for place, key in enumerate(self.steps)}
        for step in self.steps.values():
            self.inside.setdefault(self.scope_of(step), []).append(step.id)
        self._sort_links()

    def scope_of(self, step: Step) -> str | None:
        """The scope in which a step stands."""
        return step.scope if step.scope in self.steps else None

    def _sort_links(self) -> None:
        reached: set[str] = set()
        for link in self.flow.links:
            target = self.steps.get(link.target)
            if link.role == "attach" or target is None:
                continue
            if link.source in self.triggers:
                self._add_entry(None, self.scope_of(target), link.target)
                reached.add(link.target)
            elif link.source == target.scope:
                self.branches.setdefault(link.source, []).append(link)
            elif link.source in self.steps:
                if self.scope_of(self.steps[link.source]) != self.scope_of(target):
                    raise NotSayable(f"an arrow leads from '{self.title(link.source)}' into or out of a block")
                self.leaving.setdefault(link.source, []).append(link)
                reached.add(link.target)
        for scope, ids in self.inside.items():
            for key in ids:
                if key not in reached and scope is not None:
                    self.entries.setdefault(scope, []).append(key)

    def _add_entry(self, scope: str | None, found: str | None, key: str) -> None:
        if found != scope:
            raise NotSayable(f"a trigger leads into the block around '{self.title(key)}'")
        entries = self.entries.setdefault(scope, [])
        if key not in entries:
            entries.append(key)

    def title(self, key: str) -> str:
        """What people call a step."""
        return self.steps[key].title if key in self.steps else key

    def ways(self, key: str, *roles: str) -> list[Link]:
        """The arrows that leave a step in some roles."""
        return [link for link in self.leaving.get(key, ()) if link.role in roles]

    @cached_property
    def meetings(self) -> dict[str, str | None]:
        """For each step the first one that all its usual ways on lead through."""
        ways = {key: [link.target for link in self.ways(key, "next", "case")] for key in self.steps}
        return meeting_points(self.steps, ways)

    @cached_property
    def arriving(self) -> dict[str, list[str]]:
        """The steps from which arrows lead to a step."""
        found: dict[str, list[str]] = {}
        for links in self.leaving.values():
            for link in links:
                found.setdefault(link.target, []).append(link.source)
        return found

    def reached_from(self, starts: Iterable[str], stops: Iterable[str] = (), errors: bool = True) -> list[str]:
        """The steps of a level that can be reached, the starts too, in the order of the flow; never past a stop."""
        ends = set(stops)
        found: set[str] = set()
        stack = [key for key in starts if key not in ends]
        while stack:
            key = stack.pop()
            if key not in found:
                found.add(key)
                roles = ("next", "case", "error") if errors else ("next", "case")
                stack += [link.target for link in self.ways(key, *roles) if link.target not in ends]
        return sorted(found, key=self.places.__getitem__)


def unique_names(steps: Sequence[Step], taken: Iterable[str] = ()) -> dict[str, str]:
    """A name for each step that no other has: what people call it where that is unique, else its id with a number."""
    used = set(taken)
    found: dict[str, str] = {}
    titles = Counter(step.title for step in steps)
    for step in steps:
        name = step.title if titles[step.title] == 1 and step.title not in used else step.id
        made, number = name, 2
        while made in used:
            made, number = f"{name} {number}", number + 1
        used.add(made)
        found[step.id] = made
    return found


def given_values(inputs: Iterable[Binding]) -> dict[str, Any]:
    """Inputs as an object; of two with one name the second is numbered. What has no value, but comes from somewhere, says so by
    the builder's own words."""
    found: dict[str, Any] = {}
    for binding in inputs:
        words = next((ref.text for ref in binding.refs if ref.text), None)
        value = binding.value if binding.value is not None else words
        name, number = binding.name, 2
        while name in found:
            name, number = f"{binding.name} {number}", number + 1
        found[name] = value
    return found


def prompt_values(step: Step) -> dict[str, Any]:
    """The model of a step and its prompts as inputs."""
    model = step.model
    if model is None:
        return {}
    found: dict[str, Any] = {"model": model.name} if model.name else {}
    for place, prompt in enumerate(model.prompts):
        found["prompt" if not place else f"prompt {place + 1}"] = prompt.text
    for name in ("temperature", "max_output", "max_turns"):
        value = getattr(model, name)
        if value is not None:
            found[name] = value
    return found


def slug(text: str) -> str:
    """A text as a name of letters, digits and hyphens (RFC 1123), as Serverless Workflow wants it."""
    made = "".join(letter if letter.isascii() and letter.isalnum() else "-" for letter in text.lower()).strip("-")
    while "--" in made:
        made = made.replace("--", "-")
    return made[:63].strip("-") or "flow"

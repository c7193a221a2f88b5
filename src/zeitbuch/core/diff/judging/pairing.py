# What all judges share: the two versions with ids spelled alike, their names, and the list of what was found.
"""A matched pair of flows under judgement."""

from __future__ import annotations

from functools import cached_property
from typing import Any

import msgspec

from zeitbuch.core.diff.change_types import CHANGE_KINDS
from zeitbuch.core.diff.edits import Edit
from zeitbuch.core.diff.matching import Matching
from zeitbuch.core.diff.records import Change
from zeitbuch.core.diff.word_diff import Word, word_changes
from zeitbuch.core.graph import phrases
from zeitbuch.core.graph.topology import Graph
from zeitbuch.core.model import plain_texts
from zeitbuch.core.model.canonical import map_ids
from zeitbuch.core.model.kinds import EFFECTS, KINDS
from zeitbuch.core.model.plain_texts import plain_condition, plain_text
from zeitbuch.core.model.records import Flow, Origin, Step
from zeitbuch.core.model.references import names_of, ref_words
from zeitbuch.core.model.secret_labels import LABEL, rename_labels
from zeitbuch.core.passes.reachability import Reachability
from zeitbuch.core.passes.steps_that_run import steps_that_may_run

Places = tuple[Origin | None, Origin | None]
NOWHERE: Places = (None, None)
LONG = 60  # characters from which a text is compared by words


class FlowPairing:
    """The old version with the ids of the new one, the new version, and the changes found so far."""

    def __init__(self, old: Flow, new: Flow, matching: Matching, flows: dict[str, str] | None = None) -> None:
        self.matching = matching
        self.ids = matching.ids(flows)
        self.old, self.new = map_ids(old, self.ids), new
        self.old_names, self.new_names = names_of(self.old), names_of(new)
        self.old_steps = {step.id: step for step in self.old.steps}
        self.new_steps = {step.id: step for step in new.steps}
        self.sure = {pair.new: pair.confidence for pair in matching.steps}
        self.removed = [self.old_steps[self.ids.parts.get(step.id, step.id)] for step in matching.removed]
        self.added = list(matching.added)
        self.found: list[Change] = []
        self._labels = {secret.name: "secret" for secret in (*old.secrets, *new.secrets)}

    @cached_property
    def graphs(self) -> tuple[Graph, Graph]:
        """The two versions as graphs."""
        return Graph(self.old), Graph(self.new)

    @cached_property
    def ways(self) -> tuple[Reachability, Reachability]:
        """The ways through both versions."""
        old, new = self.graphs
        return Reachability(old), Reachability(new)

    @cached_property
    def running(self) -> tuple[frozenset[str], frozenset[str]]:
        """The steps of both versions that some run comes to."""
        old, new = self.graphs
        return steps_that_may_run(old), steps_that_may_run(new)

    def only_secrets_differ(self, old: str, new: str) -> bool:
        """Whether two texts are the same but for the secrets in them."""
        if not self._labels or old == new:
            return False
        return rename_labels(old, self._labels) == rename_labels(new, self._labels)

    def _other_secrets(self, old: str, new: str) -> tuple[str, str]:
        """The labels that differ between two texts that are the same but for their secrets."""
        known = [[label for label in LABEL.findall(text) if label in self._labels] for text in (old, new)]
        pairs = zip(*known, strict=False)
        differing = [(first, second) for first, second in pairs if first != second]
        return ", ".join(first for first, _ in differing), ", ".join(second for _, second in differing)

    def add_change(
        self,
        kind: str,
        where: str,
        old: Any = "",
        new: Any = "",
        edits: tuple[Edit, ...] = (),
        at: Places = NOWHERE,
        words: tuple[Word, ...] = (),
        remarks: tuple[str, ...] = (),
        step: str = "",
    ) -> None:
        """Take note of a change; where only secrets differ, of these alone. White space that says nothing is no change."""
        if old and new and old != new and _says_the_same(CHANGE_KINDS[kind].topic, kind, str(old), str(new)):
            return
        if self.only_secrets_differ(str(old), str(new)):
            kind, words = "secret", ()
            old, new = self._other_secrets(str(old), str(new))
        row = CHANGE_KINDS[kind]
        found = Change(
            kind, row.topic, row.weight, where, str(old), str(new), words, remarks, step, self.sure.get(step, 1.0),
            at[0], at[1], edits,
        )  # fmt: skip
        self.found.append(found)

    def add_text_change(
        self,
        kind: str,
        where: str,
        old: str,
        new: str,
        edits: tuple[Edit, ...],
        at: Places,
        remarks: tuple[str, ...] = (),
        step: str = "",
    ) -> None:
        """A change of a text: by words when it is long."""
        texts = ["" if text == "none" else text for text in (old, new)]
        words = word_changes(*texts) if max(len(old), len(new)) > LONG or kind == "prompt" else ()
        self.add_change(kind, where, old, new, edits, at, words, remarks, step)

    def about_step(self, step: Step) -> str:
        """What a step is, in a few words."""

        effect = f", {EFFECTS[step.effect].verb}" if step.effect != "none" else ""
        model = f", {step.model.name}" if step.model is not None and step.model.name else ""
        off = "" if step.enabled else ", switched off"
        own = f" {step.operation}" if step.kind == "other" and step.operation else ""
        return f"{KINDS[step.kind].words}{own}{model}{effect}{off}"


def _says_the_same(topic: str, kind: str, old: str, new: str) -> bool:
    """Whether only white space that has no meaning differs."""
    if old == new:
        return False
    if topic in ("link", "trigger") or kind == "loop":
        return plain_condition(old) == plain_condition(new)
    return (
        bool(plain_texts.plain_value(old) == plain_texts.plain_value(new))
        if topic == "input"
        else plain_text(old) == plain_text(new)
    )


def brief_value(value: Any) -> str:
    """A value in at most 200 letters."""
    text = phrases.value_words(value, (), {})
    return text if len(text) <= 200 else text[:199] + "…"


def plain_value(value: Any) -> str:
    """A value as text."""
    return value if isinstance(value, str) else msgspec.json.encode(value, order="sorted").decode()


def in_words(text: str, refs: Any, names: dict[str, str]) -> str:
    """A text with its references to steps in words, in brackets; other placeholders as the builder writes them."""
    for ref in sorted(refs, key=lambda r: -len(r.text)):
        if ref.text and ref.step is not None:
            text = text.replace(ref.text, f"[{ref_words(ref, names)}]")
    return text

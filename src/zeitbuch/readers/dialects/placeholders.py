# Placeholders in texts and parameters, in whatever delimiters the dialect declares, resolved into references:
# which step's output feeds which input, and what the model itself decides.
"""Placeholders of a dialect, resolved to references."""

from __future__ import annotations

import re
from typing import Any

from zeitbuch.core.model.records import Binding, Decider, Ref

from .rules import PlaceholderRule

MODEL = "\x00model"  # marks a reference that means: the model decides this


class Placeholders:
    """Finds placeholders and resolves them; ``names`` maps step ids and names of the flow to ids."""

    def __init__(self, rule: PlaceholderRule | None) -> None:
        self.rule = rule
        self.open = rule.open if rule else "\x00"
        self.pattern = (
            re.compile(re.escape(rule.open) + r"\s*(.{1,2000}?)\s*" + re.escape(rule.close), re.DOTALL)
            if rule
            else re.compile(r"(?!)()")
        )

    def resolve_ref(self, inner: str, whole: str, names: dict[str, str]) -> Ref:
        """The reference that the text between the delimiters stands for."""
        rule = self.rule
        assert rule is not None
        body = inner
        if rule.model and body.startswith(rule.model):
            return Ref(variable=MODEL, path=body[len(rule.model) :].strip(), text=whole)
        if rule.variable and body.startswith(rule.variable):
            return Ref(variable=body[len(rule.variable) :], text=whole)
        if rule.prefix and body.startswith(rule.prefix):
            body = body[len(rule.prefix) :]
        head, _, path = body.partition(rule.separator)
        head = head.strip().strip("'\"[]")
        if rule.trigger and head == rule.trigger:
            return Ref(step=names.get("\x00trigger", head), path=path, text=whole)
        return Ref(step=names.get(head, head), path=path, text=whole)

    def in_text(self, text: str, names: dict[str, str]) -> tuple[Ref, ...]:
        """All references in one text, each once, in order of appearance."""
        if self.open not in text:
            return ()
        found = [self.resolve_ref(matched[1], matched[0], names) for matched in self.pattern.finditer(text)]
        return tuple(dict.fromkeys(found))

    def in_value(self, value: Any, names: dict[str, str]) -> tuple[Ref, ...]:
        """All references in a value of any shape."""
        if type(value) is str:
            return self.in_text(value, names)
        if type(value) is dict:
            return tuple(ref for item in value.values() for ref in self.in_value(item, names))
        if type(value) is list:
            return tuple(ref for item in value for ref in self.in_value(item, names))
        return ()

    def make_binding(self, name: str, value: Any, names: dict[str, str]) -> Binding:
        """One input with who decides it: the model, upstream data, or a fixed value."""
        kind = type(value)
        if (kind is str and self.open not in value) or (kind is not str and kind is not dict and kind is not list):
            return Binding(name=name, value=value)
        refs = self.in_value(value, names)
        if not refs:
            return Binding(name=name, value=value)
        decided, about = self._who_decides(refs)
        kept = tuple(ref for ref in refs if ref.variable != MODEL)
        about += ["", "", ""]
        return Binding(
            name=name,
            value=value,
            decided=decided,
            refs=kept,
            type=about[1] or None if decided == "model" else None,
            description=about[2] or None if decided == "model" else None,
        )

    def _who_decides(self, refs: tuple[Ref, ...]) -> tuple[Decider, list[str]]:
        decided: Decider = "data"
        about: list[str] = []
        for ref in refs:
            if ref.variable == MODEL:
                decided = "model"
                rule = self.rule
                about = [part.strip() for part in ref.path.split(rule.divider if rule else "|")]
                break
        return decided, about

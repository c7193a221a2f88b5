# Placeholders in texts and parameters, in whatever delimiters the dialect declares, resolved into references:
# which step's output feeds which input, and what the model itself decides.
"""Placeholders of a dialect, resolved to references."""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import cache
from typing import Any

from msgspec import structs

from zeitbuch.core.model.records import Binding, Decider, Ref

from .rules import PlaceholderRule

_VARIABLE = "\x00="  # marks the names of variables
MODEL = "\x00model"  # marks a reference that means: the model decides this


@cache
def _tokens_of(separator: str) -> re.Pattern[str]:
    """Texts in quotes, and names with what is taken of them."""
    word = r"[^\W\d][\w-]*"
    after = rf"(?:{re.escape(separator)}[\w-]+|\[[^\]\n]{{0,200}}\])*"
    return re.compile(rf"'[^'\n]*'|\"[^\"\n]*\"|(?P<path>{word}{after})(?!\s*\()")


def slug_of(name: str) -> str:
    """A name as builders write it in places where only letters and digits may stand."""
    return re.sub(r"[\W_]+", "-", name.casefold()).strip("-")


def slugs_of(names: dict[str, str]) -> dict[str, str]:
    """The steps by the slugs of their names, where a slug means one of them only."""
    found: dict[str, set[str]] = {}
    for name, key in names.items():
        if not is_mark(name):
            found.setdefault(slug_of(name), set()).add(key)
    return {slug: next(iter(keys)) for slug, keys in found.items() if len(keys) == 1 and slug}


def is_mark(name: str) -> bool:
    """Whether what stands among the names of steps is no name of one: the trigger, a variable, nothing."""
    return not name or name.startswith("\x00")


def note_variables(names: dict[str, str], variables: Iterable[str]) -> None:
    """Notes the variables of a flow among the names of its steps: where no step is called so, a placeholder means the variable."""
    names.update({_VARIABLE + name: _VARIABLE + name for name in variables if name})


def _variable_in(names: dict[str, str], body: str, head: str, path: str) -> tuple[str, str] | None:
    """The variable that a placeholder names, and what it takes of it; None where there is no such."""
    return next(((name, rest) for name, rest in ((body, ""), (head, path)) if _VARIABLE + name in names), None)


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
        known = names.get(head)
        variable = _variable_in(names, body, head, path) if known is None else None
        if variable is not None:
            return Ref(variable=variable[0], path=variable[1], text=whole)
        return Ref(step=head if known is None else known, path=path, text=whole)

    def in_text(self, text: str, names: dict[str, str]) -> tuple[Ref, ...]:
        """All references in one text, each once, in order of appearance."""
        if self.open not in text:
            return ()
        found: list[Ref] = []
        for matched in self.pattern.finditer(text):
            ref = self.resolve_ref(matched[1], matched[0], names)
            known = ref.step is None or ref.step in names.values()
            found += [ref] if known else self._within_expression(matched[1], names) or [ref]
        return tuple(dict.fromkeys(found))

    def _within_expression(self, inner: str, names: dict[str, str]) -> list[Ref]:
        """The references within functions and sums around them: ``upper(look.text) + tell.to``. What stands in quotes is a text."""
        rule = self.rule
        assert rule is not None
        slugs: dict[str, str] = {}
        found: list[Ref] = []
        for token in _tokens_of(rule.separator).finditer(inner):
            text = token["path"]
            if not text:
                continue
            ref = self.resolve_ref(text, text, names)
            if ref.step is not None and ref.step not in names.values():
                slugs = slugs or slugs_of(names)
                key = slugs.get(slug_of(ref.step))
                if key is None:
                    continue
                ref = structs.replace(ref, step=key)
            found.append(ref)
        return found

    def bodies_in(self, text: str) -> str:
        """What stands within the placeholders of a text, a line each."""
        return "\n".join(self.pattern.findall(text))

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

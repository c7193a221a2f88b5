# What the workflows of an Arazzo document share: reusable objects, runtime expressions, the words of criteria.
"""Components and expressions of an Arazzo document."""

from __future__ import annotations

import json
import re
from typing import Any

from zeitbuch.core.model.problems import Problem
from zeitbuch.core.model.records import Binding, Origin, Ref
from zeitbuch.readers.input.views import View

# Arazzo 1.0.1, section 4.7 "Runtime Expressions"
_EXPRESSION = re.compile(
    r"\{?\$(?P<root>steps|inputs|outputs|workflows|sourceDescriptions|components|response|request|url|method|statusCode)"
    r"(?P<path>(?:\.[A-Za-z0-9_\-]+)*(?:#/[^\s\"'}]*)?)\}?"
)


def local_id(name: Any) -> str:
    """A workflow id without the source it comes from."""
    return str(name).rpartition(".")[2] if str(name).startswith("$") else str(name)


class Components:
    """The reusable objects of a document. What a workflow uses of them counts as read with it."""

    def __init__(self, document: View) -> None:
        self.parts = document.view("components")
        self.problems: list[Problem] = []

    def resolve(self, given: View, part: str, origin: Origin) -> View:
        """The object, or the reusable one it refers to. One that is not there is told, and the reference stays unread."""
        key = "reference" if "reference" in given else "$ref" if "$ref" in given else ""
        if not key:
            return given
        name = str(given.peek(key)).replace("/", ".").rpartition(".")[2]
        named = self.parts.view(part)
        if not isinstance(named.peek(name), dict):
            message = f"expected the component '{name}' under `components.{part}`, found none of that name"
            hint = "the reference is kept under unread parts"
            self.problems.append(Problem("reference-missing", "finding", message, origin, hint))
            return View({})
        given.take(key)
        return named.view(name)


class Expressions:
    """Finds what runtime expressions refer to; steps that are not there are told once."""

    def __init__(self, step_ids: set[str], origin: Origin) -> None:
        self.step_ids = step_ids
        self.origin = origin
        self.missing: dict[str, Problem] = {}

    def refs_in(self, value: Any) -> tuple[Ref, ...]:
        """All references in a value of any shape."""
        found: list[Ref] = []
        stack = [value]
        while stack:
            item = stack.pop()
            if isinstance(item, str):
                found += [ref for matched in _EXPRESSION.finditer(item) if (ref := self._ref_of(matched)) is not None]
            elif isinstance(item, dict):
                stack += reversed(list(item.values()))
            elif isinstance(item, list):
                stack += reversed(item)
        return tuple(dict.fromkeys(found))

    def _ref_of(self, matched: re.Match[str]) -> Ref | None:
        parts = matched["path"].lstrip(".").split(".")
        if matched["root"] == "steps":
            if parts[0] not in self.step_ids:
                message = f"expected a step of the workflow in `{matched[0][:80]}`, found none with the id '{parts[0]}'"
                hint = "mend the expression; it is kept as it stands"
                self.missing.setdefault(parts[0], Problem("reference-missing", "finding", message, self.origin, hint))
                return None
            path = ".".join(parts[2:] if parts[1:2] == ["outputs"] else parts[1:])
            return Ref(step=parts[0], path=path, text=matched[0])
        if matched["root"] in ("inputs", "workflows", "sourceDescriptions", "components"):
            return Ref(variable=f"{matched['root']}.{parts[0]}", path=".".join(parts[1:]), text=matched[0])
        return None

    def make_binding(self, name: str, value: Any) -> Binding:
        """An input with what it refers to."""
        refs = self.refs_in(value)
        return Binding(name=name, value=value, decided="data" if refs else "fixed", refs=refs)


def condition_words(action: View) -> str:
    """The criteria of an action as one condition: each its condition, with kind and context where it has them."""
    return " and ".join(filter(None, map(_criterion_words, action.views("criteria"))))


def _criterion_words(criterion: View) -> str:
    words = criterion.text("condition")
    kind = criterion.take("type")
    said = kind if isinstance(kind, str) else "" if kind is None else json.dumps(kind, sort_keys=True)
    context = criterion.text("context")
    about = " ".join(part for part in (said, f"of {context}" if context else "") if part)
    return f"{words} ({about})" if about else words

# A flow as strangers may see it. Every text is looked through unless a row says that it is a key or a word of ours: a field that is added to the model
# is looked through from the first day.
"""Flows with placeholders in the place of whatever belongs to somebody."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from msgspec import Struct, structs

from zeitbuch.core.graph.phrases import value_words
from zeitbuch.core.model.records import (
    Approval,
    Binding,
    Connection,
    Flow,
    Link,
    ModelUse,
    Origin,
    Prompt,
    Ref,
    Schedule,
    Secret,
    Step,
    Trigger,
    Variable,
)
from zeitbuch.core.model.secret_labels import LABEL

from .placeholders import Placeholders
from .private_words import PrivateKind

# Keys and words of ours: what leads from one record to another, and what has a vocabulary.
_KEPT: dict[type[Struct], frozenset[str]] = {
    Flow: frozenset("id state environment version created changed format secrets content noise around".split()),
    Step: frozenset("id kind effect scope connection calls on_fault join yields ends timeout_for about".split()),
    Trigger: frozenset("id kind schedule connection".split()),
    Link: frozenset("id source target role after outlet".split()),
    Connection: frozenset({"id"}),
    ModelUse: frozenset({"name", "modality"}),
    Binding: frozenset({"decided", "role", "type"}),
}
_WHOLE: tuple[type[Struct], ...] = (Ref, Schedule, Secret, Origin)  # records that stay as they are
_ROLES: dict[str | None, PrivateKind] = {
    "recipient": "address", "address": "address", "approver": "person", "record": "value", "content": "text", "text": "text",
}  # fmt: skip
_LEAST_NUMBER = 1000  # from where on a number may be somebody's; smaller ones are limits and counts
_LETTERS = re.compile(r"[^\W_]")


def words_in_small_letters(flows: Iterable[Flow]) -> frozenset[str]:
    """The words that the sentences of flows use in small letters: 'mark' is no name there. Ids and addresses say nothing: names stand in them so."""
    found: set[str] = set()
    for text in all_texts(flows):
        if " " in text.strip() and "@" not in text and "://" not in text:
            found.update(re.findall(r"(?<![^\W_])[a-zß-öø-ÿ]{2,}", text))
    return frozenset(found)


def know_people(made: Placeholders, flows: Sequence[Flow], people: Iterable[str]) -> None:
    """Tells the placeholders who and what is private in flows: ``people`` of the house, owners, approvers, accounts and recipients wherever
    they stand, and the names that the texts hold."""
    for name in people:
        made.know(name, "person")
    for flow in flows:
        for owner in flow.owners:
            made.know(owner, "person")
        for connection in flow.connections:
            made.know(connection.account, "account")
        for step in flow.steps:
            for one in step.approval.approvers if step.approval is not None else ():
                made.know(one, "person")
            for second in step.inputs:
                if (
                    second.decided == "fixed"
                    and isinstance(second.value, str)
                    and second.role in ("recipient", "approver")
                ):
                    made.know(second.value, _ROLES[second.role])
    made.learn(all_texts(flows))


def brief_flow(made: Placeholders, flow: Flow, prompts: bool) -> Flow:
    """A flow for strangers: placeholders for whatever is fixed in it and for whom it names; without what was not understood, and, unless
    asked for, without ``prompts`` and the notes of its builders."""
    masked: Flow = _Mask(made, prompts).record(flow)
    return structs.replace(masked, unread={}, around={}, noise={}, origin=None, findings=())


class _Mask:
    """Masks the records of a flow: whatever is fixed is taken out, not only what looks private."""

    def __init__(self, made: Placeholders, prompts: bool) -> None:
        self.made, self.prompts = made, prompts

    def record(self, one: Any) -> Any:
        """A record with placeholders in its texts."""
        if isinstance(one, _WHOLE):
            return one
        changed = self._special(one)
        kept = _KEPT.get(type(one), frozenset())
        for name in one.__struct_fields__:
            if name not in kept and name not in changed:
                changed[name] = self._anything(getattr(one, name))
        return structs.replace(one, **changed)

    def _special(self, one: Struct) -> dict[str, Any]:
        """The fields of a record that are more than running text."""
        made = self.made
        match one:
            case Binding():
                return {"value": self.value(one)}
            case Variable():
                return {"value": self._literal(one.value, "value")}
            case Connection():
                return {"account": made.of(one.account, "account") if one.account else "", "unread": {}}
            case Approval():
                asked = [made.within(name) if one.refs else made.of(name, "person") for name in one.approvers]
                return {"approvers": tuple(asked)}
            case Prompt():
                return {"text": made.within(one.text, [ref.text for ref in one.refs])}
            case ModelUse():
                return {} if self.prompts else {"prompts": ()}
            case Flow():
                return {"owners": tuple(made.of(name, "person") for name in one.owners), "name": made.within(one.title)}
            case Step() | Trigger():
                return {
                    "name": made.within(one.title),
                    "note": made.within(one.note) if self.prompts else "",
                    "unread": {},
                }
        return {}

    def _anything(self, value: Any) -> Any:
        if isinstance(value, str):
            return self.made.within(value)
        if isinstance(value, Struct):
            return self.record(value)
        if isinstance(value, list | tuple):
            return type(value)([self._anything(item) for item in value])
        if isinstance(value, dict):
            return {key: self._anything(item) for key, item in value.items()}
        return value

    def value(self, one: Binding) -> Any:
        """The value of an input: what is fixed as a whole, of what comes from data the words around the references."""
        if not one.refs:
            return self._literal(one.value, _ROLES.get(one.role, "value"))
        text = one.value if isinstance(one.value, str) else value_words(one.value, (), {})
        marks = [re.escape(ref.text) for ref in one.refs if ref.text]
        if not marks:
            return self.made.within(text)
        parts = re.split(f"({'|'.join(sorted(marks, key=len, reverse=True))})", text)
        return "".join(part if place % 2 else self._words_around(part) for place, part in enumerate(parts))

    def _words_around(self, part: str) -> str:
        """A stretch beside references: a placeholder, unless it is no more than signs or a secret's label."""
        if not _LETTERS.search(LABEL.sub("", part)):
            return part
        plain = part.strip()
        return part.replace(plain, self.made.of(plain, "text"), 1)

    def _literal(self, value: Any, kind: PrivateKind) -> Any:
        """A value of any make with placeholders for its texts and large numbers."""
        if isinstance(value, str):
            return value if not _LETTERS.search(LABEL.sub("", value)) else self.made.of(value, kind)
        if isinstance(value, bool) or value is None:
            return value
        if isinstance(value, int | float):
            return value if abs(value) < _LEAST_NUMBER else self.made.of(str(value), "number")
        if isinstance(value, list | tuple):
            return type(value)([self._literal(item, kind) for item in value])
        if isinstance(value, dict):
            return {key: self._literal(item, kind) for key, item in value.items()}
        return value


def all_texts(value: Any) -> Iterator[str]:
    """Every text within records, lists and dicts, their keys apart."""
    if isinstance(value, str):
        yield value
    elif isinstance(value, Origin):
        return
    elif isinstance(value, Struct):
        for name in value.__struct_fields__:
            yield from all_texts(getattr(value, name))
    elif isinstance(value, dict):
        for item in value.values():
            yield from all_texts(item)
    elif isinstance(value, list | tuple):
        for item in value:
            yield from all_texts(item)

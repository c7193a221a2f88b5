# Inputs of steps and triggers. Some values weigh more than others: who decides, which host is called, which secret is used.
"""Changes of inputs."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from msgspec import structs

from zeitbuch.core.diff.edits import Edit
from zeitbuch.core.graph import phrases
from zeitbuch.core.model.canonical import same_binding
from zeitbuch.core.model.facts import input_role_words
from zeitbuch.core.model.records import Binding

from .pairing import FlowPairing, Places, plain_value

_HOST = re.compile(r"^\s*[A-Za-z][A-Za-z0-9+.-]{1,20}://(?:[^/?#@]*@)?([^/?#\s]+)")


def _leaf_values(value: Any) -> Iterator[str]:
    if isinstance(value, dict):
        for key in sorted(value):
            yield from _leaf_values(value[key])
    elif isinstance(value, list | tuple):
        for item in value:
            yield from _leaf_values(item)
    elif isinstance(value, str):
        yield value


def hosts_in(value: Any) -> list[str]:
    """The hosts of the addresses among the texts of a value."""
    return [matched.group(1).lower() for leaf in _leaf_values(value) if (matched := _HOST.match(leaf))]


def judge_inputs(
    pair: FlowPairing,
    part: Any,
    owner: str,
    where: str,
    old: tuple[Binding, ...],
    new: tuple[Binding, ...],
    at: Places,
) -> None:
    """Inputs by name; where a name comes twice, all together."""
    before, after = {binding.name: binding for binding in old}, {binding.name: binding for binding in new}
    if len(before) != len(old) or len(after) != len(new):
        _judge_all_inputs(pair, part, owner, where, old, new, at)
        return
    for name in [*before, *(key for key in after if key not in before)]:
        first, second = before.get(name), after.get(name)
        if (same_binding(first) if first else None) == (same_binding(second) if second else None):
            continue
        op = "add" if first is None else "remove" if second is None else "set"
        _judge_input(pair, where, first, second, (Edit(op, part, owner, f"input.{name}", first, second),), at, owner)  # type: ignore[arg-type]


def _judge_all_inputs(
    pair: FlowPairing, part: Any, owner: str, where: str, old: tuple[Binding, ...], new: tuple[Binding, ...], at: Places
) -> None:
    """Inputs whose names are not unique, held against each other as a whole."""
    if [same_binding(second) for second in old] != [same_binding(second) for second in new]:
        text, second_text = (
            "; ".join(f"{second.name} = {plain_value(second.value)}" for second in side) or "none"
            for side in (old, new)
        )
        pair.add_text_change(
            "input", where, text, second_text, (Edit("set", part, owner, "inputs", old, new),), at, step=owner
        )


def _judge_input(
    pair: FlowPairing, where: str, a: Binding | None, b: Binding | None, edits: tuple[Edit, ...], at: Places, owner: str
) -> None:
    name = (a or b).name  # type: ignore[union-attr]
    place = f"{where} (input {name})"
    text = phrases.value_words(a.value, a.refs, pair.old_names) if a else "none"
    second_text = phrases.value_words(b.value, b.refs, pair.new_names) if b else "none"
    if a is not None and b is not None:
        told = _told_of_both(pair, a, b, text, second_text)
        if told is not None:
            change, old, new = told
            pair.add_change(change, place, old, new, edits, at, step=owner)
            return
    first, second = hosts_in(a.value) if a else [], hosts_in(b.value) if b else []
    if first != second and second:
        remark = f"calls {second[0]}" + (f" instead of {first[0]}" if first else "")
        pair.add_change("endpoint", place, text, second_text, edits, at, remarks=(remark,), step=owner)
        return
    if text == second_text and a is not None and b is not None:
        text, second_text = _about_input(a), _about_input(b)
    pair.add_text_change("input", place, text, second_text, edits, at, step=owner)


def _told_of_both(
    pair: FlowPairing, a: Binding, b: Binding, text: str, second_text: str
) -> tuple[str, str, str] | None:
    """The type of change with both sides in words, where more than the value tells; None where it does not."""
    if a.decided != b.decided:
        old = f"{phrases.decider_words(a, pair.old_names)}: {text}"
        return "input decider", old, f"{phrases.decider_words(b, pair.new_names)}: {second_text}"
    if same_binding(_bare(a)) == same_binding(_bare(b)):
        was, now = (input_role_words(one.role, one.secured) or "not stated" for one in (a, b))
        return "input role", was, now
    if pair.only_secrets_differ(plain_value(a.value), plain_value(b.value)):
        return "input", plain_value(a.value), plain_value(b.value)
    return None


def _bare(binding: Binding) -> Binding:
    return structs.replace(binding, role=None, secured=False)


def _about_input(b: Binding) -> str:
    """What an input is beside its value."""
    parts = [plain_value(b.value), b.type or "", b.description or ""]
    parts += [f"from {ref.step or ref.variable or ref.path}" for ref in b.refs]
    return ", ".join(part for part in parts if part)

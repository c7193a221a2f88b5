# Two bills of materials (CycloneDX, ECMA-424) held against each other: what came, what went, what is said otherwise of what both have, and by
# which flows it is used. Any maker's bills can be compared: nothing here depends on names of our own.
"""Changes between two bills of materials."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any, Literal

from msgspec import Struct

Json = dict[str, Any]
BillState = Literal["new", "gone", "changed"]
BILL_STATES: tuple[BillState, ...] = ("new", "changed", "gone")
_OWN = frozenset({"bom-ref", "type", "name", "components", "services"})  # what makes it that part, or other parts
_USES = "uses"


class BillChange(Struct, frozen=True):
    """One thing that two bills say otherwise. ``kind`` is the type of the part in its bill ('service' for a service), ``fact`` what changed of it
    (empty for a part that came or went), ``uses`` by whom it is used: in the newer bill, of a part that went in the older."""

    state: BillState
    kind: str
    part: str
    ref: str
    fact: str = ""
    old: str = ""
    new: str = ""
    used_by: tuple[str, ...] = ()


class BillComparison(Struct, frozen=True):
    """`diff --format json` of two bills: how many parts each has, and what differs."""

    differ: bool
    parts_old: int
    parts_new: int
    changes: tuple[BillChange, ...] = ()


class _Part(Struct):
    """A component or service with what is said of it: texts by their path, in order."""

    kind: str
    name: str
    ref: str
    facts: dict[str, tuple[str, ...]]
    used_by: list[str] = []


def compare_bills(old: Json, new: Json) -> BillComparison:
    """What differs between two bills, given as decoded JSON; order within them, serial numbers and time stamps do not count."""
    before, after = _parts_of(old), _parts_of(new)
    pairs = _pairs_of(before, after)
    names = _use_words(before, after, pairs)
    changes: list[BillChange] = []
    for ref, part in before.items():
        if ref not in pairs:
            changes.append(_whole("gone", part))
            continue
        changes += _facts_changed(part, after[pairs[ref]], names)
    met = set(pairs.values())
    changes += [_whole("new", part) for ref, part in after.items() if ref not in met]
    changes.sort(key=lambda one: (one.kind, one.part, one.ref, BILL_STATES.index(one.state), one.fact))
    return BillComparison(bool(changes), len(before), len(after), tuple(changes))


def _whole(state: BillState, part: _Part) -> BillChange:
    return BillChange(state, part.kind, part.name, part.ref, used_by=tuple(sorted(set(part.used_by))))


# -- what stands in a bill ---------------------------------------------------------------------------------------------------------------------


def _parts_of(bill: Json) -> dict[str, _Part]:
    """The components and services of a bill by reference, those within others too; one without a reference has its type and name for one."""
    parts: dict[str, _Part] = {}
    for kind, one in _walk(bill):
        name = str(one.get("name", ""))
        group = f"{one['group']}/" if one.get("group") else ""
        ref = str(one.get("bom-ref") or f"{kind}:{group}{name}")
        while ref in parts:
            ref += "#"
        parts[ref] = _Part(kind, group + name, ref, _facts_of(one))
    for row in _objects(bill.get("dependencies")):
        _add_uses(parts, str(row.get("ref", "")), [str(one) for one in row.get("dependsOn") or ()])
    return parts


def _add_uses(parts: Mapping[str, _Part], user: str, uses: Sequence[str]) -> None:
    if user not in parts or not uses:
        return
    parts[user].facts[_USES] = tuple(sorted(uses))
    for ref in uses:
        if ref in parts:
            parts[ref].used_by.append(parts[user].name)


def _walk(bill: Json) -> Iterator[tuple[str, Json]]:
    waiting = [("component", one) for one in _objects(bill.get("components"))]
    waiting += [("service", one) for one in _objects(bill.get("services"))]
    while waiting:
        sort, one = waiting.pop()
        yield ("service" if sort == "service" else str(one.get("type", "component"))), one
        waiting += [("component", inner) for inner in _objects(one.get("components"))]
        waiting += [("service", inner) for inner in _objects(one.get("services"))]


def _objects(value: Any) -> list[Json]:
    return [one for one in value if isinstance(one, dict)] if isinstance(value, list) else []


def _facts_of(part: Json) -> dict[str, tuple[str, ...]]:
    """Texts by the path at which they stand. Rows that hold a name (or an algorithm) and a value stand under that name."""
    found: dict[str, list[str]] = {}
    waiting = [(key, value) for key, value in part.items() if key not in _OWN]
    while waiting:
        path, value = waiting.pop()
        if isinstance(value, dict):
            waiting += [(f"{path}.{key}", inner) for key, inner in value.items()]
        elif isinstance(value, list):
            waiting += [_row_of(path, inner) for inner in value]
        else:
            found.setdefault(path, []).append(value if isinstance(value, str) else json.dumps(value))
    return {path: tuple(sorted(values)) for path, values in found.items()}


def _row_of(path: str, value: Any) -> tuple[str, Any]:
    if isinstance(value, dict) and set(value) == {"name", "value"}:
        return str(value["name"]), value["value"]
    if isinstance(value, dict) and set(value) == {"alg", "content"}:
        return str(value["alg"]), value["content"]
    if isinstance(value, dict):
        return path, json.dumps(value, sort_keys=True, ensure_ascii=False)
    return path, value


# -- which is which ------------------------------------------------------------------------------------------------------------------------------


def _pairs_of(before: Mapping[str, _Part], after: Mapping[str, _Part]) -> dict[str, str]:
    """Which part of the newer bill is which of the older: by reference, else by its name, where that fits one only."""
    pairs = {ref: ref for ref in before if ref in after and before[ref].kind == after[ref].kind}
    left = _by_name(one for one in before.values() if one.ref not in pairs)
    right = _by_name(one for one in after.values() if one.ref not in pairs)
    return pairs | {left[name]: right[name] for name in left if name in right}


def _by_name(parts: Iterable[_Part]) -> dict[tuple[str, str], str]:
    """References by a kind and name that one part alone has."""
    named = [((part.kind, part.name), part.ref) for part in parts if part.name]
    times = Counter(name for name, _ in named)
    return {name: ref for name, ref in named if times[name] == 1}


def _use_words(before: Mapping[str, _Part], after: Mapping[str, _Part], pairs: Mapping[str, str]) -> dict[str, str]:
    """What a reference is called on both sides: one word for the two references of a pair, so that another id is no other use."""
    words = {ref: f"{part.kind} {part.name or ref}" for side in (after, before) for ref, part in side.items()}
    return words | {pairs[ref]: words[ref] for ref in pairs}


def _facts_changed(old: _Part, new: _Part, names: Mapping[str, str]) -> Iterator[BillChange]:
    """A row for each fact that the two sides of a part say otherwise; what came or went of a list, not all of it."""
    users = tuple(sorted(set(new.used_by)))
    if old.name != new.name:
        yield BillChange("changed", new.kind, new.name, new.ref, "name", old.name, new.name, users)
    for fact in sorted({*old.facts, *new.facts}):
        first, second = old.facts.get(fact, ()), new.facts.get(fact, ())
        if fact == _USES:
            first, second = _named(first, names), _named(second, names)
        if first == second:
            continue
        less, more = Counter(first) - Counter(second), Counter(second) - Counter(first)
        shown = fact.removeprefix("zeitbuch:")
        words = ("; ".join(sorted(less.elements())), "; ".join(sorted(more.elements())))
        yield BillChange("changed", new.kind, new.name, new.ref, shown, *words, users)


def _named(refs: tuple[str, ...], names: Mapping[str, str]) -> tuple[str, ...]:
    return tuple(sorted(names.get(ref, ref) for ref in refs))

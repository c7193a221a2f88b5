# Links of a flat list of steps, in the three ways builders write them: separate records, an object from step to
# outlets to targets, and pointers embedded in the steps. All three end in the same judgement of what an outlet means.
"""Links of flat exports."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from fnmatch import translate
from typing import Any, NamedTuple

from zeitbuch.core.model.outcomes import BESIDE
from zeitbuch.core.model.records import Link, Outcome
from zeitbuch.readers.input.pointers import escape_key

from .bodies import HOLDERS, put_bodies
from .draft import Case, Draft
from .link_lists import Adjacency, LinkList, Target, record_of
from .link_rules import OutletRule, PointerRule, WayRole
from .paths import Claims, Getter, as_text, claim_paths, make_getter, make_getters, unclaimed_part
from .placeholders import is_mark
from .rules import Dialect
from .steps import StepReader


class Arrow(NamedTuple):
    """One pointer as written."""

    target: str
    outlet: str = ""
    label: str = ""
    condition: str = ""


class Pointer:
    """One compiled rule for pointers within steps."""

    def __init__(self, rule: PointerRule) -> None:
        self.rule = rule
        self.at = make_getter(rule.at)
        self.target: Getter | None = make_getter(rule.target) if rule.target else None
        self.meets = make_getters(rule.meets)
        self.via, self.label, self.condition = (
            make_getter(rule.via),
            make_getter(rule.label),
            make_getter(rule.condition),
        )

        self.claims: Claims = {}
        for path in (rule.target, rule.via, rule.label, rule.condition):
            claim_paths(self.claims, path)

    def arrows_of(self, item: dict[str, Any], lost: list[dict[str, Any]]) -> Iterator[Arrow]:
        """The pointers of one step; what is not understood of them goes to ``lost``."""
        value = self.at(item)
        rule = self.rule
        if self.target is None:
            for outlet, name in pointer_targets(value, None):
                yield Arrow(name, outlet or rule.outlet)
            return
        for place, entry in enumerate(value if type(value) is list else [value]):
            yield from self._arrows_of_entry(entry, self.target, place, lost)

    def _arrows_of_entry(self, entry: Any, target: Getter, place: int, lost: list[dict[str, Any]]) -> Iterator[Arrow]:
        rule = self.rule
        if (
            type(entry) is dict
            and target(entry) is None
            and any(type(inner) in (dict, list) for inner in entry.values())
        ):
            for outlet, inner in entry.items():
                for spot, item in enumerate(inner if type(inner) is list else [inner]):
                    yield from self._arrows_by_outlet(outlet, item, target, spot, lost)
        elif type(entry) is dict:
            rest = unclaimed_part(entry, self.claims)
            lost += [rest] if rest else []
            for outlet, name in pointer_targets(target(entry), None):
                via = as_text(self.via(entry)) or outlet or rule.outlet
                named = "" if via or rule.reversed or rule.role == "attach" else f"branch {place + 1}"
                label = as_text(self.label(entry)) or named
                yield Arrow(name, via, label, as_text(self.condition(entry)))
        else:
            for outlet, name in pointer_targets(entry, None):
                yield Arrow(name, outlet or rule.outlet)

    def _arrows_by_outlet(
        self, outlet: str, item: Any, target: Getter, place: int, lost: list[dict[str, Any]]
    ) -> Iterator[Arrow]:
        """The pointers under one key: the key is the outlet of those that name none."""
        for arrow in self._arrows_of_entry(item, target, place, lost):
            own = arrow.outlet if arrow.outlet != self.rule.outlet else ""
            label = "" if arrow.label == f"branch {place + 1}" else arrow.label
            yield arrow._replace(outlet=own or outlet, label=label)


WITH_OUTCOMES = ("decide", "approve")  # kinds whose ways out, where nothing else is said of them, are cases


class Links:
    """Reads the links of one dialect's flat flows."""

    def __init__(self, dialect: Dialect, steps: StepReader) -> None:
        self.steps = steps
        self.lists = [LinkList(rule) for rule in dialect.links]
        self.adjacencies = [Adjacency(rule) for rule in dialect.adjacencies]
        self.next = make_getter(dialect.step.next) if dialect.step.next else None
        self.next_target = Target(dialect.step.next_target)
        self.pointers = [Pointer(rule) for rule in dialect.pointer]
        # Whether an outline may take the quick way: ends are ids, and nothing but the outlet says what a link is.
        self.quick = (
            all(listed.is_quick for listed in self.lists)
            and all(not table.rule.reversed and table.rule.role is None for table in self.adjacencies)
            and self.next is None
            and all(
                pointer.target is None
                and not (pointer.rule.reversed or pointer.rule.meets)
                and pointer.rule.role is None
                for pointer in self.pointers
            )
        )
        # Whether links have labels or conditions of their own, beside those of the cases they take.
        self.names_cases = any(listed.rule.label or listed.rule.condition for listed in self.lists)
        self.outlets = [(re.compile(translate(outlet_rule.match)), outlet_rule) for outlet_rule in dialect.outlet]
        self.known_outlets: dict[str, OutletRule | None] = {}

    def rule_for_outlet(self, name: str) -> OutletRule | None:
        """The rule for an outlet, or None when it is a case or nothing special."""
        if name not in self.known_outlets:
            self.known_outlets[name] = next(
                (outlet_rule for pattern, outlet_rule in self.outlets if pattern.match(name)), None
            )
        return self.known_outlets[name]

    def read_links(self, raw: dict[str, Any], draft: Draft, found: list[tuple[str, dict[str, Any]]]) -> None:
        """Adds the links of one flow to the draft; ``found`` are its steps with their pointers."""
        kinds = {step.id: step.kind for step in draft.steps}
        ids = {**{text: text for text in kinds}, **{trigger.id: trigger.id for trigger in draft.triggers}}
        either = {**draft.names, **ids}
        for listed in self.lists:
            self._read_records(listed, raw, draft, kinds, dict(draft.names) if listed.rule.by == "name" else ids)
        for table in self.adjacencies:
            self._read_adjacency(table, raw, draft, kinds, either)
        if self.next is not None:
            for pointer, item in found:
                key = self.steps.identity_of(item)[0]
                self._read_pointers(key, self.next(item), pointer, draft, kinds, either, self.next_target)
        if self.pointers:
            self._read_pointers_of_steps(draft, found, kinds, either)
        if draft.bodies:
            put_bodies(draft)

    def _read_adjacency(
        self, table: Adjacency, raw: dict[str, Any], draft: Draft, kinds: Mapping[str, str], either: dict[str, str]
    ) -> None:
        rule = table.rule
        for pointer, found in table.at.find_all(raw):
            if type(found) is not dict and found is not None:
                draft.lost.append({pointer: found})
            for key, value in found.items() if type(found) is dict else ():
                place = f"{pointer}/{escape_key(key)}"
                self._read_pointers(key, value, place, draft, kinds, either, table.target, rule.role, rule.reversed)

    def _read_pointers_of_steps(
        self, draft: Draft, found: list[tuple[str, dict[str, Any]]], kinds: Mapping[str, str], either: dict[str, str]
    ) -> None:
        items = [item for _, item in found]
        met_of = {id(rule): self.met_by(items, (rule,)) for rule in self.pointers}
        for pointer, item in found:
            source = self.steps.identity_of(item)[0]
            for rule in self.pointers:
                met = met_of[id(rule)]
                for arrow in rule.arrows_of(item, draft.lost):
                    if not rule.meets:
                        self._read_pointed(source, rule.rule, arrow, pointer, draft, kinds, either)
                    elif arrow.target not in met:  # nobody in this flow listens to it
                        draft.lost.append({rule.rule.at: arrow.target})
                    for target in met.get(arrow.target, ()) if rule.meets else ():
                        self._read_pointed(
                            source, rule.rule, arrow._replace(target=target), pointer, draft, kinds, either
                        )

    def met_by(
        self, items: Iterable[dict[str, Any]], pointers: Iterable[Pointer] | None = None
    ) -> dict[str, list[str]]:
        """The ids of the steps that each topic leads to, where pointers (all without any) name topics."""
        met: dict[str, list[str]] = {}
        ways = [get for rule in (self.pointers if pointers is None else pointers) for get in rule.meets]
        for item in items if ways else ():
            for get in ways:
                for _, topic in pointer_targets(get(item), None):
                    listening = met.setdefault(topic, [])
                    listening += [key for key in (self.steps.identity_of(item)[0],) if key not in listening]
        return met

    def _read_records(
        self, listed: LinkList, raw: dict[str, Any], draft: Draft, kinds: Mapping[str, str], known: dict[str, str]
    ) -> None:
        rule = listed.rule
        for pointer, written in listed.at.find_all(raw):
            item = record_of(written)
            if item is None:
                draft.lost += [{pointer: written}] if written is not None else []
                continue
            source, target = (known.get(as_text(end(item))) for end in listed.ends)
            if source is None or target is None:
                ends = [as_text(end(item)) for end in listed.ends]
                self._tell_dangling([name for name in ends if name not in known], item, pointer, draft)
                continue
            outlet = as_text(listed.outlet(item))
            label, condition = as_text(listed.label(item)), as_text(listed.condition(item))
            if rule.reversed:
                source, target = target, source
            self._add_link(draft, kinds, source, target, outlet, pointer, label, condition, rule.role)
            rest = listed.rest_of_record(item)
            if rest:
                draft.lost.append(rest)
            draft.noise.update(
                {f"{pointer}/{path}": value for path, get in listed.noise if (value := get(item)) is not None}
            )

    def _read_pointers(
        self, key: str, value: Any, pointer: str, draft: Draft, kinds: Mapping[str, str], known: dict[str, str],
        end: Target, role: WayRole | None = None, turned: bool = False,
    ) -> None:  # fmt: skip
        source = known.get(key)
        if end.get is not None:
            draft.lost += list(unclaimed_targets(value, end.get, end.claims))
        for outlet, name in pointer_targets(value, end.get):
            target = known.get(name)
            if source is None or target is None:
                missing = [n for n, known_end in ((key, source), (name, target)) if known_end is None]
                self._tell_dangling(missing, {"from": key, "outlet": outlet, "to": name}, pointer, draft)
            elif turned:
                self._add_link(draft, kinds, target, source, outlet, pointer, given=role)
            else:
                self._add_link(draft, kinds, source, target, outlet, pointer, given=role)

    def _read_pointed(
        self, key: str, rule: PointerRule, arrow: Arrow, pointer: str, draft: Draft, kinds: Mapping[str, str],
        known: dict[str, str],
    ) -> None:  # fmt: skip
        source, target = known.get(key), known.get(arrow.target)
        if source is None or target is None:
            missing = [name for name, end in ((key, source), (arrow.target, target)) if end is None]
            self._tell_dangling(missing, {"from": key, "outlet": arrow.outlet, "to": arrow.target}, pointer, draft)
            return
        label = arrow.label
        if rule.role == "case" and not (rule.label or rule.condition or arrow.outlet):
            label = _name_of(target, draft.names)  # one of several colleagues: the case is called after it
        if rule.reversed:
            source, target = target, source
        self._add_link(draft, kinds, source, target, arrow.outlet, pointer, label, arrow.condition, rule.role)

    def _add_link(
        self, draft: Draft, kinds: Mapping[str, str], source: str, target: str, outlet: str, pointer: str,
        label: str = "", condition: str = "", given: WayRole | None = None,
    ) -> None:  # fmt: skip
        role: WayRole = "next"
        after: tuple[Outcome, ...] = ()
        own = label
        if outlet:
            case = draft.case_of(source, outlet)
            rule = self.rule_for_outlet(outlet) if case is None else None
            if case is not None:
                _keep_idle(draft, label, condition, case)
                role, label, condition = "case", label or case.label, condition or case.condition
            elif rule is not None:
                role, after = rule.role, tuple(rule.after)
                label = label or (outlet if rule.label is None else rule.label)
                source, target = (target, source) if rule.reversed else (source, target)
            else:
                role, label = "case" if kinds.get(source) in WITH_OUTCOMES else "next", label or outlet
        elif kinds.get(source) == "decide":
            role = "case"
        if role == "next" and condition and kinds.get(source, "note") not in BESIDE:
            role = "case"  # taken where it holds, whatever its step does
        if given is not None:
            role = given
            if given == "attach":
                draft.lost += [{"label": own}] if own else []
                label = ""
        outline = self.steps.outline
        into = role == "body" and kinds.get(source) in HOLDERS
        (draft.bodies if into else draft.links).append(
            Link(
                source=source,
                target=target,
                role="next" if role == "body" else role,
                label=label,
                condition=condition,
                after=after,
                outlet="" if outlet == label or outlet in draft.cases.get(source, ()) else outlet,
                refs=self.steps.places.in_text(condition, draft.names),
                origin=None if outline else draft.origin_at(pointer),
            )
        )

    def _tell_dangling(self, missing: list[str], lost: dict[str, Any], pointer: str, draft: Draft) -> None:
        draft.add_problem(
            "link-end",
            f"expected a link between known steps, found {' and '.join(repr(name) for name in missing)}"
            " which no step of the flow has as its id or name",
            "the link is left out and listed under unread parts; mend it in the builder and export again",
            pointer,
        )
        draft.lost.append(lost)


def _name_of(step: str, names: dict[str, str]) -> str:
    """The name of a step, else its id."""
    others = (name for name, key in names.items() if key == step and name != step and not is_mark(name))
    return next(others, step)


def _keep_idle(draft: Draft, label: str, condition: str, case: Case) -> None:
    """What a case says and a link says otherwise: the link's word holds."""
    said = {"label": case.label if label else "", "condition": case.condition if condition else ""}
    idle = {key: value for key, value in said.items() if value and value not in (label, condition)}
    if idle:
        draft.lost.append({"case": idle})


def pointer_targets(value: Any, target: Getter | None, outlet: str = "") -> Iterator[tuple[str, str]]:
    """(outlet, target) of a pointer: a name, a list, an object from outlets to these, or target objects.

    A list of lists has one list for each numbered outlet: the second of ``main`` is ``main/1``.
    """
    if type(value) is list:
        yield from _targets_of_list(value, target, outlet)
    elif type(value) is dict:
        yield from _targets_of_object(value, target, outlet)
    elif value is not None and as_text(value):
        yield outlet, as_text(value)


def _targets_of_object(value: dict[Any, Any], target: Getter | None, outlet: str) -> Iterator[tuple[str, str]]:
    end = target(value) if target is not None else None
    if end is not None:
        yield outlet, as_text(end)
    else:
        for key, inner in value.items():
            yield from pointer_targets(inner, target, f"{outlet}/{key}" if outlet else key)


def _targets_of_list(value: list[Any], target: Getter | None, outlet: str) -> Iterator[tuple[str, str]]:
    if len(value) > 1 and all(type(item) is list or item is None for item in value):
        for place, inner in enumerate(value):
            yield from pointer_targets(inner, target, f"{outlet}/{place}" if outlet else str(place))
    else:
        for inner in value:
            yield from pointer_targets(inner, target, outlet)


def unclaimed_targets(value: Any, target: Getter, claims: Claims) -> Iterator[dict[str, Any]]:
    """What stands beside the name in the target objects of a pointer."""
    if type(value) is list:
        for inner in value:
            yield from unclaimed_targets(inner, target, claims)
    elif type(value) is dict:
        if target(value) is None:
            for inner in value.values():
                yield from unclaimed_targets(inner, target, claims)
        elif rest := unclaimed_part(value, claims):
            yield rest

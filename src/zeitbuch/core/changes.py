# What changed between two matched versions of a flow, in terms of meaning. Each change has a type with a weight
# (table below); wording of values is done here once, look is left to writers.
"""Typed changes between two versions of an estate."""

from __future__ import annotations

from typing import Any, Literal

from msgspec import Struct, structs

from . import prose
from .fingerprint import meaning
from .match import match_flows, match_steps
from .model import Binding, Connection, Estate, Flow, Link, Origin, Step, Trigger
from .names import names_of, readable
from .prose import quoted
from .word_diff import Word, word_changes
from .words import EFFECT_WORDS, KIND_WORDS, joined, span_words, trigger_words

Weight = Literal["risk", "meaning", "note"]
WEIGHTS: dict[str, Weight] = {
    "flow added": "risk", "flow removed": "risk", "flow renamed": "note", "state": "risk", "owner": "note",
    "description": "note", "trigger": "risk", "schedule": "risk", "step added": "risk", "step removed": "risk",
    "step renamed": "note", "kind": "risk", "effect": "risk", "prompt": "risk", "model": "risk", "model setting": "meaning",
    "input": "meaning", "input decider": "risk", "connection": "risk", "retry": "meaning", "on error": "risk", "enabled": "risk",
    "scope": "meaning", "loop": "meaning", "condition": "risk", "link added": "meaning", "link removed": "meaning",
    "error route added": "risk", "error route removed": "risk", "case": "meaning", "called flow": "risk", "note": "note",
    "variable": "meaning", "unread content": "meaning", "other setting": "meaning",
}  # fmt: skip


_RUNS = {False: "once a pass", True: "once an item"}
_YIELDS = {"same": "as they come", "many": "each made into several", "one": "gathered into one"}


class Change(Struct, frozen=True):
    """One change of meaning. ``where`` names the step; ``words`` marks changed words of a text."""

    type: str
    weight: Weight
    where: str
    old: str = ""
    new: str = ""
    words: tuple[Word, ...] = ()
    old_origin: Origin | None = None
    new_origin: Origin | None = None


class FlowChanges(Struct, frozen=True):
    """The changes of one flow; ``status`` is added, removed or changed."""

    id: str
    name: str
    status: Literal["added", "removed", "changed"]
    changes: tuple[Change, ...]


class EstateChanges(Struct, frozen=True):
    """All flows that differ in meaning, and how many do not."""

    flows: tuple[FlowChanges, ...]
    unchanged: int


class _Comparison:
    """Collects the changes of one pair of flows."""

    def __init__(self, old: Flow, new: Flow) -> None:
        self.old, self.new = old, new
        self.old_names, self.new_names = names_of(old), names_of(new)
        self.found: list[Change] = []

    def add(
        self,
        kind: str,
        where: str,
        old: Any = "",
        new: Any = "",
        words: tuple[Word, ...] = (),
        at: tuple[Origin | None, Origin | None] = (None, None),
    ) -> None:
        self.found.append(Change(kind, WEIGHTS[kind], where, str(old), str(new), words, *at))

    def compare(self) -> list[Change]:
        self._flow()
        self._triggers()
        self._steps()
        self._variables()
        if self.old.unread != self.new.unread:
            self.add("unread content", "the flow", _brief(self.old.unread), _brief(self.new.unread))
        return self.found

    def _flow(self) -> None:
        old, new = self.old, self.new
        if old.name != new.name:
            self.add("flow renamed", "the flow", old.name, new.name)
        if old.state != new.state:
            self.add("state", "the flow", old.state, new.state)
        if old.owners != new.owners:
            self.add("owner", "the flow", ", ".join(old.owners), ", ".join(new.owners))
        if old.description != new.description:
            self.add(
                "description",
                "the flow",
                old.description,
                new.description,
                word_changes(old.description, new.description),
            )
        for word, a, b in (("folder", old.folder, new.folder), ("environment", old.environment, new.environment)):
            if a != b:
                self.add("note", f"the flow's {word}", a, b)
        before, after = {c.id: c for c in old.connections}, {c.id: c for c in new.connections}
        for key in [*before, *(k for k in after if k not in before)]:
            first, second = before.get(key), after.get(key)
            if first != second:
                self.add("connection", "the flow", _account(first), _account(second))

    def _triggers(self) -> None:
        before, after = {t.id: t for t in self.old.triggers}, {t.id: t for t in self.new.triggers}
        for key in [*before, *(k for k in after if k not in before)]:
            a, b = before.get(key), after.get(key)
            if a is None or b is None:
                one = a or b
                assert one is not None
                words = trigger_words(one)
                self.add(
                    "trigger", quoted(one.title), words if a else "none", words if b else "none", at=(_o(a), _o(b))
                )
                continue
            if a == b:
                continue
            where, at = f"trigger {quoted(b.name)}" if b.name else "the trigger", (a.origin, b.origin)
            if a.schedule != b.schedule and a.kind == b.kind:
                self.add("schedule", where, trigger_words(a), trigger_words(b), at=at)
            elif trigger_words(a) != trigger_words(b):
                self.add("trigger", where, trigger_words(a), trigger_words(b), at=at)
            if a.name != b.name:
                self.add("step renamed", where, a.name, b.name, at=at)
            if a.connection != b.connection:
                self.add("connection", where, a.connection or "none", b.connection or "none", at=at)
            if a.operation != b.operation:
                self.add("other setting", where, a.operation, b.operation, at=at)
            self._inputs(where, a.inputs, b.inputs, at)
            if a.unread != b.unread:
                self.add("unread content", where, _brief(a.unread), _brief(b.unread), at=at)

    def _steps(self) -> None:
        pairs, removed, added = match_steps(self.old, self.new)
        for step in removed:
            where = quoted(step.title) + self._after(self.old, step, self.old_names)
            self.add("step removed", where, self._about(step), "", at=(step.origin, None))
        for step in added:
            where = quoted(step.title) + self._after(self.new, step, self.new_names)
            self.add("step added", where, "", self._about(step), at=(None, step.origin))
        order = {s.id: i for i, s in enumerate(self.new.steps)}
        for a, b in sorted(pairs, key=lambda p: order[p[1].id]):
            self._step(a, b, {x.id: y.id for x, y in pairs})
        self._links({x.id: y.id for x, y in pairs}, {s.id for s in removed}, {s.id for s in added})

    def _about(self, step: Step) -> str:
        effect = f", {EFFECT_WORDS[step.effect]}" if step.effect != "none" else ""
        model = f", {step.model.name}" if step.model is not None and step.model.name else ""
        return f"{KIND_WORDS[step.kind]}{model}{effect}"

    def _after(self, flow: Flow, step: Step, names: dict[str, str]) -> str:
        """' after X', ' for agent X', ' in X': where the step stands."""
        for link in flow.links:
            if link.source == step.id and link.role == "attach":
                return f" for {quoted(names.get(link.target, link.target))}"
        before = [quoted(names.get(k.source, k.source)) for k in flow.links if k.target == step.id]
        if before:
            return f" after {joined(list(dict.fromkeys(before)))}"
        return f" in {quoted(names.get(step.scope, step.scope))}" if step.scope else ""

    def _step(self, a: Step, b: Step, ids: dict[str, str]) -> None:
        where, at = quoted(b.title), (a.origin, b.origin)

        def plain(kind: str, old: Any, new: Any, word: str = "") -> None:
            if old != new:
                place = f"{where} ({word})" if word else where
                self.add(kind, place, "none" if old in (None, "") else old, "none" if new in (None, "") else new, at=at)

        plain("step renamed", a.name, b.name)
        plain("kind", KIND_WORDS[a.kind], KIND_WORDS[b.kind])
        plain("other setting", a.operation, b.operation, "operation")
        plain("effect", a.effect, b.effect)
        plain("enabled", "on" if a.enabled else "off", "on" if b.enabled else "off")
        plain("connection", a.connection, b.connection)
        plain("called flow", a.calls, b.calls)
        plain(
            "condition",
            readable(a.condition or "", a.refs, self.old_names),
            readable(b.condition or "", b.refs, self.new_names),
        )
        plain("condition", "any" if a.inclusive else "one", "any" if b.inclusive else "one", "cases that go on")
        plain("retry", _retry(a), _retry(b))
        plain("retry", a.timeout and span_words(a.timeout), b.timeout and span_words(b.timeout), "timeout")
        plain("on error", a.on_fault, b.on_fault)
        plain("other setting", a.join, b.join, "join")
        plain("loop", _RUNS[a.per_item], _RUNS[b.per_item], "runs")
        plain("loop", _YIELDS[a.yields], _YIELDS[b.yields], "items that go on")
        plain(
            "condition",
            f"its {a.ends}" if a.ends == "branch" else "the run",
            f"its {b.ends}" if b.ends == "branch" else "the run",
            "what it ends",
        )
        plain("note", a.note, b.note)
        if ids.get(a.scope or "", a.scope) != b.scope:
            plain("scope", self.old_names.get(a.scope or "", "no scope"), self.new_names.get(b.scope or "", "no scope"))
        plain("loop", _repeat(a, self.old_names), _repeat(b, self.new_names))
        self._inputs(where, a.inputs, b.inputs, at)
        self._model(a, b, where, at)
        if a.unread != b.unread:
            self.add("unread content", where, _brief(a.unread), _brief(b.unread), at=at)

    def _model(self, a: Step, b: Step, where: str, at: tuple[Origin | None, Origin | None]) -> None:
        old, new = a.model, b.model
        if old == new:
            return
        if old is None or new is None:
            self.add("model", where, old.name if old else "none", new.name if new else "none", at=at)
            return
        if old.name != new.name:
            self.add("model", where, old.name or "none", new.name or "none", at=at)
        for word in ("modality", "task", "temperature", "max_output", "max_turns"):
            x, y = getattr(old, word), getattr(new, word)
            if x != y:
                self.add(
                    "model setting",
                    f"{where} ({word.replace('_', ' ')})",
                    "none" if x is None else x,
                    "none" if y is None else y,
                    at=at,
                )
        for n in range(max(len(old.prompts), len(new.prompts))):
            p = old.prompts[n] if n < len(old.prompts) else None
            q = new.prompts[n] if n < len(new.prompts) else None
            if p is not None and q is not None and p.text == q.text and p.role == q.role and p.refs == q.refs:
                continue
            before, after = p.text if p else "", q.text if q else ""
            role = (q or p).role  # type: ignore[union-attr]
            self.add("prompt", f"{where} ({role} prompt)", before, after, word_changes(before, after), at=at)

    def _inputs(
        self, where: str, old: tuple[Binding, ...], new: tuple[Binding, ...], at: tuple[Origin | None, Origin | None]
    ) -> None:
        before, after = {x.name: x for x in old}, {x.name: x for x in new}
        for name in [*before, *(k for k in after if k not in before)]:
            a, b = before.get(name), after.get(name)
            if a == b:
                continue
            place = f"{where} (input {name})"
            x = prose.shown(a.value, a.refs, self.old_names) if a else "none"
            y = prose.shown(b.value, b.refs, self.new_names) if b else "none"
            if a and b and a.decided != b.decided:
                self.add(
                    "input decider",
                    place,
                    f"{prose.decided(a, self.old_names)}: {x}",
                    f"{prose.decided(b, self.new_names)}: {y}",
                    at=at,
                )
            elif a is None or b is None or (a.value, a.type, a.description) != (b.value, b.type, b.description):
                self.add("input", place, x, y, at=at)
            elif _refs(a) != _refs(b):
                self.add("input", place, _refs(a), _refs(b), at=at)

    def _links(self, ids: dict[str, str], removed: set[str], added: set[str]) -> None:
        """Links that differ, apart from those that only follow a step that came or went."""
        same_trigger = {t.id: t.id for t in self.old.triggers}
        known = {**same_trigger, **ids}

        def key(link: Link, ids: dict[str, str]) -> tuple[str, str, str]:
            return ids.get(link.source, link.source), ids.get(link.target, link.target), link.role

        before: dict[tuple[str, str, str], list[Link]] = {}
        after: dict[tuple[str, str, str], list[Link]] = {}
        for link in self.old.links:
            before.setdefault(key(link, known), []).append(link)
        for link in self.new.links:
            after.setdefault(key(link, {}), []).append(link)
        for k in [*before, *(x for x in after if x not in before)]:
            old, new = list(before.get(k, [])), list(after.get(k, []))
            for link in list(old):
                twin = next(
                    (n for n in new if (n.label, n.condition, n.after) == (link.label, link.condition, link.after)),
                    None,
                )
                if twin is not None:
                    old.remove(link)
                    new.remove(twin)
            while old and new:
                a, b = old.pop(0), new.pop(0)
                where = self._arrow(b, self.new_names)
                self.add("case", where, _case(a, self.old_names), _case(b, self.new_names), at=(a.origin, b.origin))
            for link in old:
                kind = "error route removed" if link.role == "error" else "link removed"
                if not {link.source, link.target} & removed:
                    self.add(
                        kind,
                        self._arrow(link, self.old_names),
                        _case(link, self.old_names) or "link",
                        "",
                        at=(link.origin, None),
                    )
            for link in new:
                kind = "error route added" if link.role == "error" else "link added"
                if not {link.source, link.target} & added:
                    self.add(
                        kind,
                        self._arrow(link, self.new_names),
                        "",
                        _case(link, self.new_names) or "link",
                        at=(None, link.origin),
                    )

    def _arrow(self, link: Link, names: dict[str, str]) -> str:
        return f"{quoted(names.get(link.source, link.source))} to {quoted(names.get(link.target, link.target))}"

    def _variables(self) -> None:
        before, after = {v.name: v for v in self.old.variables}, {v.name: v for v in self.new.variables}
        for name in [*before, *(k for k in after if k not in before)]:
            a, b = before.get(name), after.get(name)
            if a != b:
                self.add(
                    "variable",
                    f"variable {name}",
                    prose.shown(a.value, (), {}) if a else "none",
                    prose.shown(b.value, (), {}) if b else "none",
                )


def _o(item: Trigger | None) -> Origin | None:
    return item.origin if item is not None else None


def _account(c: Connection | None) -> str:
    if c is None:
        return "none"
    about = f"{c.service} {c.account}".strip()
    return f"{c.name or c.id} ({about})" if about else c.name or c.id


def _retry(step: Step) -> str:
    if step.retry is None:
        return "never tried again"
    wait = f", {span_words(step.retry.wait)} apart" if step.retry.wait else ""
    return f"tried again {step.retry.attempts}x{wait}"


def _repeat(step: Step, names: dict[str, str]) -> str:
    r = step.repeat
    if r is None:
        return "none"
    words = (
        f"over {readable(r.items, r.refs, names)}"
        if r.items
        else f"until {readable(r.until, r.refs, names)}"
        if r.until
        else "not stated"
    )
    return words + (f", at most {r.cap}x" if r.cap else "")


def _refs(b: Binding) -> str:
    return f"{prose.shown(b.value, (), {})} from {', '.join(sorted(r.step or r.variable or '' for r in b.refs))}"


def _case(link: Link, names: dict[str, str]) -> str:
    said = [
        link.label,
        readable(link.condition, link.refs, names) if link.condition != link.label else "",
        ", ".join(link.after),
    ]
    return " / ".join(s for s in said if s)


def _brief(value: Any) -> str:
    text = prose.shown(value, (), {})
    return text if len(text) <= 200 else text[:199] + "…"


def flow_changes(old: Flow, new: Flow) -> FlowChanges | None:
    """What changed in a flow, or None when it means the same."""
    if old == new or structs.replace(meaning(old), id="") == structs.replace(meaning(new), id=""):
        return None
    found = _Comparison(old, new).compare()
    if not found:
        # Every field of meaning is worded above; this says so rather than nothing if one is ever missed.
        found = [Change("other setting", "meaning", "the flow", "differs in a part that has no wording yet", "")]
    return FlowChanges(new.id, new.title, "changed", tuple(found))


def changes(old: Estate, new: Estate) -> EstateChanges:
    """All changes of meaning between two versions of an estate, in the order of the new one."""
    pairs, removed, added = match_flows(old.flows, new.flows)
    found: list[FlowChanges] = []
    unchanged = 0
    for flow in removed:
        about = prose.triggers_list(flow)
        found.append(
            FlowChanges(
                flow.id,
                flow.title,
                "removed",
                (Change("flow removed", WEIGHTS["flow removed"], "the flow", "; ".join(about)),),
            )
        )
    for flow in added:
        about = prose.triggers_list(flow)
        found.append(
            FlowChanges(
                flow.id,
                flow.title,
                "added",
                (Change("flow added", WEIGHTS["flow added"], "the flow", "", "; ".join(about)),),
            )
        )
    order = {id(f): i for i, f in enumerate(new.flows)}
    for a, b in sorted(pairs, key=lambda p: order[id(p[1])]):
        one = flow_changes(a, b)
        if one is None:
            unchanged += 1
        else:
            found.append(one)
    return EstateChanges(tuple(found), unchanged)

# The rules of a proposal for what operations are: kinds of steps and triggers, with the fields only they have.
"""Rules for the operations of a proposed dialect."""

from __future__ import annotations

from typing import Any

from zeitbuch.core.model.records import Effect, Modality, StepKind, TriggerKind
from zeitbuch.readers.dialects.paths import text
from zeitbuch.readers.dialects.rules import CasesRule, KindRule, TriggerRule

from . import fields
from .evidence import Evidence, literal
from .kinds import Verdict
from .parts import Branching, cases_rule
from .starts import Starts, operation_of
from .survey import STAR, Path, dotted, jsonpath, leaves, scalar
from .vocabulary import effect_of, guesses, modality_of


def trigger_rule(e: Evidence) -> TriggerRule | None:
    starts = e.starts
    inside = sum(v.trigger for v in e.verdicts.values())
    if starts is None:
        sure = 0.9 if inside else 0.1
        e.note("triggers", sure, f"among the steps, {inside} operations" if inside else "nothing looks like a trigger")
        return None
    e.note("triggers", min(0.95, 0.3 + starts.score / 8), f"apart from the steps at {jsonpath(starts.at)}")
    return TriggerRule(
        at=jsonpath(starts.at),
        id="@key" if starts.keyed and not starts.id else dotted(starts.id),
        name=dotted(starts.name),
        operation=dotted(starts.operation) if starts.operation else "",
        settings=".",
        starts=dotted(starts.starts) if starts.starts else "",
    )


def kind_rules(e: Evidence) -> list[KindRule]:
    rules: list[KindRule] = []
    if e.starts is not None:
        rules += _separate_triggers(e, e.starts)
    done = {r.operation for r in rules}
    branching = Branching(e.found, e.identity, e.joins, e.verdicts, e.settings)
    for operation, verdict in e.verdicts.items():
        if literal(operation) in done or verdict.hint == "other":
            continue
        rules.append(_kind_rule(e, operation, verdict, branching))
    sure = [v.sure for v in e.verdicts.values()]
    rest = sum(v.hint == "other" for v in e.verdicts.values())
    told = f"{len(sure) - rest} of {len(sure)} operations classified by trade words and by how their steps stand"
    e.note("kinds", sum(sure) / max(1, len(sure)), told)
    return rules


def _kind_rule(e: Evidence, operation: str, verdict: Verdict, branching: Branching) -> KindRule:
    columns, _ = fields.columns(
        e.own(x, i) for x in e.found.samples for i, s in enumerate(x.steps) if e.operation(s.raw) == operation
    )
    if verdict.trigger:
        trigger: TriggerKind = verdict.hint[3:]  # type: ignore[assignment]
        return KindRule(operation=literal(operation), trigger=trigger, **_clock(e, columns, trigger))
    kind: StepKind = verdict.hint  # type: ignore[assignment]
    modality: Modality = modality_of(operation) if kind in ("model", "embed") else "text"
    effect: Effect = effect_of(kind, operation)
    more: dict[str, Any] = {}
    if kind == "decide":
        rule: CasesRule | None = cases_rule(branching, operation)
        if rule is not None:
            more["cases"] = rule
        condition = branching.condition(columns, rule)
        if condition:
            more["condition"] = dotted(condition)
    elif kind == "loop":
        more |= {k: dotted(v) for k, v in branching.repeat(columns).items()}
    elif kind == "subflow":
        called = _called(e, columns)
        if called:
            more["calls"] = dotted(called)
    return KindRule(operation=literal(operation), kind=kind, modality=modality, effect=effect, **more)


def _called(e: Evidence, columns: dict[Path, fields.Column]) -> Path:
    """The setting that names another flow."""
    names = {text(v) for s in e.found.samples for k, v in s.raw.items() if scalar(v)}
    words = frozenset(
        "flow workflow plan sheet process target ref id name ablauf flux flujo flyt stroom flusso fluxo calls subflow".split()
    )
    rated: list[tuple[float, Path]] = []
    for path, column in columns.items():
        texts = [v for v in column.values if scalar(v)]
        if texts and STAR not in path:
            hits = sum(text(v) in names for v in texts) / len(texts)
            rated.append((3 * hits + fields.key_in(path, words) + (path[: len(e.settings)] == e.settings) * 0.5, path))
    rated.sort(key=lambda r: (-r[0], r[1]))
    return rated[0][1] if rated and rated[0][0] >= 1 else ()


def _clock(e: Evidence, columns: dict[Path, fields.Column], trigger: str) -> dict[str, Any]:
    inside = {p: c for p, c in columns.items() if not e.settings or p[: len(e.settings)] == e.settings}
    clock = fields.find_clock(inside or columns)
    maybe = clock.pop("maybe_every", None)
    if maybe and trigger in ("schedule", "polling") and "every" not in clock:
        clock["every"], clock["every_unit"] = maybe, "minutes"
    if trigger in ("schedule", "polling", "manual", "chat"):
        clock.pop("event", None)
    if trigger not in ("schedule", "polling"):
        clock = {k: v for k, v in clock.items() if k in ("event", "batch")}
    return {k: v if k == "every_unit" else dotted(v) for k, v in clock.items()}


def _separate_triggers(e: Evidence, starts: Starts) -> list[KindRule]:
    by_operation: dict[str, list[dict[str, Any]]] = {}
    for _, record in starts.records:
        by_operation.setdefault(operation_of(starts, record), []).append(record)
    rules: list[KindRule] = []
    for operation, records in by_operation.items():
        taken = {starts.operation, starts.id, starts.starts}
        columns, _ = fields.columns(
            [(p, v) for p, v in leaves(r) if p not in taken and p != ("@key",)] for r in records
        )
        clock = fields.find_clock(columns)
        hints = [g.hint[3:] for g in guesses(operation) if g.trigger is not None]
        path_hints = [g.hint[3:] for p in reversed(starts.at) if p != STAR for g in guesses(p) if g.trigger is not None]
        keys = [g.hint[3:] for r in records for k in r for g in guesses(k)[:1] if g.trigger is not None and g.score > 4]
        trigger = next(iter(hints), "")
        if not trigger or (trigger == "manual" and ("cron" in clock or "every" in clock)):
            by_clock = "schedule" if "cron" in clock or "every" in clock else ""
            trigger = (
                by_clock
                or next(iter(path_hints), "")
                or next(iter(keys), "")
                or ("webhook" if "event" in clock else "event")
            )
        maybe = clock.pop("maybe_every", None)
        if maybe and trigger in ("schedule", "polling") and "every" not in clock:
            clock["every"], clock["every_unit"] = maybe, "minutes"
        if trigger in ("schedule", "polling", "manual", "chat"):
            clock.pop("event", None)
        given: dict[str, Any] = {k: v if k == "every_unit" else dotted(v) for k, v in clock.items()}
        kind: TriggerKind = trigger  # type: ignore[assignment]
        rules.append(KindRule(operation=literal(operation), trigger=kind, **given))
    return rules

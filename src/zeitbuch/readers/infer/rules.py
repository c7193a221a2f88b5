# The rules of a proposal for what operations are: kinds of steps and triggers, with the fields only they have.
"""Rules for the operations of a proposed dialect."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, get_args

from zeitbuch.core.model.records import Effect, Modality, StepKind, TriggerKind
from zeitbuch.readers.dialects.paths import ITEM, as_text
from zeitbuch.readers.dialects.rules import CasesRule, KindRule, TriggerRule
from zeitbuch.readers.infer.fields import Column

from . import fields
from .claiming import claim_kind, claim_trigger_kind, claim_triggers
from .clocks import TIMED, find_clock, kind_by_clock
from .evidence import Evidence, literal_pattern
from .kinds import Verdict
from .parts import Branching, cases_rule, listed_choices
from .starts import Starts, operation_of
from .survey import STAR, Path, dotted_path, find_leaves, is_scalar, json_path, value_at
from .telling_keys import telling_keys
from .trigger_switches import claim_trigger_switch
from .vocabulary import EVENT_WORDS, TRIGGER_WORDS, effect_of, guess_kinds, modality_of, word_fits, words_of

_AS_LIKELY = 0.5
_NEARLY_ALL = 0.9  # of the triggers of a kind have what tells the kind
_MAY_CHOOSE = frozenset("model agent approve http code tool retrieve parse shape read write send delete embed".split())
_MIXED = "several kinds"  # told by the values of triggers that nothing tells apart


def trigger_rule(e: Evidence) -> TriggerRule | None:
    starts = e.starts
    claim_triggers(e)
    if starts is None:
        return None
    return TriggerRule(
        at=json_path(starts.at),
        id="@key" if starts.keyed and not starts.id else dotted_path(starts.id),
        name=dotted_path(starts.name),
        operation=dotted_path(starts.operation),
        settings=ITEM if starts.at and starts.operation != (ITEM,) else "",
        starts=dotted_path(starts.starts or (e.topics.starts if e.topics is not None else ())),
        **claim_trigger_switch(e, starts),
    )


def kind_rules(e: Evidence) -> list[KindRule]:
    rules: list[KindRule] = []
    if e.starts is not None:
        rules += _separate_triggers(e, e.starts)
    done = {kind_rule.operation for kind_rule in rules}
    branching = Branching(e.found, e.identity, e.joins, e.verdicts, e.settings)
    for operation, verdict in e.verdicts.items():
        if literal_pattern(operation) in done or verdict.hint == "other":
            continue
        split = _triggers_by_keys(e, operation, verdict) if verdict.trigger else []
        if split:
            rules += split
            continue
        rule = _kind_rule(e, operation, verdict, branching)
        if not (verdict.by_values and e.claims[-1].is_asked):  # what only the values hint at is asked
            rules.append(rule)
    return rules


def _kind_rule(e: Evidence, operation: str, verdict: Verdict, branching: Branching) -> KindRule:
    columns = e.columns_of(operation)
    if verdict.trigger:
        return KindRule(operation=literal_pattern(operation), **_clock_rule(e, columns, verdict))
    claim_kind(e, operation, verdict)
    kind: StepKind = verdict.hint  # type: ignore[assignment]
    modality: Modality = modality_of(operation) if kind in ("model", "embed") else "text"
    effect: Effect = effect_of(kind, operation)
    more = _parts_of_kind(e, operation, branching, kind, columns)
    return KindRule(operation=literal_pattern(operation), kind=kind, modality=modality, effect=effect, **more)


def _parts_of_kind(
    e: Evidence, operation: str, branching: Branching, kind: StepKind, columns: dict[Path, Column]
) -> dict[str, Any]:
    more: dict[str, Any] = {}
    if kind == "decide":
        rule: CasesRule | None = cases_rule(branching, operation)
        if rule is not None:
            more["cases"] = rule
        condition = branching.find_condition(columns, rule)
        if condition:
            more["condition"] = dotted_path(condition)
    elif kind == "loop":
        more |= {key: dotted_path(values) for key, values in branching.find_repeat(columns, operation).items()}
    elif kind in _MAY_CHOOSE:
        listed = listed_choices(branching, operation)
        if listed is not None:
            e.add_claim("choices", f"of the ways of '{operation}' listed at '{listed.at}' one is chosen each time", {})
            more["cases"] = listed
    elif kind == "subflow":
        called = _called_flow_rule(e, columns)
        if called:
            more["calls"] = dotted_path(called)
    return more


def _called_flow_rule(e: Evidence, columns: dict[Path, fields.Column]) -> Path:
    """The setting that names another flow."""
    heads = [sample.raw for sample in e.found.samples if type(sample.raw) is dict]  # a flow may be a bare list of steps
    names = {as_text(value) for head in heads for value in head.values() if is_scalar(value)}
    words = frozenset(
        "flow workflow process target ref id name ablauf flux flujo flyt stroom flusso fluxo calls subflow".split()
    )
    rated: list[tuple[float, Path]] = []
    for path, column in columns.items():
        texts = [value for value in column.values if is_scalar(value)]
        if texts and STAR not in path:
            hits = sum(as_text(value) in names for value in texts) / len(texts)
            rated.append((3 * hits + fields.key_in(path, words) + (path[: len(e.settings)] == e.settings) * 0.5, path))
    rated.sort(key=lambda r: (-r[0], r[1]))
    return rated[0][1] if rated and rated[0][0] >= 1 else ()


def _clock_rule(e: Evidence, columns: dict[Path, fields.Column], verdict: Verdict) -> dict[str, Any]:
    """The kind of a trigger among the steps with the fields of its clock. The values decide over the words."""
    inside = {
        pair: column for pair, column in columns.items() if not e.settings or pair[: len(e.settings)] == e.settings
    }
    clock = find_clock(_without_places(inside or columns, e.common_paths - set(inside if e.settings else ())))
    spread = e.operations_by_path if verdict.by_place else {}
    own = {path: column for path, column in inside.items() if len(spread.get(path, ())) <= 2}
    told = kind_by_clock(clock, own)
    trigger = _kind_by_values(verdict, told, bool(own), "cron" in clock and verdict.operation not in e.told)
    told = _MIXED if told == trigger and _some_without(clock, inside, e.count_steps(verdict.operation)) else told
    clock = _clock_of_kind(e, verdict.operation, clock, trigger)
    claim_trigger_kind(
        e, verdict.operation, trigger, _word_score(verdict.operation, trigger), clock, told or ("" if own else "manual")
    )
    if trigger not in ("schedule", "polling"):
        clock = {key: value for key, value in clock.items() if key in ("event", "batch")}
    return {"trigger": _claimed_kind(e, trigger), **_spell_clock(clock)}


def _claimed_kind(e: Evidence, trigger: Any) -> Any:
    """The kind of a trigger that was claimed last, or where most speaks against it that something happens: what, is asked."""
    claim = next(claim for claim in reversed(e.claims) if claim.part == "trigger kind")
    return "event" if claim.probability < _AS_LIKELY and trigger not in ("schedule", "polling") else trigger


def _triggers_by_keys(e: Evidence, operation: str, verdict: Verdict) -> list[KindRule]:
    """Rules for triggers of one operation of which only the settings tell what sets them off; none where its words do."""
    if operation in e.told or not e.settings or not (verdict.by_place or _says_only_start(operation)):
        return []
    settings = [value_at(raw, e.settings) for raw in e.raw_steps if e.step_operation(raw) == operation]
    records = [record for record in settings if type(record) is dict]
    keys = telling_keys(records, frozenset())
    if len(records) < len(settings) or not all(any(key in record for key in keys) for record in records):
        return []
    return [_trigger_with_key(e, operation, key, [record for record in records if key in record]) for key in keys]


def _trigger_with_key(e: Evidence, operation: str, key: str, records: list[dict[str, Any]]) -> KindRule:
    name = f"{operation}/{key}"
    columns, _ = fields.find_columns(
        [((*e.settings, *path), value) for path, value in find_leaves(record)] for record in records
    )
    clock = find_clock(columns)
    told = kind_by_clock(clock, columns)
    said = e.told.get(name)
    trigger: Any = said if said in get_args(TriggerKind) else told or next(_trigger_hints(key), "event")
    clock = _clock_of_kind(e, name, clock, trigger)
    claim_trigger_kind(e, name, trigger, _word_score(key, trigger), clock, told)
    has = dotted_path((*e.settings, key))
    return KindRule(operation=literal_pattern(operation), has=has, trigger=trigger, **_spell_clock(clock))


def _kind_by_values(verdict: Verdict, told: str, settings: bool, timed: bool) -> str:
    """The kind of a trigger among the steps: its words, unless it has none or its values say clearly otherwise."""
    trigger = verdict.hint[3:]
    if told and (verdict.by_place or (timed and trigger != "polling") or _says_only_start(verdict.operation)):
        return told
    return "manual" if verdict.by_place and not settings else trigger


def _without_places(columns: dict[Path, Column], common: set[Path]) -> dict[Path, Column]:
    """The columns without numbers that steps of many kinds have, as the place of a box is."""
    return {
        path: column
        for path, column in columns.items()
        if path not in common or not all(type(value) in (int, float) for value in column.values)
    }


def _clock_of_kind(e: Evidence, operation: str, clock: dict[str, Any], trigger: str) -> dict[str, Any]:
    """The fields of a clock that a kind of trigger has. A number that says no unit is asked about."""
    maybe = clock.pop("maybe_every", None)
    if maybe and trigger in ("schedule", "polling") and not clock.keys() & {"every", *TIMED}:
        e.unclear_intervals[operation] = maybe
    days = clock.pop("maybe_days", None)
    if days and trigger == "schedule":
        known: dict[str, Path] = {name: clock.pop(name) for name in ("time", "hour", "minute") if name in clock}
        e.unclear_days[operation] = {"days": days, **known}
    if trigger in ("schedule", "polling", "manual", "chat"):
        clock.pop("event", None)
    return clock


def _spell_clock(clock: dict[str, Any]) -> dict[str, Any]:
    return {key: dotted_path(value) if isinstance(value, tuple) else value for key, value in clock.items()}


def _separate_triggers(e: Evidence, starts: Starts) -> list[KindRule]:
    by_operation: dict[str, list[dict[str, Any]]] = {}
    for _, record in starts.records:
        by_operation.setdefault(operation_of(starts, record), []).append(record)
    rules: list[KindRule] = []
    common = e.common_paths | {starts.name, e.identity.id, e.identity.name}
    for operation, records in sorted(
        by_operation.items(), key=lambda entry: not entry[0]
    ):  # what nothing tells comes last
        _separate_trigger(e, starts, records, operation, rules, common)
    return rules


def _says_only_start(operation: str) -> bool:
    """Whether words of an operation say that it begins flows, and none of them what sets it off."""
    words = words_of(operation)
    return word_fits(words, TRIGGER_WORDS) and not word_fits(words, EVENT_WORDS)


def _only_says_trigger(key: str) -> bool:
    """Whether a key says that there is a trigger, and not which."""
    return all(word_fits((word,), TRIGGER_WORDS) for word in words_of(key))


def _word_score(operation: str, trigger: str) -> float:
    """How much the words of an operation say for a kind of trigger: next to nothing where they say that it begins flows, and no more."""
    guesses = guess_kinds(operation)
    score = next((guess.score for guess in guesses if guess.trigger == trigger), 0.0)
    return min(score, 1.0) if trigger == "event" and len(guesses) == 1 and _says_only_start(operation) else score


def _separate_trigger(
    e: Evidence, starts: Starts, records: list[dict[str, Any]], operation: str, rules: list[KindRule], common: set[Path]
) -> None:
    """``common`` are the fields that steps of several operations have: they say nothing of what sets a flow off."""
    columns = _columns_of_triggers(starts, records)
    own = {path: column for path, column in columns.items() if path not in common}
    inside = {path for path in columns if e.settings and path[: len(e.settings)] == e.settings}
    clock = find_clock(_without_places(columns, common - inside))
    said = e.told.get(operation)
    trigger: Any = said if said in get_args(TriggerKind) else ""
    trigger = trigger or _kind_of_separate(starts, records, operation, clock, kind_by_clock(clock, own), bool(own))
    told = kind_by_clock(clock, own) or ("" if own else "manual")
    if told == trigger and _some_without(clock, columns, len(records)):
        told = _MIXED
    clock = _clock_of_kind(e, operation, clock, trigger)
    claim_trigger_kind(e, operation, trigger, _word_score(operation, trigger), clock, told)
    given, trigger = _spell_clock(clock), _claimed_kind(e, trigger)
    if operation in starts.tells:
        rules.append(KindRule(operation="", has=dotted_path((operation,)), trigger=trigger, **given))
    else:
        rules.append(KindRule(operation=literal_pattern(operation), trigger=trigger, **given))


def _columns_of_triggers(starts: Starts, records: list[dict[str, Any]]) -> dict[Path, Column]:
    """What separate triggers of one operation hold, but for what names them and what they do."""
    taken = {starts.operation, starts.id, starts.starts, ("@key",)}
    leaves = ([(pair, value) for pair, value in find_leaves(row) if pair not in taken] for row in records)
    return fields.find_columns(leaves)[0]


def _some_without(clock: dict[str, Any], columns: dict[Path, Column], count: int) -> bool:
    """Whether triggers of one kind are told by a clock that some of them have not."""
    times = [columns[path] for name, path in clock.items() if name in ("every", *TIMED) and path in columns]
    return bool(times) and max(column.steps for column in times) < _NEARLY_ALL * count


def _kind_of_separate(
    starts: Starts, records: list[dict[str, Any]], operation: str, clock: dict[str, Any], told: str, settings: bool
) -> str:
    """The kind of a separate trigger by its operation, else its values (``told``), the path of the records, their keys. A cron
    text is a schedule whatever the word."""
    said = next(_trigger_hints(operation), "")
    timed = clock.keys() & {"every", *TIMED}
    if said and not (said == "manual" and timed) and not ("cron" in clock and said != "polling"):
        return said
    if told:
        return told
    without_words = "webhook" if "event" in clock else "event" if settings else "manual"
    return next(_hints_around(starts, records), without_words)


def _hints_around(starts: Starts, records: list[dict[str, Any]]) -> Iterator[str]:
    """What the path of triggers, then their keys hint at."""
    for part in reversed(starts.at):
        if part != STAR and not _only_says_trigger(part):
            yield from _trigger_hints(part)
    for guess in (guess for row in records for key in row for guess in guess_kinds(key)[:1]):
        if guess.trigger is not None and guess.score > 4:
            yield guess.hint[3:]


def _trigger_hints(text: str) -> Iterator[str]:
    return (guess.hint[3:] for guess in guess_kinds(text) if guess.trigger is not None)

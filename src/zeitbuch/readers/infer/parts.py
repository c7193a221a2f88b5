# What belongs to branches: the cases of a decision in its settings, the rules for steps inside steps, and the pointers
# of steps with their outlets.
"""Rules for cases, holds and pointers of a proposed dialect."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from typing import Any, NamedTuple

from zeitbuch.readers.dialects.paths import as_text
from zeitbuch.readers.dialects.rules import CasesRule, HoldRule, PointerRule, PredecessorRule

from .fields import Column, key_in
from .identity import Identity
from .joins import Joins
from .kinds import ERROR_WORDS, HELPER_WORDS, HELPERS, PLAIN_WORDS, Verdict
from .steps import Found, nested_steps
from .survey import STAR, Path, dotted_path, find_leaves, is_scalar, value_at, values_at
from .vocabulary import word_fits, words_of

_OPERATORS = ("==", "!=", ">", "<", " = ", "=", " contains", " in ", " is ", " and ", " or ", "()", "matches", "equals")
_LIMIT = frozenset("max cap limit most maximum maxiterations hochstens rounds times".split())
_UNTIL = frozenset("until while exit stop bis solange jusqua hasta inntil totdat finche ate condition when".split())
_ITEMS = frozenset(
    "items list over each collection array liste elements elementos elementer lijst lista input source of in".split()
)


class Branching(NamedTuple):
    """What the rules for branches are made from."""

    found: Found
    identity: Identity
    joins: Joins
    verdicts: dict[str, Verdict]
    settings: Path

    def hint_for(self, raw: dict[str, Any]) -> str:
        return self.verdicts[as_text(value_at(raw, self.found.operation))].hint

    def find_condition(self, columns: dict[Path, Column], cases: CasesRule | None) -> Path:
        """The text that a decision judges by, outside its cases."""
        inside = tuple(cases.at.split(".")) if cases is not None else ("\x00",)
        best: tuple[float, Path] = (0.0, ())
        for path, column in columns.items():
            texts = [value for value in column.values if type(value) is str and value]
            if not texts or STAR in path or path[: len(inside)] == inside:
                continue
            judging = sum(operator_like(value) for value in texts) / len(texts)
            worded = key_in(
                path,
                frozenset(
                    "condition on test if when expression bedingung rule check ausdruck condicion betingelse".split()
                ),
            )
            best = max(best, (judging + 0.6 * worded + 0.2 * (path[: len(self.settings)] == self.settings), path))
        return best[1] if best[0] >= 0.7 else ()

    def find_repeat(self, columns: dict[Path, Column]) -> dict[str, Path]:
        """What a loop goes over, until when, and how often at most."""
        result: dict[str, Path] = {}
        for path, column in columns.items():
            if self.settings and path[: len(self.settings)] != self.settings:
                continue
            texts = [value for value in column.values if type(value) is str and value]
            if all(type(value) is int for value in column.values) and key_in(path, _LIMIT):
                result.setdefault("cap", path)
            elif texts and STAR not in path and key_in(path, _UNTIL):
                result.setdefault("until", path)
            elif (
                texts and STAR not in path and (key_in(path, _ITEMS) or all(placeholder_like(value) for value in texts))
            ):
                result.setdefault("items", path)
        return result


def operator_like(value: str) -> bool:
    """Whether a text reads like a condition."""
    return any(name in value for name in _OPERATORS) or placeholder_like(value)


def placeholder_like(value: str) -> bool:
    """Whether a text begins or ends like a placeholder."""
    return len(value) > 3 and not value[0].isalnum() and not value[-1].isalnum() and value[0] not in "\"'/-. "


def _judge_fields(entries: list[dict[str, Any]], outlets: set[str], skip: set[Path]) -> dict[str, Path]:
    """Outlet, label, condition and the mark of the last resort among the fields of cases or branches."""
    columns: dict[Path, list[Any]] = {}
    for entry in entries:
        for path, value in find_leaves(entry, depth=2):
            if STAR not in path and path not in skip:
                columns.setdefault(path, []).append(value)
    result: dict[str, Path] = {}
    conditions: list[tuple[float, Path]] = []
    labels: list[tuple[float, Path]] = []
    for path, values in columns.items():
        texts = [as_text(value) for value in values if is_scalar(value) and value != ""]
        if texts and outlets and sum(text in outlets for text in texts) >= 0.7 * len(texts):
            result.setdefault("outlet", path)
            continue
        if all(type(value) is bool for value in values):
            if 0 < sum(value is True for value in values) <= 0.5 * len(entries):
                result.setdefault("otherwise", path)
            continue
        words = [value for value in values if type(value) is str and value]
        if not words:
            continue
        judging = sum(operator_like(value) for value in words) / len(words)
        if judging >= 0.5:
            conditions.append((judging + 0.01 * len(words), path))
        else:
            labels.append((sum(len(value) < 60 for value in words) / len(words) + 0.01 * len(words) - judging, path))
    if conditions:
        result["condition"] = max(conditions)[1]
    if labels:
        result["label"] = max(labels)[1]
    return result


def cases_rule(b: Branching, operation: str) -> CasesRule | None:
    """Where the settings of a decision list its cases, each with outlet, label and condition."""
    outlets = {join.outlet for join in b.joins.pairs if join.outlet}
    outlets |= {name.rpartition("/")[2] for name in outlets}
    lists: dict[Path, list[list[dict[str, Any]]]] = {}
    for sample in b.found.samples:
        inside = {id(sight.raw) for sight in sample.steps}
        for sight in sample.steps:
            if as_text(value_at(sight.raw, b.found.operation)) != operation:
                continue
            stack: list[tuple[Path, Any]] = [((), sight.raw)]
            while stack:
                path, value = stack.pop()
                if (
                    type(value) is list
                    and value
                    and all(type(item) is dict for item in value)
                    and not any(id(item) in inside for item in value)
                ):
                    lists.setdefault(path, []).append(value)
                elif type(value) is dict and (not path or id(value) not in inside) and len(path) < 4:
                    stack += [((*path, key), item) for key, item in value.items()]
    held = {
        sight.hold[: sight.hold.index(STAR)]
        for sample in b.found.samples
        for sight in sample.steps
        if STAR in sight.hold
    }
    pointed = (
        {pair[: pair.index(STAR)] for pair in (b.joins.at, *b.joins.more) if STAR in pair}
        if b.joins.way == "pointers"
        else set()
    )
    best: tuple[float, Path, dict[str, Path]] = (0.0, (), {})
    for path, found in lists.items():
        if path in held or path in pointed or STAR in path:
            continue
        entries = [mapping for listed in found for mapping in listed]
        parts = _judge_fields(entries, outlets, set())
        score = 2.0 * ("outlet" in parts) + 1.0 * ("condition" in parts) + 0.5 * ("label" in parts)
        # A list without names of outlets still tells which outlet is which by its order, when outlets are numbers.
        if "outlet" not in parts and not any(name.isdecimal() for name in outlets):
            score -= 0.6
        if score > best[0]:
            best = (score, path, parts)
    if best[0] < 0.9:
        return None
    parts = best[2]
    return CasesRule(
        at=dotted_path(best[1]),
        outlet=dotted_path(parts["outlet"]) if "outlet" in parts else "",
        label=dotted_path(parts["label"]) if "label" in parts else "",
        condition=dotted_path(parts["condition"]) if "condition" in parts else "",
    )


def hold_rules(b: Branching) -> list[HoldRule]:
    """The rules for steps that stand inside steps."""
    owners: dict[Path, Counter[str]] = {}
    inner: dict[Path, Counter[str]] = {}
    raws: dict[Path, list[dict[str, Any]]] = {}
    operations: dict[Path, set[str]] = {}
    for sample in b.found.samples:
        for sight in sample.steps:
            if sight.owner is None:
                continue
            owner = sample.steps[sight.owner].raw
            owners.setdefault(sight.hold, Counter())[b.hint_for(owner)] += 1
            inner.setdefault(sight.hold, Counter())[b.hint_for(sight.raw)] += 1
            operations.setdefault(sight.hold, set()).add(as_text(value_at(owner, b.found.operation)))
            if not any(owner is row for row in raws.setdefault(sight.hold, [])):
                raws[sight.hold].append(owner)
    rules: list[HoldRule] = []
    for path, kinds in owners.items():
        bare = path[:-1] if path[-1] == STAR else path
        first = bare.index(STAR) if STAR in bare else -1
        keys = tuple(part for part in path if part != STAR)
        role = _role_of_keys(keys, kinds, inner[path], first >= 0)
        if first < 0 and path[-1:] == (STAR,) and role == "case" and bare[-1:] == (STAR,):
            first = len(bare) - 1
        named = keys[-1] if role == "case" and first < 0 else ""
        if (
            named and len(keys) >= 2 and not word_fits(words_of(keys[0]), "then else yes no true false default")
        ) or named:
            named = keys[0]
        if first < 0:
            rules.append(HoldRule(at=dotted_path(bare), role=role, named=named))  # type: ignore[arg-type]
            continue
        outer, rest = bare[:first], bare[first + 1 :]
        entries = [entry for owned in raws[path] for entry in values_at(owned, (*outer, STAR)) if type(entry) is dict]
        parts = _judge_fields(entries, set(), _inner_paths(entries, b)) if rest else {}
        holders = [value_at(owned, outer) for owned in raws[path]]
        label = (
            dotted_path(parts["label"])
            if "label" in parts
            else "@key"
            if any(type(item) is dict for item in holders)
            else ""
        )
        rules.append(
            HoldRule(
                at=dotted_path(outer),
                role=role,  # type: ignore[arg-type]
                steps=dotted_path(rest) if rest else ".",
                label=label if rest else "",
                condition=dotted_path(parts["condition"]) if "condition" in parts else "",
                otherwise=dotted_path(parts["otherwise"]) if "otherwise" in parts else "",
            )
        )
    return sorted(rules, key=lambda r: ("body", "case", "attach", "error").index(r.role))


def _inner_paths(entries: list[dict[str, Any]], b: Branching) -> set[Path]:
    """Paths of branches that lead into their steps."""
    found: set[Path] = set()
    for entry in entries:
        for path, _, _, _ in nested_steps(entry, b.found.operation, b.found.keyed, []):
            found |= {pair for pair, _ in find_leaves(entry, depth=2) if pair[:1] == path[:1]}
    return found


def _role_of_keys(keys: Path, owners: Counter[str], inner: Counter[str], branches: bool) -> str:
    total = sum(owners.values())
    words = tuple(word for key in keys for word in words_of(key))
    scopes = sum(owners[key] for key in ("loop", "guard", "group", "parallel", "decide"))
    if owners["agent"] >= 0.6 * total and sum(
        inner[key] for key in HELPERS | {"agent", "other", "read", "write", "http", "send"}
    ) >= 0.6 * sum(inner.values()):
        return "attach"
    if word_fits(words, ERROR_WORDS) and not branches:
        return "error"
    if word_fits(words, HELPER_WORDS) and owners["agent"]:
        return "attach"
    if branches or owners["decide"] >= 0.5 * total:
        return "case"
    if scopes >= 0.5 * total:
        return "body"
    return "error" if scopes < 0.3 * total and "other" not in owners else "body"


def pointer_rules(b: Branching) -> list[PointerRule]:
    """The rules for pointers within steps."""
    rules: list[PointerRule] = []
    known = [{**mapping, **table} for mapping, table in zip(b.identity.names, b.identity.ids, strict=True)]
    for path in (b.joins.at, *b.joins.more):
        bare = path
        while bare and bare[-1] == STAR:
            bare = bare[:-1]
        pairs = [join for join in b.joins.pairs if _rule_under(join.source, join.target, bare, b, known)]
        hints = [
            (_hint_for(b, known, join.sample, join.source), _hint_for(b, known, join.sample, join.target))
            for join in pairs
        ]
        attach = bool(hints) and sum(first == "agent" and text in HELPERS for first, text in hints) >= 0.8 * len(hints)
        helper = (
            bool(hints)
            and sum(first in HELPERS and text == "agent" for first, text in hints) >= 0.8 * len(hints)
            and word_fits(words_of(bare[-1]), HELPER_WORDS)
        )
        words = tuple(word for key in bare for word in words_of(key) if key != STAR)
        outlet = bare[-1] if word_fits(words, ERROR_WORDS) else ""
        role: Any = "attach" if attach or helper else "error" if outlet else None
        if STAR not in bare:
            rules.append(PointerRule(at=dotted_path(bare), outlet=outlet, role=role, reversed=attach))
            continue
        first = bare.index(STAR)
        outer, rest = bare[:first], bare[first + 1 :]
        entries = [
            entry
            for sample in b.found.samples
            for sight in sample.steps
            for entry in values_at(sight.raw, (*outer, STAR))
            if type(entry) is dict
        ]
        outcomes = _outcome_path(entries, rest)
        parts = _judge_fields(entries, set(), {rest, outcomes})
        rules.append(
            PointerRule(
                at=dotted_path(outer),
                target=dotted_path(rest),
                via=dotted_path(outcomes) if outcomes else "",
                label=dotted_path(parts["label"]) if "label" in parts else "",
                condition=dotted_path(parts["condition"]) if "condition" in parts else "",
                outlet=outlet,
                role=role,
                reversed=attach,
            )
        )
    return rules


def predecessor_rule(b: Branching, outcome: Callable[[str], Any]) -> PredecessorRule:
    """The rule for steps that name the steps before them; ``outcome`` judges a word for an outcome."""
    joins = b.joins
    at_ = joins.at if STAR in joins.at else (*joins.at, STAR, *_named_within(b, joins.at))
    if at_[-1] == STAR:
        words = {name for join in joins.pairs for name in join.outlet.replace("/", ",").split(",") if name}
        return PredecessorRule(at=dotted_path(joins.at), outcomes={word: outcome(word) for word in sorted(words)})
    first = at_.index(STAR)
    outer, rest = at_[:first], at_[first + 1 :]
    entries = [
        entry
        for sample in b.found.samples
        for sight in sample.steps
        for entry in values_at(sight.raw, (*outer, STAR))
        if type(entry) is dict
    ]
    named = _outcome_path(entries, rest)
    words = {as_text(value_at(mapping, named)) for mapping in entries} - {""} if named else set()
    return PredecessorRule(
        at=dotted_path(outer),
        source=dotted_path(rest) if rest else "",
        outcome=dotted_path(named) if named else "",
        outcomes={word: outcome(word) for word in sorted(words)},
    )


def _named_within(b: Branching, where: Path) -> Path:
    """The field that names a step in the objects of a list that mostly holds bare names."""
    count: Counter[Path] = Counter()
    for number, sample in enumerate(b.found.samples):
        known = {**b.identity.names[number], **b.identity.ids[number]}
        for sight in sample.steps:
            value = value_at(sight.raw, where)
            for entry in value if type(value) is list else ():
                if type(entry) is dict:
                    count.update(
                        pair
                        for pair, value in find_leaves(entry, depth=2)
                        if STAR not in pair and as_text(value) in known
                    )
    return count.most_common(1)[0][0] if count else ()


def _outcome_path(entries: list[dict[str, Any]], target: Path) -> Path:
    """The field of pointer records that repeats a few words for outcomes."""
    columns: dict[Path, list[str]] = {}
    for entry in entries:
        for path, value in find_leaves(entry, depth=2):
            if type(value) is str and STAR not in path and path != target:
                columns.setdefault(path, []).append(value)
    rated: list[tuple[float, Path]] = []
    for path, values in columns.items():
        if sum(operator_like(value) for value in values) > 0.5 * len(values):
            continue
        known = sum(
            word_fits(words_of(value), f"{ERROR_WORDS} {PLAIN_WORDS} {HELPER_WORDS}") for value in values
        ) / len(values)
        repeats = 1 - len(set(values)) / len(values)
        rated.append((known + 0.5 * repeats, path))
    best = max(rated, default=(0.0, ()))
    return best[1] if best[0] >= 0.3 else ()


def _rule_under(source: str, target: str, bare: Path, b: Branching, known: list[dict[str, int]]) -> bool:
    for number, sample in enumerate(b.found.samples):
        index = known[number].get(source)
        if index is not None and any(
            as_text(value) == target for value in _flatten(values_at(sample.steps[index].raw, bare))
        ):
            return True
    return False


def _flatten(values: Any) -> list[Any]:
    found: list[Any] = []
    stack = list(values)
    while stack:
        value = stack.pop()
        if type(value) is list:
            stack += value
        elif type(value) is dict:
            stack += value.values()
        else:
            found.append(value)
    return found


def _hint_for(b: Branching, known: list[dict[str, int]], sample: int, name: str) -> str:
    index = known[sample].get(name)
    return b.hint_for(b.found.samples[sample].steps[index].raw) if index is not None else ""

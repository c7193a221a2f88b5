# What belongs to branches: the cases of a decision in its settings, the rules for steps inside steps, and the pointers
# of steps with their outlets.
"""Rules for cases, holds and pointers of a proposed dialect."""

from __future__ import annotations

from collections import Counter
from typing import Any, NamedTuple

from zeitbuch.readers.dialects.paths import as_text, path_keys
from zeitbuch.readers.dialects.rules import CasesRule, HoldRule
from zeitbuch.readers.infer.steps import Sight
from zeitbuch.readers.input.plain_xml import EACH

from .fields import Column, key_in
from .identity import Identity
from .join_index import Joins
from .kinds import ERROR_WORDS, HELPER_WORDS, HELPERS, Verdict
from .steps import Found, nested_steps
from .survey import STAR, Path, dotted_path, find_leaves, is_scalar, value_at, values_at
from .vocabulary import word_fits, words_of

_OPERATORS = ("==", "!=", ">", "<", " = ", "=", " contains", " in ", " is ", " and ", " or ", "()", "matches", "equals")
_LIMIT = frozenset("max cap limit most maximum maxiterations hochstens times".split())
_UNTIL = frozenset("until exit stop bis jusqua hasta inntil totdat ate".split())
_LASTING = frozenset("while solange tant mientras zolang finche enquanto medan".split())
_JUDGED = frozenset(
    "condition test expression if when bedingung ausdruck condicion expresion betingelse voorwaarde condizione condicao".split()
)
_TRIES = frozenset("retry retries try tries attempt attempts".split())
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

    def step_named(self, number: int, name: str) -> dict[str, Any]:
        """The step of a flow with this id or name; an empty record where there is none."""
        index = self.identity.ids[number].get(name, self.identity.names[number].get(name))
        return self.found.samples[number].steps[index].raw if index is not None else {}

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

    def find_repeat(self, columns: dict[Path, Column], operation: str = "") -> dict[str, Path]:
        """What a loop goes over, until when, and how often at most. Beside the settings only what is plain counts."""
        result: dict[str, Path] = {}
        words = set(words_of(operation))
        for path, column in columns.items():
            inside = not self.settings or path[: len(self.settings)] == self.settings
            if (inside or len(path) == 1) and STAR not in path:
                key = _part_of_repeat(path, column, words, inside)
                result.setdefault(key, path)
        result.pop("", None)
        return result


def _part_of_repeat(path: Path, column: Column, operation: set[str], inside: bool) -> str:
    """What a field of a loop says of its rounds; empty where that is something else. ``operation`` are the words of the loop."""
    if all(type(value) is int for value in column.values):
        return "cap" if key_in(path, _LIMIT) and not key_in(path, _TRIES) else ""
    texts = [value for value in column.values if type(value) is str and value]
    if not texts:
        return ""
    if key_in(path, _JUDGED):
        return _end_by_word(operation, inside)
    if key_in(path, _UNTIL) or key_in(path, _LASTING):
        return "until" if key_in(path, _UNTIL) else "as_long_as"
    return "items" if inside and _names_items(path, texts) else ""


def _end_by_word(operation: set[str], inside: bool) -> str:
    """What a condition means by what the loop is called."""
    if operation & _LASTING:
        return "as_long_as"
    return "until" if inside or operation & _UNTIL else ""


def _names_items(path: Path, texts: list[str]) -> bool:
    return key_in(path, _ITEMS) or all(map(placeholder_like, texts))


def operator_like(value: str) -> bool:
    """Whether a text reads like a condition."""
    return any(name in value for name in _OPERATORS) or placeholder_like(value)


def placeholder_like(value: str) -> bool:
    """Whether a text begins or ends like a placeholder."""
    return len(value) > 3 and not value[0].isalnum() and not value[-1].isalnum() and value[0] not in "\"'/-. "


def judge_fields(entries: list[dict[str, Any]], outlets: set[str], skip: set[Path]) -> dict[str, Path]:
    """Outlet, label, condition and the mark of the last resort among the fields of cases or branches."""
    columns = _columns_of_entries(entries, skip)
    result: dict[str, Path] = {}
    conditions: list[tuple[float, Path]] = []
    labels: list[tuple[float, Path]] = []
    for path, values in columns.items():
        _judge_field(entries, outlets, values, result, path, conditions, labels)
    if conditions:
        result["condition"] = max(conditions)[1]
    if labels:
        result["label"] = max(labels)[1]
    return result


def _columns_of_entries(entries: list[dict[str, Any]], skip: set[Path]) -> dict[Path, list[Any]]:
    columns: dict[Path, list[Any]] = {}
    for entry in entries:
        for path, value in find_leaves(entry, depth=2):
            if STAR not in path and path not in skip:
                columns.setdefault(path, []).append(value)
    return columns


def _judge_field(
    entries: list[dict[str, Any]],
    outlets: set[str],
    values: list[Any],
    result: dict[str, Path],
    path: Path,
    conditions: list[tuple[float, Path]],
    labels: list[tuple[float, Path]],
) -> None:
    texts = [as_text(value) for value in values if is_scalar(value) and value != ""]
    if texts and outlets and sum(text in outlets for text in texts) >= 0.7 * len(texts):
        result.setdefault("outlet", path)
    elif all(type(value) is bool for value in values):
        if 0 < sum(value is True for value in values) <= 0.5 * len(entries):
            result.setdefault("otherwise", path)
    elif words := [value for value in values if type(value) is str and value]:
        judging = sum(map(operator_like, words)) / len(words)
        short = sum(len(value) < 60 for value in words) / len(words)
        much = 0.01 * len(words)
        (conditions if judging >= 0.5 else labels).append(
            (judging + much if judging >= 0.5 else short + much - judging, path)
        )


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
            _lists_in_step(sight, inside, lists)
    held, pointed = _paths_taken(b)
    best = _best_list(lists, held, pointed, outlets)
    if best[0] < 0.9:
        return None
    parts = best[2]
    return CasesRule(
        at=dotted_path(best[1]),
        outlet=dotted_path(parts.get("outlet", ())),
        label=dotted_path(parts.get("label", ())),
        condition=dotted_path(parts.get("condition", ())),
    )


def listed_choices(b: Branching, operation: str) -> CasesRule | None:
    """Where steps that are no decisions list the ways by which links leave them; None where they do not."""
    rule = cases_rule(b, operation)
    if rule is None or type(rule.outlet) is not str or not rule.outlet:
        return None
    path = (*path_keys(rule.at), STAR, *path_keys(rule.outlet))
    fits = [
        ways <= set(map(as_text, values_at(b.step_named(number, name), path)))
        for (number, name), ways in _outlets_of_steps(b.joins).items()
        if len(ways) > 1 and as_text(value_at(b.step_named(number, name), b.found.operation)) == operation
    ]
    return rule if fits and all(fits) else None


def _outlets_of_steps(joins: Joins) -> dict[tuple[int, str], set[str]]:
    """The names of the ways by which links leave each step, by its flow and name."""
    outlets: dict[tuple[int, str], set[str]] = {}
    for join in joins.pairs:
        if join.outlet:
            outlets.setdefault((join.sample, join.source), set()).add(join.outlet)
    return outlets


def _lists_in_step(sight: Sight, inside: set[int], lists: dict[Path, list[list[dict[str, Any]]]]) -> None:
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


def _paths_taken(b: Branching) -> tuple[set[tuple[str, ...]], set[tuple[str, ...]]]:
    """Lists that hold steps or name them."""
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
    return held, pointed


def _best_list(
    lists: dict[Path, list[list[dict[str, Any]]]],
    held: set[tuple[str, ...]],
    pointed: set[tuple[str, ...]],
    outlets: set[str],
) -> tuple[float, Path, dict[str, Path]]:
    best: tuple[float, Path, dict[str, Path]] = (0.0, (), {})
    for path, found in lists.items():
        if path in held or path in pointed or STAR in path:
            continue
        entries = [mapping for listed in found for mapping in listed]
        parts = judge_fields(entries, outlets, set())
        score = 2.0 * ("outlet" in parts) + 1.0 * ("condition" in parts) + 0.5 * ("label" in parts)
        # A list without names of outlets still tells which outlet is which by its order, when outlets are numbers.
        if "outlet" not in parts and not any(name.isdecimal() for name in outlets):
            score -= 0.6
        if score > best[0]:
            best = (score, path, parts)
    return best


def hold_rules(b: Branching) -> list[HoldRule]:
    """The rules for steps that stand inside steps."""
    owners, inner, raws = _steps_by_hold(b)
    rules: list[HoldRule] = []
    for path, kinds in owners.items():
        _hold_rule(b, path, kinds, inner, rules, raws)
    return sorted(rules, key=lambda r: ("body", "case", "attach", "error").index(r.role))


def _steps_by_hold(
    b: Branching,
) -> tuple[dict[Path, Counter[str]], dict[Path, Counter[str]], dict[Path, list[dict[str, Any]]]]:
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
    return owners, inner, raws


def _hold_rule(
    b: Branching,
    path: Path,
    kinds: Counter[str],
    inner: dict[Path, Counter[str]],
    rules: list[HoldRule],
    raws: dict[Path, list[dict[str, Any]]],
) -> None:
    bare = path[:-1] if path[-1] == STAR else path
    first = bare.index(STAR) if STAR in bare else -1
    keys = tuple(part for part in path if part != STAR)
    role = _role_of_keys(keys, kinds, inner[path], first >= 0, _is_optional(b, path))
    if first < 0 and path[-1:] == (STAR,) and role == "case" and bare[-1:] == (STAR,):
        first = len(bare) - 1
    named = keys[0] if role == "case" and first < 0 else ""
    if first < 0:
        rules.append(HoldRule(at=dotted_path(bare), role=role, named=named))  # type: ignore[arg-type]
        return
    rules.append(_branch_rule(b, bare[:first], bare[first + 1 :], raws[path], role))


def _branch_rule(b: Branching, outer: Path, rest: Path, owners: list[dict[str, Any]], role: str) -> HoldRule:
    """The rule for steps in branches: ``outer`` leads to these, ``rest`` from one to its steps."""
    entries = [entry for owned in owners for entry in values_at(owned, (*outer, STAR)) if type(entry) is dict]
    parts = judge_fields(entries, set(), _inner_paths(entries, b)) if rest else {}
    keyed = any(type(value_at(owned, outer)) is dict for owned in owners)
    label = dotted_path(parts["label"]) if "label" in parts else "@key" if keyed else ""
    return HoldRule(
        at=dotted_path(outer),
        role=role,  # type: ignore[arg-type]
        steps=dotted_path(rest) if rest else ".",
        label=label if rest else "",
        condition=dotted_path(parts.get("condition", ())),
        otherwise=dotted_path(parts.get("otherwise", ())),
        named=outer[-1] if _is_called_a_way(outer, rest, role, label) else "",
    )


def _is_called_a_way(outer: Path, rest: Path, role: str, label: str) -> bool:
    """Whether an element of XML that holds steps in order is called what the way is, such as then and else."""
    return role == "case" and rest == (EACH,) and not label and outer[-1] != EACH


def _inner_paths(entries: list[dict[str, Any]], b: Branching) -> set[Path]:
    """Paths of branches that lead into their steps."""
    found: set[Path] = set()
    for entry in entries:
        for path, _, _, _ in nested_steps(entry, b.found.operation, b.found.keyed, []):
            found |= {pair for pair, _ in find_leaves(entry, depth=2) if pair[:1] == path[:1]}
    return found


def _is_optional(b: Branching, hold: Path) -> bool:
    """Whether only some steps of the operations that hold steps at a path do so: a body is part of what an operation is, what runs
    after a failure is not."""
    owning: Counter[str] = Counter()
    every: Counter[str] = Counter()
    for sample in b.found.samples:
        holders = {sight.owner for sight in sample.steps if sight.hold == hold}
        for index, sight in enumerate(sample.steps):
            operation = as_text(value_at(sight.raw, b.found.operation))
            every[operation] += 1
            owning[operation] += index in holders
    shares = [owning[operation] / every[operation] for operation in owning if owning[operation]]
    return bool(shares) and sum(shares) / len(shares) < 0.75 and (len(shares) > 1 or shares[0] < 0.5)


def _role_of_keys(keys: Path, owners: Counter[str], inner: Counter[str], branches: bool, optional: bool) -> str:
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
    return "error" if optional or (scopes < 0.3 * total and "other" not in owners) else "body"

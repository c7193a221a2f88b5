# Triggers that stand apart from the steps: a record beside them with a clock text, a word for a trigger, or an id that
# links name and no step has.
"""Finding separate triggers."""

from __future__ import annotations

from typing import Any, NamedTuple

from zeitbuch.readers.dialects.paths import as_text
from zeitbuch.readers.input.clock_texts import duration_of
from zeitbuch.readers.input.clock_words import schedule_of_words

from .clocks import CRON, find_clock
from .fields import find_columns
from .identity import Identity
from .join_index import Joins
from .operations import is_tokenlike, shape_gain, shape_of, short_values
from .steps import KEY, Found
from .survey import STAR, Path, find_groups, find_leaves, is_scalar, lies_at, value_at
from .telling_keys import telling_keys
from .vocabulary import guess_kinds, word_fits, words_of

_WORDS = (
    "trigger* auslos* ausloes* declench* dispar* utlos* innesc* gatilho* start* begin* entry source when wake* fires fired schedule* cron clock* timer hook* "
    "webhook* listen* event* kickoff launch* initiat* on depart* debut* demarr* inizi* avvi* inicio* comienz* beginn* anfang* oppstart* aanvang*"
)

_FEWEST, _TELLING = 6, 0.6  # records by which a field is judged, and how much better it has to tell their settings


class Starts(NamedTuple):
    """Separate triggers: where (from the flow), and the paths within one. ``tells``: the keys of which each has one, where no field says
    what they are."""

    at: Path
    keyed: bool
    operation: Path
    id: Path
    name: Path
    starts: Path
    records: list[tuple[int, dict[str, Any]]]
    score: float
    tells: tuple[str, ...] = ()


def is_trigger_word(key: str) -> bool:
    """Whether a field is called what triggers are called."""
    return word_fits(words_of(key), _WORDS)


def _single_records(raw: Any, path: Path, steps_at: Path) -> list[tuple[Path, dict[str, Any]]]:
    """Records beside the steps, at most three keys deep."""
    found: list[tuple[Path, dict[str, Any]]] = []
    if type(raw) is not dict or len(path) >= 3:
        return found
    for key, value in raw.items():
        here = (*path, key)
        if here == steps_at[: len(here)] and len(here) == len(steps_at) - 1:
            continue
        if type(value) is dict:
            # What holds all the steps is no trigger: what it names are its own steps.
            found += [(here, value)] if here != steps_at[: len(here)] else []
            found += _single_records(value, here, steps_at)
    return found


def find_starts(found: Found, identity: Identity, joins: Joins, have: int) -> Starts | None:
    """The separate triggers, or None. ``have`` flows already have a trigger among their steps."""
    candidates, keyed, raws = _gather_candidates(found, joins)
    named = [
        {join.source for join in joins.pairs if join.sample == number}
        - set(identity.ids[number])
        - set(identity.names[number])
        for number in range(len(raws))
    ]
    pointed = joins.at[: joins.at.index(STAR)] if STAR in joins.at else joins.at
    pointed = pointed if joins.way == "pointers" else ()
    rated = [
        _rate_start(
            path,
            keyed.get(path, False),
            records,
            identity,
            named,
            found.operation,
            pointed,
            joins.at[-1] if joins.at else "",
        )
        for path, records in candidates.items()
        if len({number for number, _ in records}) >= 0.5 * (len(raws) - have)
        and not any(_holds_steps(row, identity, number) for number, row in records[:20])
    ]
    best = max(rated, key=lambda r: (r.score, len(r.at)), default=None)
    least = 5.0 if have >= 0.5 * len(raws) else 3.0
    if best is None or best.score < least:
        return None
    # What only some triggers hold, a clock say, stands within the trigger that every flow has.
    around = [
        one for one in rated if one.score >= least and best.at[: len(one.at)] == one.at and _flows(one) > _flows(best)
    ]
    return max(around, key=lambda one: one.score, default=best)


def _flows(starts: Starts) -> int:
    return len({number for number, _ in starts.records})


def _gather_candidates(
    found: Found, joins: Joins
) -> tuple[dict[Path, list[tuple[int, dict[str, Any]]]], dict[Path, bool], list[dict[str, Any]]]:
    """Records outside the steps that may be triggers, by their path."""
    candidates: dict[Path, list[tuple[int, dict[str, Any]]]] = {}
    keyed: dict[Path, bool] = {}
    raws = [sample.raw for sample in found.samples]
    for group in find_groups(raws):
        near = min(len(group.path), len(found.steps_at))
        if group.path[:near] == found.steps_at[:near] or (
            joins.way in ("records", "adjacency")
            and any(group.path[: len(each.at)] == each.at for each in (joins, *joins.also))
        ):
            continue
        candidates[group.path] = [
            (item.document, item.value if not group.keyed else {**item.value, "@key": item.key}) for item in group.items
        ]
        keyed[group.path] = group.keyed
    for path, under in _single_keys(raws, found.steps_at).items():
        candidates.setdefault(path, under)
        keyed.setdefault(path, True)
    for number, raw in enumerate(raws):
        for path, record in _single_records(raw, (), found.steps_at):
            if joins.way in ("records", "adjacency") and any(lies_at(path, each.at) for each in (joins, *joins.also)):
                continue
            candidates.setdefault(path, []).append((number, record))
    return candidates, keyed, raws


def _single_keys(raws: list[dict[str, Any]], steps_at: Path) -> dict[Path, list[tuple[int, dict[str, Any]]]]:
    """Records that stand alone under a key of their own in one object, another key in other flows: the key says what they are."""
    found: dict[Path, list[tuple[int, dict[str, Any]]]] = {}
    for number, raw in enumerate(raws):
        for key, value in raw.items() if type(raw) is dict else ():
            record = _alone_under_key(value)
            if record is not None and (key,) != steps_at[:1]:
                found.setdefault((key, STAR), []).append((number, record))
    return {path: records for path, records in found.items() if _differ_by_key(records, len(raws))}


def _alone_under_key(value: Any) -> dict[str, Any] | None:
    """The record that is all an object holds, with its key."""
    if type(value) is not dict or len(value) != 1:
        return None
    key, inner = next(iter(value.items()))
    return {**inner, "@key": key} if type(inner) is dict else None


def _differ_by_key(records: list[tuple[int, dict[str, Any]]], flows: int) -> bool:
    """Whether every flow has one, under a few keys that come again."""
    keys = {row["@key"] for _, row in records}
    return len(records) == flows and 1 < len(keys) <= 0.5 * flows


def _holds_steps(record: dict[str, Any], identity: Identity, number: int) -> bool:
    """Whether a record is about many steps (a table of links, say) rather than a trigger."""
    table = identity.ids[number]
    return sum(key in table for key in record) >= 2


def _rate_start(
    path: Path,
    keyed: bool,
    records: list[tuple[int, dict[str, Any]]],
    identity: Identity,
    named: list[set[str]],
    step_operation: Path,
    pointed: Path,
    pointing: str,
) -> Starts:
    columns, numeric, clocks = _columns_of_records(records, identity)
    count = len(records)
    clocks = max(clocks, count if _say_when([row for _, row in records]) else 0)
    best = _Best(step_operation)
    for where, listed in columns.items():
        same = pointed and where[-1] == pointing  # called as the pointers of steps are
        leads = where[: len(pointed)] == pointed or same if pointed else not numeric
        steps = sum(value in identity.ids[number] or value in identity.names[number] for number, value in listed)
        if leads and steps > 0.6 * len(listed):
            best.starts = max(best.starts, (steps / len(listed), where))
        if STAR not in where:
            links = sum(value in named[number] for number, value in listed) / count
            best.judge_column(where, [value for _, value in listed], len(listed) / count, links)
    worded = any(is_trigger_word(part) for part in path[-2:] if part != STAR)
    direct = any(is_scalar(value) for _, row in records for value in row.values())
    score = (
        2.0 * (best.operation[0] > 0)
        + 1.5 * worded
        + 2.0 * min(1.0, clocks / count)
        + 4 * best.id[0]
        + 1.5 * (best.starts[0] > 0)
    )
    score += 3.0 * (count <= 3 * len(named) and _written_like_steps(records, identity, step_operation))
    score += 1.0 * (len(columns.get(step_operation, ())) == count)  # they say what they are where steps do
    score -= 0.0 if direct else 1.2
    score += 1.5 * len({number for number, _ in records}) / max(1, len(named))
    score -= 0.02 * max(0, count - 3 * len(named))
    id_path, operation = _fields_without_words(step_operation, best.id, columns, best.operation, count, worded)
    rows, taken = [row for _, row in records], {best.id[1], best.name, best.starts[1]}
    by_settings = _field_by_settings(rows, taken) if not best.operation[0] else ()
    operation = operation if operation[1] else (0.1, by_settings)
    common = frozenset(path[0] for path in (best.id[1], best.name, best.starts[1]) if path) | {"@key"}
    tells = () if best.operation[0] or by_settings else telling_keys(rows, common)
    score += 1.0 * (bool(by_settings or tells) and clocks > 0)  # several sorts of them, of which one has a clock
    if operation[1] == id_path[1] and not best.id[0]:
        id_path = (0.0, ())  # what many flows have alike names none of their triggers
    tells = () if operation[1] else tells
    return Starts(path, keyed, operation[1], id_path[1], best.name, best.starts[1], records, score, tells)


def _say_when(records: list[dict[str, Any]]) -> bool:
    """Whether records hold a time of the day with the days or the zone that it is for."""
    columns, _ = find_columns(list(find_leaves(record)) for record in records)
    clock = find_clock(columns)
    return bool(clock.keys() & {"time", "hour"}) and bool(clock.keys() & {"days", "month_days", "zone", "maybe_days"})


def _written_like_steps(records: list[tuple[int, dict[str, Any]]], identity: Identity, operation: Path) -> bool:
    """Whether records beside the steps have their id or name and their operation."""
    named = [path for path in (identity.id, identity.name) if path and path != KEY]
    wanted = [operation, *(named or [operation])]
    return all(is_tokenlike(as_text(value_at(row, path))) for _, row in records for path in wanted)


class _Best:
    """The fields of trigger records that fit best so far, each with what speaks for it."""

    def __init__(self, step_operation: Path) -> None:
        self.step_operation = step_operation
        self.operation: tuple[float, Path] = (0.0, ())
        self.id: tuple[float, Path] = (0.0, ())
        self.starts: tuple[float, Path] = (0.0, ())
        self.name: Path = ()

    def judge_column(self, where: Path, values: list[str], share: float, links: float) -> None:
        """``share`` of the records have the field; ``links`` says how often links begin at what it holds."""
        blanks = sum(" " in value for value in values) / len(values)
        paths = sum(value.startswith("/") or "://" in value for value in values) / len(values)
        triggers = sum(
            bool(group := guess_kinds(value)) and group[0].trigger is not None
            for value in values
            if is_tokenlike(value)
        ) / len(values)
        same = where == self.step_operation
        if triggers > 0.5 and (blanks < 0.5 or same) and paths < 0.5 and len(where) <= 2 and share >= 0.6:
            self.operation = max(self.operation, (triggers + share - 0.2 * len(where) + same, where))
        if links:
            self.id = max(self.id, (links, where))
        if blanks > 0.5 and len(where) == 1 and not self.name and not _are_clocks(values):
            self.name = where


def _are_clocks(texts: list[str]) -> bool:
    return any(CRON.match(text.strip()) for text in texts) or all(map(_says_when, texts))


def _says_when(text: str) -> bool:
    return duration_of(text) is not None or schedule_of_words(text) is not None


def _columns_of_records(
    records: list[tuple[int, dict[str, Any]]], identity: Identity
) -> tuple[dict[Path, list[tuple[int, str]]], bool, int]:
    columns: dict[Path, list[tuple[int, str]]] = {}
    numeric = all(name.isdecimal() for table in identity.ids for name in table)
    clocks = 0
    for number, record in records:
        for where, value in find_leaves(record, depth=3):
            if is_scalar(value):
                columns.setdefault(where, []).append((number, as_text(value)))
            clocks += type(value) is str and CRON.match(value.strip()) is not None
    return columns, numeric, clocks


def _fields_without_words(
    step_operation: Path,
    id_path: tuple[float, Path],
    columns: dict[Path, list[tuple[int, str]]],
    operation: tuple[float, Path],
    count: int,
    worded: bool,
) -> tuple[tuple[float, Path], tuple[float, Path]]:
    if not id_path[0]:
        plain_ids = [
            entry
            for entry in columns
            if len(entry) == 1
            and len(columns[entry]) == count
            and any(text in ("id", "key", "ref", "uid", "@key") for text in words_of(entry[0]) or (entry[0],))
        ]
        id_path = (0.0, plain_ids[0]) if plain_ids else id_path
    if not operation[1] and step_operation in columns and len(columns[step_operation]) == count:
        operation = (0.1, step_operation)
    if not operation[1] and worded:
        # The builder's type string may have no trade word: a repeated short text is the best there is.
        plain = [entry for entry, listed in columns.items() if len(entry) == 1 and entry[0] in ("type", "kind", "op")]
        operation = (0.1, plain[0]) if plain else operation
    return id_path, operation


def _field_by_settings(records: list[dict[str, Any]], taken: set[Path]) -> Path:
    """The field that tells which settings a record has: its type, whatever its words. None where all have the same."""
    shapes = [shape_of(row) for row in records]
    rated = [
        (shape_gain(column, shapes, path), path)
        for path, column in short_values(records).items()
        if path not in taken and len(column) == len(records) and not any(" " in value for value in column.values())
    ]
    gain, path = max(rated, key=lambda one: (one[0], -len(one[1])), default=(0.0, ()))
    return path if len(records) >= _FEWEST and gain >= _TELLING else ()


def operation_of(starts: Starts, record: dict[str, Any]) -> str:
    """The operation of one separate trigger, or the key that tells what it is."""
    if starts.tells:
        return next((key for key in starts.tells if record.get(key) is not None), "")
    value = value_at(record, starts.operation) if starts.operation else None
    return as_text(value) if is_scalar(value) else ""

# The everyday fields within steps: switched off, notes, positions, retries, time limits, the scope they stand in.
"""Finding the common fields of steps."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator
from itertools import permutations
from typing import Any

from zeitbuch.readers.dialects.paths import as_text

from .fields import Column, key_in
from .spans import is_time, unit_of
from .state_words import state_of_word
from .steps import Found
from .survey import STAR, Path, is_scalar, value_at

_NOTE_WORDS = frozenset(
    "note notes comment comments memo remark remarks notiz kommentar nota notat merknad opmerking hint annotation anmerkung bemerkung remarque".split()
)
_LIMIT_WORDS = "timeout timeouts limit deadline zeitlimit tidsgrense expires expiry"
_CLEAR_LIMITS = frozenset("timeout timeouts deadline within zeitlimit tidsgrense".split())
_PAUSE_WORDS = (
    "pause backoff wait delay retrywait interval pausa pausen espera attente wartezeit ventetid wachttijd attesa"
)
_RETRY_WORDS = frozenset(
    "retries retry again attempts tries wiederholungen versuche tentatives essais intentos forsok pogingen tentativi tentativas "
    "reintentos reintento reintentar retentativas reessais ritentativi wiederholung erneut herhalingen opnieuw nyeforsok omforsok".split()
)


def is_flag(value: Any) -> bool:
    """Whether a value is true or false, also as a number."""
    return type(value) is bool or (type(value) is int and value in (0, 1))


_STEP_WORDS: tuple[tuple[str, str, Callable[[Any], bool]], ...] = (
    ("enabled", "enabled active on aktiv actif activo actief attivo ativo", is_flag),
    ("disabled", "disabled muted off inactive deaktiviert skipped desactive deaktivert uitgeschakeld disattivato paused", is_flag),
    ("note", " ".join(sorted(_NOTE_WORDS)), lambda v: type(v) is str),
    ("retries", " ".join(sorted(_RETRY_WORDS | {"times", "again"})), lambda v: type(v) is int and 0 <= v < 100),
    ("retry_wait", _PAUSE_WORDS, is_time),
    ("timeout", _LIMIT_WORDS, is_time),
    ("on_fault", "fails onerror error fault onfail fehler failure", lambda v: type(v) is str and len(v) < 40),
)  # fmt: skip
_SELDOM = 2, 0.25  # steps that have the word at least, and the share of all that have it at most
_LEAST_OPERATIONS = 2  # that have a switch: what only one has is a setting of it
_GO_ON = frozenset(
    "continue carry ignore skip weiter fortfahren continuer continuar fortsett doorgaan proceed resume go".split()
)


def is_note(path: Path) -> bool:
    """Whether a field is called a person's comment."""
    return key_in(path, _NOTE_WORDS)


def step_fields(
    columns: dict[Path, Column], total: int, settings: Path, operations: dict[Path, set[str]]
) -> dict[str, Any]:
    """Everyday fields of steps outside their settings; ``operations`` says which have each field."""
    result: dict[str, Any] = {}
    for path, column in columns.items():
        if (settings and path[: len(settings)] == settings) or STAR in path or len(path) > _depth(settings):
            continue
        _field_by_words(result, path, column)
    result["by_word"] = bool(result.keys() & {"enabled", "disabled"})
    if not result["by_word"]:
        _switch_by_values(columns, total, settings, operations, result)
    if "retries" not in result:
        _retries_of_object(columns, settings, result)
    if "retries" in result:
        _pause_of_retries(columns, result)
    if "timeout" not in result:
        _limit_in_settings(columns, settings, result)
    result["unclear"] = _judge_units(columns, result)
    if "on_fault" in result:
        from .vocabulary import words_of

        words = sorted({str(value) for value in columns[result["on_fault"]].values})
        result["on_faults"] = {
            word: "continue" if any(text in _GO_ON for text in words_of(word)) else "stop" for word in words
        }
    position = _find_position(columns, total, settings)
    if position:
        result["position"] = list(position)
    return result


def _depth(settings: Path) -> int:
    """How deep everyday fields stand: two keys, and deeper where the settings do."""
    return 1 + max(1, len(settings))


def _field_by_words(result: dict[str, Any], path: Path, column: Column) -> None:
    for field, listed, right in _STEP_WORDS:
        if (
            field not in result
            and field not in ("retry_wait",)
            and key_in(path, frozenset(listed.split()))
            and all(map(right, column.values))
        ):
            if field == "retries" and len(path) == 1 and key_in(path, frozenset(["times"])):
                continue
            result[field] = path
            break


_LAST = frozenset("end ends final last terminal stop exit ende fin slutt fine einde".split())  # where a flow ends


def _switch_by_values(
    columns: dict[Path, Column], total: int, settings: Path, operations: dict[Path, set[str]], result: dict[str, Any]
) -> None:
    """What switches steps off, by its values: it stands in steps of several kinds (a setting belongs to one), and is mostly on."""
    maybe = [
        (path, columns[path])
        for path in _outside(columns, settings, result)
        if not key_in(path, _LAST)
        and len(operations.get(path, ())) >= _LEAST_OPERATIONS
        and len(columns[path].values) == columns[path].steps
    ]
    for judge in (_switch_of_values, _switch_of_unknown_words):
        for path, column in maybe:
            field = judge(column, total, result)
            if field:
                result[field] = path
                return


def _switch_of_values(column: Column, total: int, result: dict[str, Any]) -> str:
    """enabled or disabled by the values of a field, empty when they say neither."""
    everywhere = column.steps >= 0.9 * total
    if _are_flags(column, total):
        return _switch_of_share(sum(column.values) / len(column.values), everywhere, column.steps <= 0.4 * total)
    words = {as_text(value) for value in column.values if type(value) in (str, int)}
    said = {word: state_of_word(word) for word in words}
    if everywhere and len(column.values) == total and {"on", "off"} == set(said.values()):
        result["switches"] = {word: state == "on" for word, state in sorted(said.items())}
        return "enabled"
    return ""


def _are_flags(column: Column, total: int) -> bool:
    """Whether values are true or false; numbers only where every step has one and both occur (a 1 alone is a number of something)."""
    if all(type(value) is bool for value in column.values):
        return True
    return all(map(is_flag, column.values)) and column.steps == total and len(set(column.values)) == 2


def _switch_of_unknown_words(column: Column, total: int, result: dict[str, Any]) -> str:
    """Every step has one of two words, one of them seldom: the seldom one may say that it is off, whatever the language. It is asked."""
    words = Counter(value for value in column.values if type(value) is str and value.isalpha())
    if column.steps < total or sum(words.values()) < total or len(words) != 2:
        return ""
    (usual, _), (seldom, count) = words.most_common()
    if not _SELDOM[0] <= count <= _SELDOM[1] * total:
        return ""
    result["switches"] = {usual: True, seldom: False}
    return "enabled"


def _switch_of_share(share: float, everywhere: bool, seldom: bool) -> str:
    """By the share of true: most steps are on, whatever the builder calls it."""
    if everywhere:
        return "enabled" if 0.6 <= share < 1 else "disabled" if 0 < share <= 0.4 else ""
    return "disabled" if share == 1 and seldom else ""


def _limit_in_settings(columns: dict[Path, Column], settings: Path, result: dict[str, Any]) -> None:
    """A time limit among the settings, where its key can mean nothing else."""
    for path, column in sorted(columns.items()):
        inside = not settings or path[: len(settings)] == settings
        if inside and STAR not in path and key_in(path, _CLEAR_LIMITS) and all(map(is_time, column.values)):
            result["timeout"] = path
            return


def _judge_units(columns: dict[Path, Column], result: dict[str, Any]) -> dict[str, Path]:
    """Add the units of times; those of which nothing tells the unit are taken out, and asked about."""
    unclear: dict[str, Path] = {}
    for field in ("timeout", "retry_wait"):
        if field in result:
            unit = unit_of(result[field], columns[result[field]].values)
            if unit is None:
                path = result.pop(field)
                if field != "timeout" or key_in(path, _CLEAR_LIMITS):
                    unclear[field] = path
            elif unit != "seconds":
                result[f"{field}_unit"] = unit
    return unclear


def _retries_of_object(columns: dict[Path, Column], settings: Path, result: dict[str, Any]) -> None:
    """Of an object that is called tries the one whole number that says no unit of time, whatever its key."""
    right = next(right for field, _, right in _STEP_WORDS if field == "retries")
    maybe = [
        path
        for path in _outside(columns, settings, result)
        if len(path) > 1
        and key_in(path[:-1], _RETRY_WORDS)
        and all(map(right, columns[path].values))
        and not _says_unit(path)
    ]
    if len(maybe) == 1:
        result["retries"] = maybe[0]


def _outside(columns: dict[Path, Column], settings: Path, result: dict[str, Any]) -> list[Path]:
    """Paths of fields beside the settings that mean nothing yet, the shortest first."""
    free = [
        path for path in columns if STAR not in path and len(path) <= _depth(settings) and path not in result.values()
    ]
    outer = [path for path in free if not settings or path[: len(settings)] != settings]
    return sorted(outer, key=lambda path: (len(path), path))


def _says_unit(path: Path) -> bool:
    """Whether a key itself names a unit of time."""
    return unit_of(path, [1]) is not None


def _pause_of_retries(columns: dict[Path, Column], result: dict[str, Any]) -> None:
    near = [
        pair
        for pair in columns
        if len(pair) == len(result["retries"]) and pair[:-1] == result["retries"][:-1] and len(pair) > 1
    ]
    words = frozenset(_PAUSE_WORDS.split())
    pause = [pair for pair in near if key_in(pair, words)]
    times = [pair for pair in near if _says_unit(pair) and all(map(is_time, columns[pair].values))]
    if pause or len(times) == 1:
        result["retry_wait"] = (pause or times)[0]


def _find_position(columns: dict[Path, Column], total: int, settings: Path) -> tuple[Path, Path] | None:
    """Two numeric columns side by side that most steps have: the place of the box."""
    numeric = [
        path
        for path, column in columns.items()
        if column.steps >= 0.8 * total
        and not (settings and path[: len(settings)] == settings)
        and all(type(value) in (int, float) for value in column.values)
    ]
    for first, second in permutations(numeric, 2):
        if first[:-1] == second[:-1] and _are_a_place(first, second, numeric):
            return (second, first) if _ends_in(first, "y") and _ends_in(second, "x") else (first, second)
    # A list of two numbers has one column for both.
    return _list_of_two(columns, total)


def _are_a_place(first: Path, second: Path, numeric: list[Path]) -> bool:
    """Whether two numbers of one object are a place: there are no others in it, or they are called x and y."""
    called = (_ends_in(first, "x") and _ends_in(second, "y")) or (_ends_in(first, "y") and _ends_in(second, "x"))
    return called or (len(first) > 1 and sum(path[:-1] == first[:-1] for path in numeric) == 2)


def _ends_in(path: Path, letter: str) -> bool:
    return path[-1].lower().endswith(letter)


def _list_of_two(columns: dict[Path, Column], total: int) -> tuple[Path, Path] | None:
    for path, column in columns.items():
        if (
            path[-1] == STAR
            and column.steps >= 0.8 * total
            and len(column.values) == 2 * column.steps
            and all(type(value) in (int, float) for value in column.values)
        ):
            return (*path[:-1], "0"), (*path[:-1], "1")
    return None


def scope_path(found: Found, columns: dict[Path, Column], ids: list[dict[str, int]], scopes: list[set[int]]) -> Path:
    """The field in which a step names the loop or block it stands in."""
    best: tuple[int, Path] = (0, ())
    names = [
        {name for name, index in table.items() if index in inside} for table, inside in zip(ids, scopes, strict=True)
    ]
    for path in columns if any(names) else ():
        held = list(_held_at(found, path)) if STAR not in path and len(path) <= 2 else []
        # A step stands in a scope of its own flow, and never in itself; one number everywhere is no name.
        hits = sum(text in names[number] and ids[number][text] != index for number, text, index in held)
        texts = {text for _, text, _ in held}
        told = len(texts) > 1 or not all(map(str.isdecimal, texts))
        if held and told and hits >= 0.9 * len(held):
            best = max(best, (hits, path))
    return best[1]


def _held_at(found: Found, path: Path) -> Iterator[tuple[int, str, int]]:
    """What steps have at a path: the number of the flow, the text, the number of the step."""
    for number, sample in enumerate(found.samples):
        for index, sight in enumerate(sample.steps):
            value = value_at(sight.raw, path)
            if is_scalar(value) and value not in (None, ""):
                yield number, as_text(value), index

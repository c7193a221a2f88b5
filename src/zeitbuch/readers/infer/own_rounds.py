# What a step repeats itself for, said in a field that stands beside its settings and that other steps have not: a word such as *each* and a
# value that names a list settle it, a word such as *until* and a value that compares; with one of the two alone it is asked.
"""Finding where steps say that they repeat themselves."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING, Any, NamedTuple

from zeitbuch.core.model.words import count_words

from .claims import DOUBTED
from .fields import Column
from .own_conditions import claim_own_condition, compares_values, may_stand_at
from .parts import placeholder_like
from .survey import STAR, Path, dotted_path, is_scalar, value_at
from .vocabulary import words_of

if TYPE_CHECKING:
    from .evidence import Evidence

PART = "own repeats"
_EACH = frozenset(
    "each foreach forall loop loops iterate iteration iterations over repeat repeats map jedes jeder jede schleife wiederholen wiederhole chaque boucle "
    "repeter cada bucle repetir ogni ciclo ripeti ripetere hver gjenta elk herhaal herhalen lus".split()
)
_LISTED = frozenset(
    "each foreach forall matrix matrices matriz matrice combinations variants loop repeat iterate".split()
)
_UNTIL = frozenset("until untill till stop bis jusque jusqua hasta fino finche tot ate til inntil".split())
_MOST = frozenset(
    "max maximum most limit cap times attempts maks maxi maximo massimo hochstens hoechstens grenze limite".split()
)
_OTHERS = ("decide", "loop", "parallel")
_VALUES = 0.8  # of the values must read alike
_MOST_CARRIERS = 0.85  # of the steps of the operations that have it somewhere, unless its word is clear


class OwnRounds(NamedTuple):
    """Where steps say that they repeat themselves: ``field`` is the key of the dialect, ``cap`` where their most rounds are. Told by its
    word, or by its values."""

    path: Path
    field: str
    worded: bool
    values: float
    steps: int
    kinds: int
    cap: Path = ()


def claim_what_runs(e: Evidence, columns: dict[Path, Column], given: dict[str, Any]) -> dict[str, str]:
    """Where steps say whether, and how often, they run."""
    rounds = claim_own_rounds(e, columns, given)
    places = {path for path in columns if dotted_path(path) in rounds.values()}
    if e.doubtful_rounds is not None:
        places.add(e.doubtful_rounds.path)
    return rounds | claim_own_condition(e, columns, {**given, **{dotted_path(path): path for path in places}})


def claim_own_rounds(e: Evidence, columns: dict[Path, Column], given: dict[str, Any]) -> dict[str, str]:
    """The fields for the steps of the dialect, with claims; what is doubtful is kept to be asked."""
    tries = given.get("retries")
    taken = {value for value in given.values() if type(value) is tuple and value != tries}
    found: dict[str, str] = {}
    for one in find_own_rounds(e, columns, taken):
        if tries and tries in (one.path, one.cap):
            del given["retries"]  # how often it is repeated, not how often it is tried
        _add_claim(e, one)
        if e.claims[-1].is_asked:
            e.doubtful_rounds = one
        else:
            found |= {one.field: dotted_path(one.path), **({"own_cap": dotted_path(one.cap)} if one.cap else {})}
    return found


def _add_claim(e: Evidence, one: OwnRounds) -> None:
    over = "over what" if one.field == "own_items" else "until when"
    counted = f"{count_words(one.steps, 'step')}, {count_words(one.kinds, 'operation')}"
    clear = one.worded and one.values >= _VALUES
    evidence: dict[str, float] = {"word": one.worded, "values": one.values} if clear else {DOUBTED: 1.0}
    e.add_claim(PART, f"'{dotted_path(one.path)}' says {over} a step repeats itself: {counted}", evidence)


def find_own_rounds(e: Evidence, columns: dict[Path, Column], taken: set[Path]) -> list[OwnRounds]:
    """The fields in which steps say that they repeat themselves, at most one for lists and one for ends."""
    free = {path: c for path, c in columns.items() if path not in taken and may_stand_at(path, e.settings)}
    judged = [one for path, column in free.items() for one in (_judge(e, path, column),) if one is not None]
    judged += _written_out(e, {path: column for path, column in columns.items() if path not in taken})
    best: dict[str, OwnRounds] = {}
    for one in sorted(judged, key=lambda one: (-one.worded, -one.values, -one.steps, one.path)):
        best.setdefault(one.field, one._replace(cap=_cap_beside(one.path, free)))
    caps = {one.cap for one in best.values() if one.field == "own_until"}
    return [one for one in best.values() if one.path not in caps]  # at most so many times, not so many times


def _judge(e: Evidence, path: Path, column: Column) -> OwnRounds | None:
    words = frozenset(word for key in path for word in words_of(key))
    values = [value for value in column.values if value not in (None, "", False)]
    if not values or any(type(value) not in (str, int) or value is True for value in values):
        return None
    ends, each = bool(words & _UNTIL), bool(words & _EACH)
    if ends:
        told = sum(type(value) is str and (compares_values(value) or placeholder_like(value)) for value in values)
    else:
        told = sum(_names_list(value) if not each else _names_list(value) or type(value) is int for value in values)
    share, worded = told / len(values), ends or each
    if (share < _VALUES and not worded) or not share or not _is_own(e, path, worded):
        return None
    kinds = len(e.operations_by_path.get(path, ()))
    return OwnRounds(path, "own_until" if ends else "own_items", worded, share, column.steps, kinds)


def _written_out(e: Evidence, columns: dict[Path, Column]) -> list[OwnRounds]:
    """Lists that stand in the step itself, under a word for it; under such a word several lists, of which each combination counts."""
    steps: dict[Path, int] = {}
    for path, column in columns.items():
        place = _place_of_list(path)
        if place and may_stand_at(place, e.settings) and all(map(is_scalar, column.values)):
            steps[place] = max(steps.get(place, 0), column.steps)
    kinds = {place: {e.step_operation(raw) for raw in e.raw_steps if value_at(raw, place)} for place in steps}
    own = [place for place in steps if _is_own(e, place, True)]
    return [OwnRounds(place, "own_items", True, 1.0, steps[place], len(kinds[place])) for place in own]


def _place_of_list(path: Path) -> Path:
    """Where the list or lists stand that an item belongs to; empty where no word tells it."""
    places = [path[:-1], path[:-2]] if path[-1] == STAR else []
    return next((one for one in places if one and _LISTED & frozenset(words_of(one[-1]))), ())


def _names_list(value: Any) -> bool:
    """Whether a value is one reference and nothing else."""
    return type(value) is str and placeholder_like(value) and not any(map(value.__contains__, " \n"))


def _is_own(e: Evidence, path: Path, worded: bool) -> bool:
    """Whether steps that neither decide nor hold others have a field; without a word, of several operations and not all of their steps."""
    raws = [sight.raw for sample in e.found.samples for sight in sample.steps]
    carrying = Counter(e.step_operation(raw) for raw in raws if value_at(raw, path) not in (None, "", False))
    acting = [one for one in carrying if _may_repeat(e, one)]
    told = sum(carrying[one] for one in acting)
    if not acting or told < 0.5 * carrying.total():
        return False
    every = Counter(map(e.step_operation, raws))
    part = told / sum(every[one] for one in acting)
    return worded or (len(acting) > 1 and part <= _MOST_CARRIERS)


def _may_repeat(e: Evidence, operation: str) -> bool:
    return e.verdicts[operation].hint not in _OTHERS and not e.verdicts[operation].trigger


def _cap_beside(path: Path, columns: dict[Path, Column]) -> Path:
    """Where the most rounds are: a whole number of that name in the same object."""
    beside = [
        other
        for other, column in columns.items()
        if len(path) > 1
        and other[:-1] == path[:-1]
        and _MOST & frozenset(words_of(other[-1]))
        and all(type(value) is int and value > 0 for value in column.values)
    ]
    return min(beside, default=())


def shown_rounds(e: Evidence, path: Path, most: int) -> str:
    """Examples of what stands there."""
    values = [value_at(sight.raw, path) for sample in e.found.samples for sight in sample.steps]
    return "; ".join(list(dict.fromkeys(str(value) for value in values if value not in (None, "")))[:most])

# A condition that steps of several kinds carry, and not all steps of any of them, says whether a step runs: what belongs to an operation
# all its steps have. A word such as *if* and values that compare settle it; with one of the two alone it is asked.
"""Finding the own conditions of steps."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING, Any, NamedTuple

from zeitbuch.core.model.words import count_words
from zeitbuch.readers.dialects.gates import spell_condition

from .claims import DOUBTED
from .fields import Column, reads_like_prose
from .survey import STAR, Path, dotted_path, value_at
from .vocabulary import words_of

if TYPE_CHECKING:
    from .evidence import Evidence

PART = "own condition"
_IF = frozenset(
    "if when only onlyif runif condition conditions precondition guard provided wenn nur falls bedingung bedingt si seulement quand cuando solo "
    "condicion se quando condizione condicao als wanneer voorwaarde hvis nar bare betingelse om villkor".split()
)
_SKIP = frozenset(
    "skip unless except skipif not nicht ausser auslassen sauf sauter salvo omitir saltar omettere pular behalve overslaan unntatt hoppover".split()
)
_COMPARES = (
    "==",
    "!=",
    ">",
    "<",
    " = ",
    " contains ",
    " in ",
    " is ",
    " and ",
    " or ",
    " matches ",
    " equals ",
    " not ",
)
_OPERATORS = frozenset(
    "eq ne neq gt ge gte lt le lte equals equal is not in contains matches exists empty greater less greaterthan lessthan notequals == != = > < >= <= <>".split()
)
_LONGEST = 300  # letters of a condition
_DECIDERS = ("decide", "loop", "parallel")
_MOST_CARRIERS = 0.85  # of the steps of the operations that have it somewhere
_VALUES = 0.8  # of the values must read alike
_ACTING = frozenset("model agent embed retrieve send write delete http read code approve subflow".split())
_KNOWN, _OF_ONE = (
    0.5,
    0.5,
)  # what words must say of an operation; what values say of a field that steps of one operation have


class OwnCondition(NamedTuple):
    """Where a condition of steps is, and how far it is told: by its word (``skips``: that the step does not run), by its values."""

    path: Path
    worded: bool
    skips: bool
    compares: float
    steps: int
    kinds: int

    @property
    def field(self) -> str:
        """The key of the dialect for it."""
        return "skip_condition" if self.skips else "own_condition"


def find_own_condition(e: Evidence, columns: dict[Path, Column], taken: set[Path]) -> OwnCondition | None:
    """The field in which steps say whether they run; None where there is none. ``taken``: fields that mean something else."""
    free = {path: column for path, column in columns.items() if path not in taken}
    found = [_judge(e, path, column) for path, column in free.items() if may_stand_at(path, e.settings)]
    found += [_judge_object(e, path, free) for path in dict.fromkeys(path[:1] for path in free if len(path) > 1)]
    told = [one for one in found if one is not None]
    return max(told, key=lambda one: (one.worded + one.compares, one.steps), default=None)


def is_condition_word(key: str) -> bool:
    """Whether a field is called what conditions are called."""
    return bool(frozenset(words_of(key)) & (_IF | _SKIP))


def may_stand_at(path: Path, settings: Path) -> bool:
    """Whether a field stands beside the settings of a step, as what is said of the step itself does."""
    return (
        STAR not in path
        and len(path) <= 1 + max(1, len(settings))
        and not (settings and path[: len(settings)] == settings)
    )


def _judge(e: Evidence, path: Path, column: Column) -> OwnCondition | None:
    texts = [value for value in column.values if type(value) is str and value.strip()]
    if not texts or any(type(value) not in (str, bool) for value in column.values):
        return None
    compares = sum(map(compares_values, texts)) / len(texts)
    skips, worded = bool(frozenset(words_of(path[-1])) & _SKIP), is_condition_word(path[-1])
    speaks = compares > 0 if worded else compares >= _VALUES
    if speaks and not _is_of_several(e, path, worded):
        speaks, compares = worded and compares >= _VALUES and _is_of_one(e, path), _OF_ONE
    if not speaks:
        return None
    return OwnCondition(path, worded, skips, compares, column.steps, len(e.operations_by_path.get(path, ())))


def _is_of_one(e: Evidence, path: Path) -> bool:
    """Whether steps that have a field act, by the words of their operations, and are no whole flow: they may run only where it holds, which
    is asked."""
    raws = [raw for raw in e.raw_steps if value_at(raw, path) not in (None, "")]
    verdicts = [e.verdicts[name] for name in {e.step_operation(raw) for raw in raws}]
    return len(raws) < e.total and all(
        one.hint in _ACTING and one.evidence.get("words", 0) >= _KNOWN for one in verdicts
    )


def _judge_object(e: Evidence, path: Path, columns: dict[Path, Column]) -> OwnCondition | None:
    """A condition that is an object, which says in a word of its own how it compares: {"field": ..., "op": "gt", "than": 3}."""
    below = [column for at, column in columns.items() if at[:1] == path]
    operators = [column for column in below if are_operators(column.values)]
    if not operators or not is_condition_word(path[-1]) or not _is_of_several(e, path, worded=True):
        return None
    steps = max(column.steps for column in below)
    compares = max(column.steps for column in operators) / steps
    skips = bool(frozenset(words_of(path[-1])) & _SKIP)
    kinds = set().union(*(told for at, told in e.operations_by_path.items() if at[:1] == path))
    return OwnCondition(path, True, skips, compares, steps, len(kinds))


def are_operators(values: list[Any]) -> bool:
    """Whether all values say how something compares."""
    return all(type(value) is str and value.strip().lower().replace("_", "") in _OPERATORS for value in values)


def compares_values(text: str) -> bool:
    """Whether a text compares something with something."""
    plain = "\n" not in text and len(text) <= _LONGEST and "://" not in text
    return plain and any(sign in text for sign in _COMPARES) and not (reads_like_prose(text) and not _has_sign(text))


def _has_sign(text: str) -> bool:
    return any(sign in text for sign in _COMPARES[:6])


def _is_of_several(e: Evidence, path: Path, worded: bool) -> bool:
    """Whether steps of several operations have a field, some have it not, and few of them decide by it or begin a branch."""
    sights = [(sample, sight) for sample in e.found.samples for sight in sample.steps]
    every = Counter(e.step_operation(sight.raw) for _, sight in sights)
    having = [(sample, sight) for sample, sight in sights if value_at(sight.raw, path) not in (None, "")]
    carrying = Counter(e.step_operation(sight.raw) for _, sight in having)
    owners = [sample.steps[sight.owner].raw for sample, sight in having if sight.owner is not None]
    in_branches = sum(e.kind_of(owner) in ("decide", "parallel") for owner in owners)
    acting = [one for one in carrying if e.verdicts[one].hint not in _DECIDERS and not e.verdicts[one].trigger]
    total = sum(carrying[one] for one in acting)
    if not acting or total < 0.5 * len(having) or in_branches > 0.8 * len(having):
        return False
    several = len(acting) > 1 or (worded and len(e.verdicts) < 4)
    among = every.total() if worded and len(acting) > 1 else sum(every[one] for one in acting)
    return several and total <= _MOST_CARRIERS * among


def claim_own_condition(e: Evidence, columns: dict[Path, Column], given: dict[str, Any]) -> dict[str, str]:
    """The field for the steps of the dialect, with a claim; what is doubtful is kept to be asked."""
    taken = {value for value in given.values() if type(value) is tuple}
    found = find_own_condition(e, columns, taken)
    if found is None:
        return {}
    meaning = "is left out" if found.skips else "runs"
    counted = f"{count_words(found.steps, 'step')}, {count_words(found.kinds, 'operation')}"
    words = f"'{dotted_path(found.path)}' says when a step {meaning}: {counted}"
    clear = found.compares >= _VALUES
    e.add_claim(PART, words, {"word": found.worded, "compares": found.compares} if clear else {DOUBTED: 1.0})
    if e.claims[-1].is_asked:
        e.doubtful_condition = found
        return {}
    return {found.field: dotted_path(found.path)}


def shown_conditions(e: Evidence, path: Path, most: int) -> str:
    """Examples of what stands there."""
    values = [value_at(sight.raw, path) for sample in e.found.samples for sight in sample.steps]
    texts = list(dict.fromkeys(spell_condition(value) for value in values if value not in (None, "")))
    return "; ".join(texts[:most])

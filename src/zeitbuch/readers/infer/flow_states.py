# A flow says whether it is on by a word for it, a switch, or one of two words of its own; the words of ten languages are known, keys of
# switches only where they say what true means.
"""Finding the state of flows."""

from __future__ import annotations

from collections import Counter
from typing import Any

from zeitbuch.readers.dialects.paths import as_text

from .fields import key_in
from .state_words import is_off_key, says_state, state_of_word
from .survey import STAR, Path
from .vocabulary import words_of

STATE_KEYS = (
    "state status active enabled live running situacao estado stato zustand etat tilstand aktiv actif activo activa actief attivo ativo "
    "published deployed paused"
)
_PAIRS = (
    ("true", "false"),
    ("yes", "no"),
    ("on", "off"),
    ("active", "inactive"),
    ("enabled", "disabled"),
    ("ja", "nein"),
    ("oui", "non"),
)
_OPPOSITE = {"on": "off", "off": "on"}
_ON_KEYS = frozenset("on active enabled live running published deployed aktiv actif activo attivo ativo actief".split())
_Columns = dict[Path, list[Any]]


def is_state_key(path: Path) -> bool:
    """Whether a field is called what says the state of a flow; "on" says so by itself only, and not in "on_failure"."""
    return key_in(path, frozenset(STATE_KEYS.split())) or words_of(path[-1]) in (("on",), ("is", "on"))


def find_state(columns: _Columns, result: dict[str, Any], count: int) -> None:
    """Puts the field that says whether a flow is on into the result, with the meaning of its words; ``count`` flows."""
    for find in (_words_for_state, _switch_by_key, _single_switch, _two_unknown_words):
        if "state" not in result:
            find(columns, result, count)
    if "state" in result:
        _words_of_states(columns, result)


def _words_for_state(columns: _Columns, result: dict[str, Any], count: int) -> None:
    """A word of every flow that says on, off or draft, whatever its key: several words, or one that says nothing else."""
    taken = {value for value in result.values() if isinstance(value, tuple)}
    worded = [
        path
        for path, values in columns.items()
        if len(path) <= 2 and STAR not in path and path not in taken and len(values) == count
        and all(type(value) is str and state_of_word(value) for value in values)
        and (len(set(map(state_of_word, values))) > 1 or all(says_state(value) for value in values))
    ]  # fmt: skip
    if worded:
        result["state"] = min(worded, key=lambda path: (len(path), path))


def _switch_by_key(columns: _Columns, result: dict[str, Any], count: int) -> None:
    """A field of every flow that is true of those that are off, and called so: "suspend"."""
    found = [
        path for path in columns if len(path) <= 2 and path not in result.values() and is_off_key(words_of(path[-1]))
    ]
    whole = [
        path for path in found if len(columns[path]) == count and all(type(item) is bool for item in columns[path])
    ]
    if whole:
        result["state"] = min(whole, key=lambda path: (len(path), path))


def _single_switch(columns: _Columns, result: dict[str, Any], count: int) -> None:
    """The only field of the flows that is true or false, or 0 or 1 and both of them."""
    taken = {value for value in result.values() if isinstance(value, tuple)}
    single = {path: values for path, values in columns.items() if len(path) == 1}
    switches = [path for path, values in single.items() if all(type(item) is bool for item in values)]
    numbers = [path for path, values in single.items() if path not in taken and _is_zero_or_one(path, values, count)]
    found = switches if len(switches) == 1 else numbers
    if len(found) == 1:
        result["state"] = found[0]


def _two_unknown_words(columns: _Columns, result: dict[str, Any], count: int) -> None:
    """The only field of the flows that has one of two words, each several times: it may be the state, in whatever language. It is asked."""
    taken = {value for value in result.values() if isinstance(value, tuple)}
    near = {
        path: values for path, values in columns.items() if len(path) <= 2 and STAR not in path and path not in taken
    }
    found = [path for path, values in near.items() if len(values) == count and _are_two_words(values)]
    if len(found) == 1:
        result["state"] = found[0]


def _are_two_words(values: list[Any]) -> bool:
    """Whether each is one of two words, and each of these comes again."""
    words = Counter(value for value in values if type(value) is str and value.isalpha())
    return len(words) == 2 and words.total() == len(values) and min(words.values()) > 1


def _is_zero_or_one(path: Path, values: list[Any], count: int) -> bool:
    """Whether numbers say on and off: both of them, or one where the key itself says what 1 means ("is_on")."""
    numbers = len(values) == count and all(type(item) is int for item in values)
    return numbers and (set(values) == {0, 1} or (set(values) <= {0, 1} and key_in(path, _ON_KEYS)))


def _words_of_states(columns: _Columns, result: dict[str, Any]) -> None:
    states = {as_text(value): state_of_word(as_text(value)) for value in columns[result["state"]]}
    for pair in _PAIRS:
        if set(pair) & states.keys():
            states |= {word: state_of_word(word) for word in pair}
    if is_off_key(words_of(result["state"][-1])) and not any(map(says_state, states)):
        states = {word: _OPPOSITE.get(state, state) for word, state in states.items()}  # "paused": true
    result["states"] = {key: value for key, value in sorted(states.items()) if value}


def tells_when_on(path: Path) -> bool:
    """Whether a key says what true means: that a flow is on, or that it is off."""
    words = words_of(path[-1])
    return is_state_key(path) or is_off_key(words) or any(state_of_word(word) == "on" for word in words)

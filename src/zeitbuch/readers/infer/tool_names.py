# What an agent may use is often no more than a list of names among its settings. Their words say what some of them do; of the others
# nobody knows.
"""Finding the tools that agents name."""

from __future__ import annotations

from msgspec import structs

from zeitbuch.core.model.words import join_words
from zeitbuch.readers.dialects.paths import as_text
from zeitbuch.readers.dialects.rules import KindRule

from .evidence import Evidence, literal_pattern
from .fields import Column, key_in
from .operations import is_tokenlike
from .survey import STAR, Path, dotted_path
from .value_kinds import TOOL_WORDS
from .vocabulary import effect_of, guess_kinds

_ACTS = frozenset({"send", "write", "delete", "read", "retrieve", "http", "code"})
_LEAST = 2.5  # score of the words
_NAMES = ("name", "id", "tool")  # of a tool that is described, the best first


def with_tools(e: Evidence, rules: list[KindRule]) -> list[KindRule]:
    """The rules, those of agents with where the names of their tools are, and rules for tools whose words say what they do."""
    operations = {literal_pattern(operation): operation for operation in e.verdicts}
    steps = set().union(*e.identity.ids, *e.identity.names)
    found = {
        rule.operation: tools for rule in rules if rule.kind == "agent" and not rule.has
        and (tools := _path_of_tools(e.columns_of(operations[rule.operation]), steps)) is not None
    }  # fmt: skip
    if not found:
        return rules
    names = sorted({name for _, listed in found.values() for name in listed} - {rule.operation for rule in rules})
    named = {name: rule for name in names if (rule := _rule_for(name)) is not None}
    told = [f"'{name}' {rule.kind}" for name, rule in named.items()]
    e.add_claim("tools", f"agents name their tools{': by their words ' + join_words(told) if told else ''}", {})
    given = [
        structs.replace(rule, tools=found[rule.operation][0]) if rule.operation in found else rule for rule in rules
    ]
    return [*given, *named.values()]


def _path_of_tools(columns: dict[Path, Column], steps: set[str]) -> tuple[str, list[str]] | None:
    """Where the names of tools are, and which; None where there are none, or where they are names of steps."""
    for path, column in sorted(columns.items(), key=lambda entry: (len(entry[0]), _place_of(entry[0]))):
        names = sorted({as_text(value) for value in column.values})
        if _may_hold_names(path) and all(map(is_tokenlike, column.values)) and not steps & set(names):
            return dotted_path(path[:-1] if path[-1] == STAR else path), names
    return None


def _may_hold_names(path: Path) -> bool:
    """Whether a list under a word for tools is meant, or the names in a list of such."""
    listed = path[: path.index(STAR)] if STAR in path else ()
    below = path[len(listed) + 1 :]
    return bool(listed) and key_in(listed, TOOL_WORDS) and (not below or (below[-1] in _NAMES and len(below) < 3))


def _place_of(path: Path) -> int:
    return _NAMES.index(path[-1]) if path[-1] in _NAMES else len(_NAMES)


def _rule_for(name: str) -> KindRule | None:
    """What a tool does by the words of its name; None where they do not say."""
    guess = next((one for one in guess_kinds(name) if one.kind in _ACTS and one.score >= _LEAST), None)
    if guess is None or guess.kind is None:
        return None
    return KindRule(operation=literal_pattern(name), kind=guess.kind, effect=effect_of(guess.kind, name))

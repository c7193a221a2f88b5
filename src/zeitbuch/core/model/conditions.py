# The language of --where and of the rules of the house: facts by name, compared with words and numbers, joined by and, or and not. Facts that
# nobody knows are refused with those that are known, before anything is looked at: a condition with a typo would hold for nothing.
"""Conditions over named facts."""

from __future__ import annotations

import difflib
import operator
from collections.abc import Callable, Iterable, Mapping
from fnmatch import fnmatchcase
from functools import lru_cache
from typing import TYPE_CHECKING, Any, NamedTuple

from .problems import fail

if TYPE_CHECKING:
    from lark import Lark

GRAMMAR = r"""
    ?start: either
    ?either: both ("or"i both)*
    ?both: single ("and"i single)*
    ?single: "not"i single -> negation
           | "(" either ")"
           | fact SIGN value -> comparison
           | fact -> held
    fact: NAME ["(" [value ("," value)*] ")"]
    value: NUMBER -> number | STRING -> text | WORD -> word | NAME -> word
    SIGN: "!=" | "<=" | ">=" | "=" | "<" | ">" | "~"
    NUMBER.2: /-?\d+(\.\d+)?(?![\w*@.-])/
    STRING: /"[^"]*"|'[^']*'/
    NAME.1: /(?!(?:and|or|not)\b)[a-z_]+(\.[a-z_]+)*(?![\w*@-])/
    WORD: /(?!(?:and|or|not)\b)[\w*@.\/:+-]+/
    %ignore /\s+/
"""
Lookup = Callable[[str, tuple[Any, ...]], Any]
_ORDERS: dict[str, Callable[[float, float], bool]] = {
    "<": operator.lt, "<=": operator.le, ">": operator.gt, ">=": operator.ge,
}  # fmt: skip


class Fact(NamedTuple):
    """What may stand in a condition: what it is, and how many arguments it takes (0: none)."""

    about: str
    arguments: int = 0


class Condition(NamedTuple):
    """A condition that was understood: ``holds`` asks a lookup for the facts that it needs."""

    text: str
    holds: Callable[[Lookup], bool]


@lru_cache(maxsize=1)
def _parser() -> Lark:
    from lark import Lark

    return Lark(GRAMMAR, parser="lalr", lexer="contextual")


def parse_condition(text: str, known: Mapping[str, Fact]) -> Condition:
    """The condition of a text over known facts. Raises ZeitbuchError for a text that is none, and for facts that are not known."""
    from lark.exceptions import UnexpectedInput

    try:
        tree = _parser().parse(text)
    except UnexpectedInput as error:
        at = max(0, error.pos_in_stream or 0)
        rest = text[at:].split()[0] if text[at:].split() else "its end"
        hint = (
            'example: kind=send and decided(recipient)=model and not behind(approve); words with blanks stand in "..."'
        )
        raise fail("condition", f"expected a condition, found '{text}' (not understood at {rest})", hint) from None
    return Condition(text, _made(tree, known))


def _made(node: Any, known: Mapping[str, Fact]) -> Callable[[Lookup], bool]:
    kind = node.data
    if kind in ("either", "both"):
        parts = [_made(child, known) for child in node.children]
        choose = any if kind == "either" else all
        return lambda ask: choose([part(ask) for part in parts])
    if kind == "negation":
        inner = _made(node.children[0], known)
        return lambda ask: not inner(ask)
    name, given = _fact_of(node.children[0], known)
    if kind == "held":
        return lambda ask: bool(ask(name, given))
    sign, wanted = str(node.children[1]), _value_of(node.children[2])
    if sign in _ORDERS and not isinstance(wanted, float):
        raise fail(
            "condition", f"expected a number behind {name} {sign}, found '{wanted}'", f"example: {name} {sign} 5"
        )
    return lambda ask: compare(ask(name, given), sign, wanted)


def _fact_of(node: Any, known: Mapping[str, Fact]) -> tuple[str, tuple[Any, ...]]:
    name = str(node.children[0])
    given = tuple([_value_of(child) for child in node.children[1:] if child is not None])
    fact = known.get(name)
    if fact is None:
        near = difflib.get_close_matches(name, list(known), 3)
        hint = f"did you mean {' or '.join(near)}?" if near else f"known: {', '.join(sorted(known))}"
        raise fail("condition", f"expected a fact that is known, found '{name}'", hint)
    if len(given) != fact.arguments:
        wanted = f"{name}({', '.join(['WORD'] * fact.arguments)})" if fact.arguments else name
        raise fail(
            "condition", f"expected {wanted}, found {name} with {len(given)} in brackets", f"{name}: {fact.about}"
        )
    return name, given


def _value_of(node: Any) -> str | float:
    text = str(node.children[0])
    if node.data == "number":
        return float(text)
    return text[1:-1] if node.data == "text" else text


class AtLeast(float):
    """A number that is known not to be less, but may be more: a cost in which something has no price."""


def compare(value: Any, sign: str, wanted: str | float) -> bool:
    """Whether a fact stands in a relation to what is wanted: texts without case and with ``*``; of a list any item; what is not known is
    neither less nor more."""
    if isinstance(value, list | tuple | set | frozenset):
        return (
            all(compare(one, sign, wanted) for one in value)
            if sign == "!="
            else any(compare(one, sign, wanted) for one in value)
        )
    if isinstance(value, AtLeast) and sign not in (">", ">="):
        return False
    if sign in _ORDERS:
        return value is not None and not isinstance(value, str) and _ORDERS[sign](float(value), float(wanted))
    if sign == "~":
        return _text(wanted) in _text(value)
    return (sign == "=") == _is_equal(value, wanted)


def _is_equal(value: Any, wanted: str | float) -> bool:
    if isinstance(value, bool):
        return _text(wanted) == ("yes" if value else "no")
    if isinstance(value, int | float):
        return isinstance(wanted, float) and float(value) == wanted
    pattern = _text(wanted)
    return fnmatchcase(_text(value), pattern) if "*" in pattern else _text(value) == pattern


def _text(value: Any) -> str:
    if value is None:
        return ""
    return f"{value:g}" if isinstance(value, float) else str(value).casefold()


def facts_table(known: Mapping[str, Fact]) -> Iterable[tuple[str, str]]:
    """The facts with what each is, for help and docs."""
    for name, fact in sorted(known.items()):
        yield f"{name}({', '.join(['WORD'] * fact.arguments)})" if fact.arguments else name, fact.about
